"""Where things are in the note grid: pixels of ticks, pitches and loudness, and back."""

from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPointF, QRectF

from cloudrift.desktop.kit.time_axis import TimeAxis
from cloudrift.desktop.stages.layers.notes.model import View
from cloudrift.desktop.stages.layers.notes.rects import (
    ID,
    LENGTH,
    PITCH,
    START,
    VELOCITY,
    Boxes,
    Columns,
    columns,
)
from cloudrift.notes.note import Note

LEFT, RIGHT = 52, 4  # note names, and room after the last tick
TOP, LOUD = 30, 54  # bar numbers with the strip of places, the loudness lane
STRIP = 13
EDGE_PX = 6.0


@dataclass(frozen=True)
class Places:
    """Pixels of what is seen."""

    width: int
    height: int
    view: View

    @property
    def foot(self) -> float:
        """Where the notes end and the loudness begins."""
        return self.height - LOUD

    @property
    def lane(self) -> float:
        """The height of a semitone."""
        return (self.foot - TOP) / (self.view.high - self.view.low + 1)

    @property
    def axis(self) -> TimeAxis:
        """Where a tick is."""
        return TimeAxis(LEFT, self.width - LEFT - RIGHT, self.view.ticks, self.view.first)

    def at_x(self, tick: float) -> float:
        """Return the pixel of a tick."""
        return self.axis.at_x(tick)

    def tick_at(self, x: float) -> float:
        """Return the tick at a pixel."""
        return self.axis.tick_at(x)

    def at_y(self, pitch: float) -> float:
        """Return the top of a pitch's lane."""
        return TOP + (self.view.high - pitch) * self.lane

    def pitch_at(self, y: float) -> int:
        """Return the pitch of the lane at a pixel."""
        return self.view.high - int((y - TOP) // self.lane)

    def boxes(self, notes: Columns) -> Boxes:
        """Return where notes are drawn."""
        axis, out = self.axis, np.empty((len(notes), 4))
        out[:, 0] = axis.at_x(notes[:, START])
        out[:, 1] = TOP + (self.view.high - notes[:, PITCH]) * self.lane + 0.5
        out[:, 2] = np.maximum(axis.px(notes[:, LENGTH]) - 1, 2.5)
        out[:, 3] = max(self.lane - 1, 2.0)
        return out

    def stems(self, notes: Columns) -> Boxes:
        """Return the bars that show how loud notes are."""
        out = np.full((len(notes), 4), 4.0)
        out[:, 0] = self.axis.at_x(notes[:, START])
        out[:, 3] = (LOUD - 10) / 127 * notes[:, VELOCITY]
        out[:, 1] = self.height - 2 - out[:, 3]
        return out

    def box(self, note: Note) -> QRectF:
        """Return where a note is drawn."""
        return QRectF(*self.boxes(columns((note,)))[0])

    def note_at(self, notes: tuple[Note, ...], point: QPointF) -> Note | None:
        """Return the note under a point, the shortest where several are."""
        reach = max(1.0, (7 - self.lane) / 2)
        x, y, width, height = self.boxes(columns(notes)).T
        dx, dy = point.x() - x, point.y() - y
        hit = (dx >= -1) & (dx <= width + 1) & (dy >= -reach) & (dy <= height + reach)
        found = [notes[i] for i in np.flatnonzero(hit)]
        return min(found, key=lambda n: n.length_ticks, default=None)

    def edge_of(self, note: Note, x: float) -> str:
        """Say whether a pixel is at the ``start`` or the ``end`` of a note, or at neither."""
        box = self.box(note)
        reach = min(EDGE_PX, box.width() / 4)
        if x > box.right() - reach:
            return "end"
        return "start" if x < box.left() + reach and box.width() > 4 * EDGE_PX else ""

    def within(self, notes: tuple[Note, ...], area: QRectF) -> frozenset[int]:
        """Return the ids of the notes that an area touches."""
        found = columns(notes)
        x, y, width, height = self.boxes(found).T
        hit = (x < area.right()) & (x + width > area.left())
        hit &= (y < area.bottom()) & (y + height > area.top())
        return frozenset(found[hit, ID].tolist())

    def velocity_at(self, y: float) -> int:
        """Return the loudness at a pixel of the loudness lane."""
        return min(max(round((self.height - 2 - y) / (LOUD - 10) * 127), 1), 127)
