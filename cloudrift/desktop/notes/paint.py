"""How the note grid is painted: what stands still, and what is picked or tried over it."""

from collections.abc import Collection, Iterable

from PyQt6.QtCore import QLineF, QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from cloudrift.desktop.look import SEMI, color, figure_font, text_font
from cloudrift.desktop.notes.model import lines, outlines
from cloudrift.desktop.notes.places import LEFT, STRIP, TOP, Places
from cloudrift.loop.model import Layer, Loop
from cloudrift.notes.note import Note
from cloudrift.notes.time import bar_ticks

LEAST_LINE_PX = 7.0
RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter


def paint_ground(painter: QPainter, places: Places, loop: Loop, layer: Layer, grid: int) -> None:
    """Paint lanes, lines, chord outlines and where the lens plays."""
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
    painter.setClipRect(QRectF(LEFT, 0, places.width - LEFT, places.foot))
    _paint_chords(painter, places, loop)
    if layer.follows:
        _paint_strip(painter, places, loop, layer)
    painter.setClipping(False)
    painter.setPen(color("ink_soft"))
    painter.drawText(QRectF(0, places.foot + 8, LEFT - 5, 12), RIGHT, "127 vel")
    painter.drawText(QRectF(0, places.height - 13, LEFT - 5, 12), RIGHT, "0")


def _paint_lines(painter: QPainter, places: Places, loop: Loop, grid: int) -> None:
    width = places.width - LEFT - 4
    bar = bar_ticks(loop.metre)
    for tick, what in lines(loop, grid, places.view, LEAST_LINE_PX, width):
        x = places.at_x(tick)
        painter.setPen(QPen(color("line" if what == "bar" else "hair"), 1))
        painter.drawLine(QPointF(x, TOP if what != "bar" else 2), QPointF(x, places.height))
        if what == "bar" and tick < loop.ticks:
            painter.setPen(color("ink_soft"))
            painter.drawText(QPointF(x + 4, 12), str(tick // bar + 1))
    painter.setPen(color("line"))
    painter.drawLine(QPointF(LEFT, places.foot), QPointF(places.width, places.foot))


def _paint_chords(painter: QPainter, places: Places, loop: Loop) -> None:
    """The voices of the chords as outlines: what a layer's notes are seen against."""
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(color("ink_soft", 0.6), 1))
    for one in outlines(loop):
        left, right = places.at_x(one.start), places.at_x(one.end)
        box = QRectF(left + 1, places.at_y(one.pitch) + 0.5, right - left - 3, places.lane - 1)
        painter.drawRoundedRect(box, 2, 2)
    painter.setFont(text_font(10.5, SEMI))
    painter.setPen(color("ink"))
    free = -1e9
    for chord in loop.chords:
        x = places.at_x(chord.start_tick) + 20
        if x > free:
            name = chord.read(loop.key).text
            painter.drawText(QPointF(x, 12), name)
            free = x + painter.fontMetrics().horizontalAdvance(name) + 6
    painter.setFont(figure_font(9.5))


def _paint_strip(painter: QPainter, places: Places, loop: Loop, layer: Layer) -> None:
    """Where the lens plays, and which bars are late."""
    top = float(TOP - STRIP)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(color(layer.role, 0.75))
    for first, last in layer.lens.where or ((0, loop.ticks),):
        left, right = places.at_x(first), places.at_x(last)
        painter.drawRect(QRectF(left, top + 3, right - left - 1, STRIP - 6))
    bar = bar_ticks(loop.metre)
    painter.setPen(color("ink"))
    for late in layer.lens.late_bars:
        left = places.at_x(late * bar)
        right = places.at_x(late * bar + layer.lens.late_ticks)
        painter.setBrush(color("paper"))
        painter.drawRect(QRectF(left, top + 1.5, max(right - left, 6), STRIP - 4))
        painter.drawText(QPointF(right + 4, top + 10), "late")


def paint_notes(
    painter: QPainter, places: Places, notes: Iterable[Note], role: str, key_has: Collection[int],
    *, read_only: bool = False, alpha: float = 1.0,
) -> None:  # fmt: skip
    """Paint notes and their loudness; those out of key also have a notch, muted ones are hollow."""
    body: list[QRectF] = []
    outside: list[QRectF] = []
    muted: list[QRectF] = []
    stems: list[QRectF] = []
    for note in notes:
        box = places.box(note)
        if box.right() < LEFT or box.left() > places.width:
            continue
        if note.muted:
            muted.append(box)
            continue
        (body if note.pitch % 12 in key_has else outside).append(box)
        stems.append(places.stem(note))
    painter.setClipRect(QRectF(LEFT, TOP, places.width - LEFT, places.height - TOP))
    painter.setPen(Qt.PenStyle.NoPen)
    fill = color(role, alpha * (0.55 if read_only else 1.0))
    for boxes, brush in ((body, fill), (outside, color("signal", alpha))):
        painter.setBrush(brush)
        _rects(painter, boxes)
    painter.setBrush(fill)
    _rects(painter, stems)
    painter.setBrush(color("card"))
    for box in outside:  # a notch: nothing is told by colour alone
        painter.drawRect(QRectF(box.left() + 2, box.top(), 2, box.height() / 2))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(color(role), 1, Qt.PenStyle.DotLine))
    _rects(painter, muted)
    painter.setClipping(False)


def paint_picked(painter: QPainter, places: Places, notes: Iterable[Note]) -> None:
    """Paint the frames of the notes that are picked."""
    painter.setClipRect(QRectF(LEFT, TOP, places.width - LEFT, places.height - TOP))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(color("ink"), 1.6))
    found = list(notes)
    _rects(painter, [places.box(note) for note in found])
    ink: QColor = color("ink")
    painter.setPen(QPen(ink, 2.4))
    tops = [(s.left(), s.top()) for s in (places.stem(note) for note in found)]
    if tops:
        painter.drawLines(*(QLineF(x + 1, y, x + 6, y) for x, y in tops))
    painter.setClipping(False)


def _rects(painter: QPainter, boxes: list[QRectF]) -> None:
    if boxes:
        painter.drawRects(*boxes)
