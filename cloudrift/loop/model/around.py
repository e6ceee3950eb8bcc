"""What a source may know of the loop that it is in."""

from typing import NamedTuple

from cloudrift.notes.span import Span
from cloudrift.theory.key import Key


class Root(NamedTuple):
    """A chord's root as it is heard: from one tick to another, a pitch class."""

    start_tick: int
    end_tick: int
    pc: int


class Swing(NamedTuple):
    """How a groove lies in time: every second step is late, and all of it before or after.

    ``share`` is where in a pair of ``step_ticks`` the second begins, in % (50: straight).
    """

    share: float = 50.0
    step_ticks: int = 240
    late_ms: float = 0.0

    def placed(self, tick: int) -> int:
        """Return where a written tick is played."""
        pair = 2 * self.step_ticks
        turn, inside = divmod(tick, pair)
        middle = self.share / 100 * pair
        if inside < self.step_ticks:
            inside_now = inside * middle / self.step_ticks
        else:
            inside_now = middle + (inside - self.step_ticks) * (pair - middle) / self.step_ticks
        return round(turn * pair + inside_now)


class SourceContext(NamedTuple):
    """What a source may know of the loop it is in.

    ``roots`` are those that are heard, in order; ``swing`` is that of the groove bed.
    """

    spans: tuple[Span, ...]
    key: Key
    bar_ticks: int
    ticks: int = 0
    roots: tuple[Root, ...] = ()
    swing: Swing = Swing()
