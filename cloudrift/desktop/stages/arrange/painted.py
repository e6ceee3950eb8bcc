"""How the arrangement is painted: from the model alone."""

from collections.abc import Mapping

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from cloudrift.desktop.kit.look import MEDIUM, SEMI, color, figure_font, text_font
from cloudrift.desktop.stages.arrange.model import (
    HEAD_PX,
    LOUD_PX,
    LOUDNESS_DB,
    NAMES_PX,
    ColumnsModel,
    clock_text,
)
from cloudrift.ground.words import number as number_text
from cloudrift.ground.words import plural

SEAM_R = 9.0


def paint_loudness(
    painter: QPainter, model: ColumnsModel, loudness: Mapping[int, np.ndarray]
) -> None:
    """How loud each bar is, over all."""
    painter.setFont(text_font(11))
    painter.setPen(color("ink_soft"))
    painter.drawText(QRectF(2, 2, NAMES_PX - 8, 14), Qt.AlignmentFlag.AlignLeft, "loudness")
    low, high = (f"{db:.0f}".replace("-", "−") for db in LOUDNESS_DB)
    painter.setFont(figure_font(9.5))
    painter.drawText(
        QRectF(2, 17, NAMES_PX - 8, 14), Qt.AlignmentFlag.AlignLeft, f"{low} to {high} dB"
    )
    points = model.curve(loudness)
    if len(points) > 1:
        painter.setPen(QPen(color("ink"), 1.5))
        high_px = LOUD_PX - 10
        painter.drawPolyline(QPolygonF([QPointF(x, 4 + high_px * (1 - y)) for x, y in points]))
    elif not points:
        painter.setFont(text_font(11))
        painter.drawText(
            QRectF(NAMES_PX, 10, 400, 16),
            Qt.AlignmentFlag.AlignLeft,
            "known after it has been rendered once",
        )


def paint_names(painter: QPainter, model: ColumnsModel, chosen: int) -> None:
    """Layers, then lanes."""
    for row, what in enumerate(model.rows):
        top, high = model.row_box(row)
        if what.is_lane and (row == 0 or not model.rows[row - 1].is_lane):
            painter.setPen(QPen(color("line"), 1))
            painter.drawLine(QPointF(0, top - 16), QPointF(model.width, top - 16))
            painter.setPen(color("ink_soft"))
            painter.setFont(text_font(10.5))
            painter.drawText(
                QRectF(2, top - 15, NAMES_PX, 14), Qt.AlignmentFlag.AlignLeft, "groove bed"
            )
        painter.setPen(color("ink"))
        painter.setFont(text_font(11.5, SEMI if row == chosen else MEDIUM))
        name = painter.fontMetrics().elidedText(
            what.name, Qt.TextElideMode.ElideRight, int(NAMES_PX - 10)
        )
        painter.drawText(QRectF(2, top, NAMES_PX - 8, high), Qt.AlignmentFlag.AlignVCenter, name)


def paint_section(
    painter: QPainter, model: ColumnsModel, at: int, *, on: bool, focused: bool
) -> None:
    """A section's head, its bands, and when it begins."""
    left, right = model.span(at)
    head = QRectF(left, LOUD_PX, right - left, HEAD_PX)
    edge = "focus" if focused else "ink" if on else "line"
    painter.setPen(QPen(color(edge), 2 if on else 1))
    painter.setBrush(color("ink") if on else color("card"))
    painter.drawRoundedRect(head.adjusted(1, 1, -1, -1), 4, 4)
    _paint_head(painter, model, at, head.adjusted(7, 3, -5, -4), on=on)
    for row in range(len(model.rows)):
        _paint_band(painter, model, at, row)
    painter.setFont(figure_font(9.5))
    painter.setPen(color("ink_soft"))
    painter.drawText(
        QRectF(left, model.height - 16, 70, 14),
        Qt.AlignmentFlag.AlignLeft,
        clock_text(model.starts_s()[at]),
    )


def _paint_head(
    painter: QPainter, model: ColumnsModel, at: int, inner: QRectF, *, on: bool
) -> None:
    """A section's name, its length, what is said of it where there is room, its first bar."""
    section, soft = model.sections[at], color("on_ink" if on else "ink_soft")
    name, upper = section.name, inner.adjusted(0, 0, 0, -14)
    painter.setFont(text_font(12, SEMI))
    if painter.fontMetrics().horizontalAdvance(name) > inner.width():
        painter.setFont(text_font(10.5, SEMI))
    painter.setPen(color("on_ink" if on else "ink"))
    wrapped = Qt.TextFlag.TextWordWrap | Qt.AlignmentFlag.AlignTop
    widest = max(painter.fontMetrics().horizontalAdvance(word) for word in name.split())
    if widest > inner.width():
        wrapped = Qt.TextFlag.TextSingleLine | Qt.AlignmentFlag.AlignTop
        name = painter.fontMetrics().elidedText(
            name, Qt.TextElideMode.ElideRight, int(inner.width())
        )
    painter.save()
    painter.setClipRect(upper)
    painter.drawText(upper, wrapped, name)
    painter.restore()
    painter.setFont(figure_font(9.5))
    painter.setPen(soft)
    number = str(model.first_bar(at))
    room = inner.width() - painter.fontMetrics().horizontalAdvance(number) - 6
    painter.drawText(inner, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignBottom, number)
    painter.setFont(text_font(10.5))
    parts = [plural(section.bars, "bar")]
    parts += [section.key.text] if section.key else []
    parts += [f"{section.tempo:g} BPM"] if section.tempo else []
    parts += ["own chords"] if section.chords else []
    parts += [f"{number_text(section.level_db, '+g')} dB"] if section.level_db else []
    while len(parts) > 1 and painter.fontMetrics().horizontalAdvance(" · ".join(parts)) > room:
        parts.pop()  # what is not said here, the page of the section says
    painter.drawText(inner, Qt.AlignmentFlag.AlignBottom, " · ".join(parts))


def _paint_band(painter: QPainter, model: ColumnsModel, at: int, row: int) -> None:
    left, right = model.span(at)
    top, high = model.row_box(row)
    middle, thick = top + high / 2, model.thick(at, row)
    if not thick:
        painter.setPen(QPen(color("hair"), 1))
        painter.drawLine(QPointF(left, middle), QPointF(right, middle))
    else:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(color(model.rows[row].role, 0.85))
        along = model.thick_along(at, row)
        if along:  # it is louder here, softer there
            places = [
                (left + share * (right - left), max(3.0, one * (high - 6)) / 2)
                for share, one in along
            ]
            above = [QPointF(x, middle - y) for x, y in places]
            below = [QPointF(x, middle + y) for x, y in places[::-1]]
            painter.drawPolygon(QPolygonF([*above, *below]))
        else:
            tall = max(3.0, thick * (high - 6))
            painter.drawRoundedRect(QRectF(left, middle - tall / 2, right - left, tall), 2, 2)
        if words := model.ride_of(at, row):
            painter.setFont(text_font(9.5))
            painter.setPen(color("ink"))
            words = painter.fontMetrics().elidedText(
                f"{words} rides", Qt.TextElideMode.ElideRight, int(right - left - 6)
            )
            painter.drawText(
                QRectF(left + 4, top, right - left - 6, high), Qt.AlignmentFlag.AlignVCenter, words
            )
    box = QRectF(left, top + 2, right - left, high - 4)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    if model.differs(at, row):
        painter.setPen(QPen(color("signal"), 1.5))
        painter.drawRoundedRect(box, 3, 3)


def paint_chosen(painter: QPainter, model: ColumnsModel, at: int, row: int) -> None:
    """Where keys act."""
    left, right = model.span(at)
    top, high = model.row_box(row)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(color("focus"), 1.5, Qt.PenStyle.DotLine))
    painter.drawRoundedRect(QRectF(left - 2, top + 1, right - left + 4, high - 2), 3, 3)


def paint_seam(painter: QPainter, model: ColumnsModel, at: int, *, on: bool) -> None:
    """A seam, and how much happens there."""
    x = model.seam_x(at)
    happens = model.sections[at].seam.happens
    pen = QPen(color("signal" if on else "line"), 2 if on else 1, Qt.PenStyle.DashLine)
    painter.setPen(pen)
    painter.drawLine(QPointF(x, LOUD_PX + HEAD_PX / 2), QPointF(x, model.height - 20))
    box = QRectF(x - SEAM_R, LOUD_PX + HEAD_PX / 2 - SEAM_R, 2 * SEAM_R, 2 * SEAM_R)
    painter.setPen(QPen(color("signal" if on else "ink_soft"), 1.5))
    painter.setBrush(color("signal") if on else color("card"))
    painter.drawEllipse(box)
    painter.setFont(figure_font(10))
    painter.setPen(color("on_ink" if on else "ink"))
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, str(len(happens)) if happens else "")
