"""Thousands of notes as boxes: their numbers as arrays, and arrays of boxes painted at once."""

from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6 import sip
from PyQt6.QtCore import QRectF
from PyQt6.QtGui import QPainter

from cloudrift.notes.note import Note

START, LENGTH, PITCH, VELOCITY, MUTED, ID = range(6)
Columns = NDArray[np.int64]  # (notes, 6), by the names above
Boxes = NDArray[np.float64]  # (boxes, 4): x, y, width, height

_KNOWN: dict[int, tuple[tuple[Note, ...], Columns]] = {}
_KNOWN_MOST = 64


def columns(notes: tuple[Note, ...]) -> Columns:
    """Return the numbers of notes; those of a tuple that was seen lately are kept."""
    known = _KNOWN.get(id(notes))
    if known is not None and known[0] is notes:
        return known[1]
    made = np.array(
        [(n.start_tick, n.length_ticks, n.pitch, n.velocity, n.muted, n.id) for n in notes],
        np.int64,
    ).reshape(-1, 6)
    if len(_KNOWN) >= _KNOWN_MOST:
        _KNOWN.clear()
    _KNOWN[id(notes)] = (notes, made)
    return made


def draw_boxes(painter: QPainter, boxes: Boxes) -> None:
    """Paint boxes with the pen and brush that are set.

    They are written straight into the memory of Qt's rectangles: making an object of each would
    take ten times as long as painting it.
    """
    if not len(boxes):
        return
    rects: Any = sip.array(QRectF, len(boxes))  # type: ignore[call-arg]
    pointer: Any = sip.voidptr(rects, boxes.size * 8)
    memory = np.frombuffer(pointer, np.float64)
    memory.reshape(-1, 4)[:] = boxes
    painter.drawRects(rects)
