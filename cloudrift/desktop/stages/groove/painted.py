"""How hit lanes are painted: from the model alone."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from cloudrift.desktop.kit.look import MEDIUM, SEMI, color, figure_font, text_font
from cloudrift.desktop.stages.groove.model import GUIDE_PX, NAMES_PX, STROKE_PX, TOP_PX, LanesModel
from cloudrift.loop.edits.bed.beds import PARTS
from cloudrift.loop.model.hits import Hit
from cloudrift.style.manner import Manner, chances_of

DECAY = np.linspace(0, 1, 14)  # along a low drum
FALLS = 2.4  # nepers that it is drawn to fall by
MOST_SMALL = 5  # lanes of a manner in its small picture


def paint_grid(painter: QPainter, model: LanesModel) -> None:
    """Beats, and where the loop itself strikes."""
    bottom = model.height - 6
    painter.setFont(figure_font(10))
    for tick, name in model.beats():
        x = float(model.axis.at_x(tick))
        first = tick % model.bar == 0
        painter.setPen(QPen(color("line" if first else "hair"), 1.5 if first else 1))
        painter.drawLine(QPointF(x, 16), QPointF(x, bottom))
        painter.setPen(color("ink_soft"))
        if first or model.shown <= 2:
            painter.drawText(QRectF(x + 3, 0, 60, 14), Qt.AlignmentFlag.AlignLeft, name)
    painter.setFont(text_font(11))
    painter.drawText(
        QRectF(2, TOP_PX - GUIDE_PX - 2, NAMES_PX - 6, GUIDE_PX),
        Qt.AlignmentFlag.AlignVCenter,
        "the loop",
    )
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(color("pluck"))
    for tick, strength in model.guide():
        x, high = float(model.axis.at_x(tick)), GUIDE_PX * strength
        if NAMES_PX <= x < model.width:
            painter.drawRect(QRectF(x, TOP_PX - 5 - high, 3, high))


def paint_lane(
    painter: QPainter, model: LanesModel, row: int, picked: frozenset[int] | None, *, focused: bool
) -> None:
    """A lane: its name, its line, its hits.

    ``picked`` are those that are chosen, in the lane that is; None in the others.
    """
    lane = model.lanes[row]
    top, bottom = model.row_top(row), model.row_top(row) + model.row_px - 4
    off = lane.mute or (model.loop.bed is not None and model.loop.bed.group.mute)
    faint = 0.35 if off else 1.0
    painter.setPen(QPen(color("hair"), 1))
    painter.drawLine(QPointF(NAMES_PX, bottom), QPointF(model.width, bottom))
    box = QRectF(1, top + 2, NAMES_PX - 8, model.row_px - 7)
    chosen = picked is not None
    painter.setPen(
        QPen(color("focus" if focused else "ink" if chosen else "line"), 2 if chosen else 1)
    )
    painter.setBrush(color("card"))
    painter.drawRoundedRect(box, 4, 4)
    painter.fillRect(QRectF(2, top + 4, 4, model.row_px - 11), color(lane.role, faint))
    painter.setPen(color("ink_soft" if off else "ink"))
    painter.setFont(text_font(11.5, SEMI if chosen else MEDIUM))
    name = f"{lane.name}, off" if lane.mute else lane.name
    name = painter.fontMetrics().elidedText(
        name, Qt.TextElideMode.ElideRight, int(box.width() - 14)
    )
    painter.drawText(box.adjusted(11, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, name)
    clip = QRectF(NAMES_PX - 2, 0, model.width - NAMES_PX + 2, model.height)
    painter.save()
    painter.setClipRect(clip)
    named = model.named(row)
    for number, hit in enumerate(model.hits(row)):
        _paint_hit(painter, model, row, hit, faint, picked=number in (picked or ()),
                   words=named.get(number, ""))  # fmt: skip
    painter.restore()


def _paint_hit(
    painter: QPainter,
    model: LanesModel,
    row: int,
    hit: Hit,
    faint: float,
    *,
    picked: bool,
    words: str,
) -> None:
    lane = model.lanes[row]
    x, bottom = model.x_of(row, hit), model.row_top(row) + model.row_px - 4
    high = model.high(hit)
    painter.setPen(Qt.PenStyle.NoPen)
    if model.is_low(row):
        wide = model.length_px(row, hit)
        falls = high * np.exp(-FALLS * DECAY)
        xs = x + DECAY * wide
        shape = [QPointF(px, bottom - py) for px, py in zip(xs, falls, strict=True)]
        shape += [QPointF(x + wide, bottom), QPointF(x, bottom)]
        painter.setBrush(color(lane.role, 0.45 * faint))
        painter.drawPolygon(QPolygonF(shape))
    stroke = QRectF(x, bottom - high, STROKE_PX, high)
    painter.setBrush(color("focus") if picked else color(lane.role, faint))
    painter.drawRect(stroke)
    if hit.pan:
        side = -5 if hit.pan < 0 else STROKE_PX
        painter.drawRect(QRectF(x + side, bottom - high, 5, 2))
    painter.setFont(figure_font(9.5))
    painter.setPen(color("ink" if faint == 1 else "ink_soft"))
    if words:
        painter.drawText(
            QRectF(x + STROKE_PX + 2, bottom - 14, 40, 13), Qt.AlignmentFlag.AlignLeft, words
        )
    if picked:
        painter.setPen(QPen(color("focus"), 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(stroke.adjusted(-2, -2, 2, 1))


def paint_place(painter: QPainter, model: LanesModel, row: int, tick: int, grid: int) -> None:
    """Where keys act: a lane, and a step of the grid in it."""
    x = float(model.axis.at_x(tick))
    box = QRectF(x - 2, model.row_top(row) + 1, max(8.0, model.axis.px(grid)), model.row_px - 5)
    painter.setPen(QPen(color("focus"), 1, Qt.PenStyle.DotLine))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    if x >= NAMES_PX - 2:
        painter.drawRoundedRect(box, 3, 3)


def paint_manner(manner: Manner, painter: QPainter, box: QRectF) -> None:
    """The first bars of a manner, small: a line a lane, each stroke as high as it is likely."""
    lanes = manner.lanes[:MOST_SMALL]
    high = box.height() / max(1, len(lanes))
    painter.setPen(Qt.PenStyle.NoPen)
    for row, lane in enumerate(lanes):
        chances = chances_of(lane.steps[0])
        painter.setBrush(color(PARTS[lane.part].role))
        for step, chance in enumerate(chances):
            tall = (high - 3) * chance
            x = box.left() + box.width() * step / len(chances)
            painter.drawRect(QRectF(x, box.top() + (row + 1) * high - tall, 3, tall))
