"""Where things are in the note grid: pixels of ticks, pitches and loudness, and back."""

from collections.abc import Iterable
from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF

from cloudrift.desktop.notes.model import View
from cloudrift.notes.note import Note

LEFT, TOP, LOUD = 46, 30, 54  # note names, bar numbers with the strip of places, the loudness lane
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

    def at_x(self, tick: float) -> float:
        """Return the pixel of a tick."""
        share = (tick - self.view.first) / self.view.ticks
        return LEFT + share * (self.width - LEFT - 4)

    def tick_at(self, x: float) -> float:
        """Return the tick at a pixel."""
        return self.view.first + (x - LEFT) / max(1, self.width - LEFT - 4) * self.view.ticks

    def at_y(self, pitch: float) -> float:
        """Return the top of a pitch's lane."""
        return TOP + (self.view.high - pitch) * self.lane

    def pitch_at(self, y: float) -> int:
        """Return the pitch of the lane at a pixel."""
        return self.view.high - int((y - TOP) // self.lane)

    def box(self, note: Note) -> QRectF:
        """Return where a note is drawn."""
        left, right = self.at_x(note.start_tick), self.at_x(note.end_tick)
        return QRectF(left, self.at_y(note.pitch) + 0.5, max(right - left - 1, 2.5),
                      max(self.lane - 1, 2.0))  # fmt: skip

    def note_at(self, notes: Iterable[Note], point: QPointF) -> Note | None:
        """Return the note under a point, the shortest where several are."""
        reach = max(1.0, (7 - self.lane) / 2)
        hit = [n for n in notes if self.box(n).adjusted(-1, -reach, 1, reach).contains(point)]
        return min(hit, key=lambda n: n.length_ticks, default=None)

    def edge_of(self, note: Note, x: float) -> str:
        """Say whether a pixel is at the ``start`` or the ``end`` of a note, or at neither."""
        box = self.box(note)
        reach = min(EDGE_PX, box.width() / 4)
        if x > box.right() - reach:
            return "end"
        return "start" if x < box.left() + reach and box.width() > 4 * EDGE_PX else ""

    def within(self, notes: Iterable[Note], box: QRectF) -> frozenset[int]:
        """Return the ids of the notes that a box touches."""
        return frozenset(n.id for n in notes if self.box(n).intersects(box))

    def stem(self, note: Note) -> QRectF:
        """Return the bar that shows how loud a note is."""
        height = (LOUD - 10) * note.velocity / 127
        return QRectF(self.at_x(note.start_tick), self.height - 2 - height, 4.0, height)

    def velocity_at(self, y: float) -> int:
        """Return the loudness at a pixel of the loudness lane."""
        return min(max(round((self.height - 2 - y) / (LOUD - 10) * 127), 1), 127)
