"""A layer's notes over the loop, small; of a recording where it is heard."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QWidget

from cloudrift.desktop.kit.look import color
from cloudrift.desktop.kit.time_axis import TimeAxis
from cloudrift.desktop.stages.layers.notes.rects import LENGTH, PITCH, START, columns, draw_boxes
from cloudrift.desktop.stages.layers.recording_model import turns_of
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.loop.sounding import notes_of
from cloudrift.notes.note import Note


class MiniNotes(QWidget):
    """Time runs to the right, pitch up."""

    def __init__(self) -> None:
        super().__init__()
        self._notes: tuple[Note, ...] = ()
        self._turns: tuple[tuple[float, float], ...] = ()
        self._ticks = 1
        self._role = "keys"
        self._quiet = False
        self.setFixedHeight(34)
        self.setMinimumWidth(60)
        self.setAccessibleName("Notes over the loop")

    def sizeHint(self) -> QSize:
        return QSize(96, 34)

    def show_layer(self, loop: Loop, layer: Layer, *, quiet: bool) -> None:
        """Show a layer's notes."""
        notes, turns = notes_of(loop, layer), turns_of(loop, layer)
        wanted = (loop.ticks, layer.role, quiet)
        if (
            notes is not self._notes
            or turns != self._turns
            or wanted != (self._ticks, self._role, self._quiet)
        ):
            self._notes, self._turns = notes, turns
            self._ticks, self._role, self._quiet = wanted
            self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        width, height = self.width() - 2, self.height() - 6
        painter.setPen(color("hair"))
        painter.drawLine(QPointF(0, self.height() - 1), QPointF(width, self.height() - 1))
        painter.setBrush(color("ink_soft", 0.4) if self._quiet else color(self._role))
        if self._turns:
            self._paint_turns(painter, TimeAxis(0, width, self._ticks), height)
        if not self._notes:
            return
        notes = columns(self._notes)
        low = notes[:, PITCH].min()
        span = max(notes[:, PITCH].max() - low, 7)
        axis, boxes = TimeAxis(0, width, self._ticks), np.full((len(notes), 4), 3.0)
        boxes[:, 0] = axis.at_x(notes[:, START])
        boxes[:, 1] = (1 - (notes[:, PITCH] - low) / span) * (height - 3)
        boxes[:, 2] = np.maximum(2.0, axis.px(notes[:, LENGTH]) - 1)
        painter.setPen(Qt.PenStyle.NoPen)
        draw_boxes(painter, boxes)

    def _paint_turns(self, painter: QPainter, axis: TimeAxis, height: float) -> None:
        """A band a turn; what goes on over the seam is seen at the start, too."""
        painter.setPen(Qt.PenStyle.NoPen)
        bands = [(a + by, b + by) for a, b in self._turns for by in (-self._ticks, 0, self._ticks)]
        for first, last in bands:
            left, right = max(first, 0.0), min(last, float(self._ticks))
            if right > left:
                rect = QRectF(
                    axis.at_x(left), height * 0.3, axis.px(right - left) - 1, height * 0.5
                )
                painter.drawRect(rect)
