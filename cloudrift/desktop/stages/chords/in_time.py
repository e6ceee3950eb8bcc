"""What the tiles and the onsets share: a strip in time with the threads, painted in part."""

from PyQt6.QtCore import QRectF
from PyQt6.QtWidgets import QWidget

from cloudrift.desktop.kit.time_axis import TimeAxis
from cloudrift.desktop.stages.chords.model import WHOLE, changed_span
from cloudrift.desktop.stages.chords.moves import Moves
from cloudrift.desktop.stages.chords.thread_paint import LEFT, RIGHT_PX
from cloudrift.loop.model.loop import Chord


class InTime(QWidget):
    """A strip over the loop's length, of a fixed height."""

    def __init__(self, moves: Moves, height: int) -> None:
        super().__init__()
        self._moves = moves
        self._session = session = moves.session
        self._painted_for = session.loop, session.selection
        self.setFixedHeight(height)
        session.changed.connect(lambda _b, _a: self._keep_up())
        session.opened.connect(self.update)
        session.selected.connect(self._keep_up)

    @property
    def axis(self) -> TimeAxis:
        """Where a tick is: under the threads, which have the same edges."""
        return TimeAxis(LEFT, self.width() - LEFT - RIGHT_PX, self._session.loop.ticks)

    def seen_chords(self, seen: QRectF) -> list[Chord]:
        """Return the chords that are in a part that is painted."""
        first, last = self.axis.tick_at(seen.left() - 4), self.axis.tick_at(seen.right() + 4)
        chords = self._session.loop.chords
        return [c for c in chords if c.end_tick >= first and c.start_tick <= last]

    def _keep_up(self) -> None:
        """Paint again what has changed."""
        now = self._session.loop, self._session.selection
        before, self._painted_for = self._painted_for, now
        span = changed_span(before[0], now[0], before[1], now[1])
        if span == WHOLE:
            self.update()
        elif span is not None:
            left, right = (self.axis.at_x(share * now[0].ticks) for share in span)
            self.update(QRectF(left - 4, 0, right - left + 8, self.height()).toRect())
