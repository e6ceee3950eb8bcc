"""How the note grid is painted: what stands still, and what is picked or tried over it."""

from collections.abc import Collection, Sequence

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QBrush, QPainter, QPen

from cloudrift.desktop.kit.look import SEMI, color, figure_font, text_font
from cloudrift.desktop.stages.layers.notes.model import Ground, lines, outlines
from cloudrift.desktop.stages.layers.notes.places import LEFT, STRIP, TOP, Places
from cloudrift.desktop.stages.layers.notes.rects import (
    ID,
    LENGTH,
    MUTED,
    PITCH,
    START,
    Columns,
    columns,
    draw_boxes,
)
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.notes.note import Note
from cloudrift.notes.time import bar_ticks

LEAST_LINE_PX = 7.0
UNHEARD = "off"
FEW = 200  # picked notes whose frames are thick
RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter


def paint_ground(
    painter: QPainter, places: Places, ground: Ground, layer: Layer, grid: int
) -> None:
    """Paint lanes, lines, chord outlines and where the lens plays."""
    loop = ground.loop
    painter.fillRect(QRectF(0, 0, places.width, places.height), color("paper"))
    body = QRectF(LEFT, TOP, places.width - LEFT - 4, places.foot - TOP)
    painter.fillRect(body, color("card"))
    view, key = places.view, loop.key
    painter.setFont(figure_font(9.5))
    free = -1e9
    for pitch in range(view.high, view.low - 1, -1):
        y = places.at_y(pitch)
        if not key.has(pitch):
            painter.fillRect(QRectF(LEFT, y, body.width(), places.lane), color("lane"))
        named = pitch % 12 == key.pc or places.lane >= 11
        if named and y - free > 10:
            free = y
            painter.setPen(color("ink" if pitch % 12 == key.pc else "ink_soft"))
            box = QRectF(0, y + places.lane / 2 - 7, LEFT - 5, 14)
            painter.drawText(box, RIGHT, key.spell_pitch(pitch))
    painter.setClipRect(QRectF(LEFT, 0, places.width - LEFT, places.height))
    _paint_lines(painter, places, loop, grid)
    painter.setClipRect(QRectF(LEFT, TOP, places.width - LEFT, places.foot - TOP))
    _paint_unheard(painter, places, ground.unheard)
    _paint_outlines(painter, places, loop)
    painter.setClipRect(QRectF(LEFT, 0, places.width - LEFT, TOP))
    _paint_names(painter, places, ground)
    if layer.follows and not ground.as_heard:
        _paint_strip(painter, places, loop, layer)
    painter.setClipping(False)
    painter.setPen(color("ink_soft"))
    painter.drawText(QRectF(0, places.foot + 8, LEFT - 5, 12), RIGHT, "127 vel")
    painter.drawText(QRectF(0, places.height - 13, LEFT - 5, 12), RIGHT, "0")


def _paint_lines(painter: QPainter, places: Places, loop: Loop, grid: int) -> None:
    width = places.width - LEFT - 4
    for tick, what in lines(loop, grid, places.view, LEAST_LINE_PX, width):
        x = places.at_x(tick)
        painter.setPen(QPen(color("line" if what == "bar" else "hair"), 1))
        painter.drawLine(QPointF(x, TOP if what != "bar" else 2), QPointF(x, places.height))
    painter.setPen(color("line"))
    painter.drawLine(QPointF(LEFT, places.foot), QPointF(places.width, places.foot))


def _paint_unheard(
    painter: QPainter, places: Places, unheard: tuple[tuple[float, float], ...]
) -> None:
    """Hatch what treatments pass over: notes that begin there are not heard."""
    painter.setPen(Qt.PenStyle.NoPen)
    for first, last in unheard:
        left, right = places.at_x(first), places.at_x(last)
        box = QRectF(left, TOP, right - left, places.foot - TOP)
        painter.fillRect(box, QBrush(color("ink_soft", 0.35), Qt.BrushStyle.BDiagPattern))
        painter.setPen(color("ink_soft"))
        painter.setFont(text_font(10.5))
        if painter.fontMetrics().horizontalAdvance(UNHEARD) + 8 < box.width():
            painter.drawText(box.adjusted(4, 2, 0, 0), Qt.AlignmentFlag.AlignTop, UNHEARD)
        painter.setPen(Qt.PenStyle.NoPen)


def _paint_outlines(painter: QPainter, places: Places, loop: Loop) -> None:
    """The voices of the chords as outlines: what a layer's notes are seen against."""
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(color("ink_soft", 0.6), 1))
    for one in outlines(loop):
        left, right = places.at_x(one.start), places.at_x(one.end)
        box = QRectF(left + 1, places.at_y(one.pitch) + 0.5, right - left - 3, places.lane - 1)
        painter.drawRoundedRect(box, 2, 2)


def _paint_names(painter: QPainter, places: Places, ground: Ground) -> None:
    """The names of chords over where they begin, and numbers of bars where there is room."""
    painter.setFont(text_font(10.5, SEMI))
    painter.setPen(color("ink"))
    taken: list[tuple[float, float]] = []  # what the names take of the line
    loop = ground.loop
    for tick, name in ground.names:
        x = places.at_x(tick) + 20
        if not taken or x > taken[-1][1]:
            painter.drawText(QPointF(x, 12), name)
            taken.append((x - 4, x + painter.fontMetrics().horizontalAdvance(name) + 6))
    painter.setFont(figure_font(9.5))
    painter.setPen(color("ink_soft"))
    bar = bar_ticks(loop.metre)
    for tick in range(0, loop.ticks, bar):
        x = places.at_x(tick) + 4
        if not any(a < x + 8 and x < b for a, b in taken):
            painter.drawText(QPointF(x, 12), str(tick // bar + 1))


def _paint_strip(painter: QPainter, places: Places, loop: Loop, layer: Layer) -> None:
    """Where the lens plays, and which bars are late."""
    top = float(TOP - STRIP)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(color(layer.role, 0.75))
    for first, last in layer.played.lens.where or ((0, loop.ticks),):
        left, right = places.at_x(first), places.at_x(last)
        painter.drawRect(QRectF(left, top + 3, right - left - 1, STRIP - 6))
    bar = bar_ticks(loop.metre)
    painter.setPen(color("ink"))
    for late in layer.played.lens.late_bars:
        left = places.at_x(late * bar)
        right = places.at_x(late * bar + layer.played.lens.late_ticks)
        painter.setBrush(color("paper"))
        painter.drawRect(QRectF(left, top + 1.5, max(right - left, 6), STRIP - 4))
        painter.drawText(QPointF(right + 4, top + 10), "late")


def paint_notes(
    painter: QPainter,
    places: Places,
    notes: tuple[Note, ...],
    role: str,
    scale: Sequence[int],
    *,
    read_only: bool = False,
    alpha: float = 1.0,
) -> None:
    """Paint notes and their loudness; those out of key also have a notch, muted ones are hollow."""
    seen = _seen(places, columns(notes))
    muted = seen[:, MUTED] > 0
    in_key = np.isin(seen[:, PITCH] % 12, scale)
    outside = places.boxes(seen[~muted & ~in_key])
    painter.setClipRect(QRectF(LEFT, TOP, places.width - LEFT, places.height - TOP))
    painter.setPen(Qt.PenStyle.NoPen)
    fill = color(role, alpha * (0.55 if read_only else 1.0))
    painter.setBrush(fill)
    draw_boxes(painter, places.boxes(seen[~muted & in_key]))
    draw_boxes(painter, places.stems(seen[~muted]))
    painter.setBrush(color("signal", alpha))
    draw_boxes(painter, outside)
    painter.setBrush(color("card"))  # a notch: nothing is told by colour alone
    draw_boxes(painter, outside * (1, 1, 0, 0.5) + (2, 0, 2, 0))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(color(role), 1, Qt.PenStyle.DotLine))
    draw_boxes(painter, places.boxes(seen[muted]))
    painter.setClipping(False)


def paint_picked(
    painter: QPainter, places: Places, notes: tuple[Note, ...], picked: Collection[int]
) -> None:
    """Paint the frames of the notes that are picked, and caps on their loudness."""
    found = columns(notes)
    seen = _seen(places, found[np.isin(found[:, ID], list(picked))])
    boxes = places.boxes(seen)
    painter.setClipRect(QRectF(LEFT, TOP, places.width - LEFT, places.height - TOP))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(color("ink"), 1))
    draw_boxes(painter, boxes)
    if len(boxes) < FEW:
        draw_boxes(painter, boxes + np.array((1.0, 1.0, -2.0, -2.0)))
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(color("ink"))
    draw_boxes(painter, places.stems(seen) * (1, 1, 0, 0) + (0, -1, 6, 2.4))
    painter.setClipping(False)


def _seen(places: Places, notes: Columns) -> Columns:
    """Those of the notes that lie in the view."""
    view = places.view
    start = notes[:, START]
    return notes[(start < view.last) & (start + notes[:, LENGTH] > view.first)]
