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

SEAM_R = 9.0


def paint_empty(painter: QPainter, where: QRectF) -> None:
    """What to do first."""
    painter.setPen(color("ink_soft"))
    painter.setFont(text_font(13))
    words = ("Nothing is arranged yet. Choose a form and draw it, or add a section: each is the "
             "loop, and what differs in it.")  # fmt: skip
    how = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap
    painter.drawText(where.adjusted(80, 0, -80, 0), how, words)


def paint_loudness(
    painter: QPainter, model: ColumnsModel, loudness: Mapping[int, np.ndarray]
) -> None:
    """How loud each bar is, over all."""
    painter.setFont(text_font(11))
    painter.setPen(color("ink_soft"))
    painter.drawText(QRectF(2, 2, NAMES_PX - 8, 14), Qt.AlignmentFlag.AlignLeft, "loudness")
    low, high = (f"{db:.0f}".replace("-", "−") for db in LOUDNESS_DB)
    painter.setFont(figure_font(9.5))
    painter.drawText(QRectF(2, 17, NAMES_PX - 8, 14), Qt.AlignmentFlag.AlignLeft,
                     f"{low} to {high} dB")  # fmt: skip
    points = model.curve(loudness)
    if len(points) > 1:
        painter.setPen(QPen(color("ink"), 1.5))
        high_px = LOUD_PX - 10
        painter.drawPolyline(QPolygonF([QPointF(x, 4 + high_px * (1 - y)) for x, y in points]))
    elif not points:
        painter.setFont(text_font(11))
        painter.drawText(QRectF(NAMES_PX, 10, 400, 16), Qt.AlignmentFlag.AlignLeft,
                         "known when all of it has been heard once")  # fmt: skip


def paint_names(painter: QPainter, model: ColumnsModel, chosen: int) -> None:
    """Layers, then lanes."""
    for row, what in enumerate(model.rows):
        top, high = model.row_box(row)
        if what.is_lane and (row == 0 or not model.rows[row - 1].is_lane):
            painter.setPen(QPen(color("line"), 1))
            painter.drawLine(QPointF(0, top - 16), QPointF(model.width, top - 16))
            painter.setPen(color("ink_soft"))
            painter.setFont(text_font(10.5))
            painter.drawText(QRectF(2, top - 15, NAMES_PX, 14), Qt.AlignmentFlag.AlignLeft,
                             "groove bed")  # fmt: skip
        painter.setPen(color("ink"))
        painter.setFont(text_font(11.5, SEMI if row == chosen else MEDIUM))
        name = painter.fontMetrics().elidedText(what.name, Qt.TextElideMode.ElideRight,
                                                int(NAMES_PX - 10))  # fmt: skip
        painter.drawText(QRectF(2, top, NAMES_PX - 8, high), Qt.AlignmentFlag.AlignVCenter, name)


def paint_section(
    painter: QPainter, model: ColumnsModel, at: int, *, on: bool, focused: bool
) -> None:
    """A section's head, its bands, and when it begins."""
    section = model.sections[at]
    left, right = model.span(at)
    head = QRectF(left, LOUD_PX, right - left, HEAD_PX)
    edge = "focus" if focused else "ink" if on else "line"
    painter.setPen(QPen(color(edge), 2 if on else 1))
    painter.setBrush(color("ink") if on else color("card"))
    painter.drawRoundedRect(head.adjusted(1, 1, -1, -1), 4, 4)
    inner = head.adjusted(7, 5, -5, -5)
    painter.setFont(figure_font(9.5))
    painter.setPen(color("on_ink" if on else "ink_soft"))
    number = str(model.first_bar(at))
    wide = painter.fontMetrics().horizontalAdvance(number)
    painter.drawText(inner, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop, number)
    painter.setFont(text_font(12, SEMI))
    painter.setPen(color("on_ink" if on else "ink"))
    name = painter.fontMetrics().elidedText(section.name, Qt.TextElideMode.ElideRight,
                                            int(inner.width() - wide - 4))  # fmt: skip
    painter.drawText(inner, Qt.AlignmentFlag.AlignTop, name)
    painter.setFont(text_font(10.5))
    painter.setPen(color("on_ink" if on else "ink_soft"))
    says = f"{section.bars} bar{'s' * (section.bars != 1)}"
    says += f" · {section.key.text}" if section.key else ""
    says += f" · {section.level_db:+g} dB" if section.level_db else ""
    says = says.replace("-", "−")
    parts = says.split(" · ")
    while len(parts) > 1 and painter.fontMetrics().horizontalAdvance(says) > inner.width():
        parts.pop()  # what is not said here, the page of the section says
        says = " · ".join(parts)
    painter.drawText(inner, Qt.AlignmentFlag.AlignBottom, says)
    for row in range(len(model.rows)):
        _paint_band(painter, model, at, row)
    painter.setFont(figure_font(9.5))
    painter.setPen(color("ink_soft"))
    painter.drawText(QRectF(left, model.height - 16, 70, 14), Qt.AlignmentFlag.AlignLeft,
                     clock_text(model.starts_s()[at]))  # fmt: skip


def _paint_band(painter: QPainter, model: ColumnsModel, at: int, row: int) -> None:
    left, right = model.span(at)
    top, high = model.row_box(row)
    middle, thick = top + high / 2, model.thick(at, row)
    if not thick:
        painter.setPen(QPen(color("hair"), 1))
        painter.drawLine(QPointF(left, middle), QPointF(right, middle))
    else:
        tall = max(3.0, thick * (high - 6))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(color(model.rows[row].role, 0.85))
        painter.drawRoundedRect(QRectF(left, middle - tall / 2, right - left, tall), 2, 2)
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
