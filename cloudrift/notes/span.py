"""The span: a chord as lenses see it."""

import msgspec

from cloudrift.notes.touch import ChordTouch


class Span(msgspec.Struct, frozen=True, kw_only=True):
    """A chord as notes see it: a stretch of the loop, its voices (MIDI numbers) and its root.

    ``hits`` are where it is struck and how long each stroke is held (ticks from the loop's start);
    without them it is struck once and held throughout. ``tied`` voices ring on from the chord
    before. ``touch`` is how this chord alone is played, where it differs from the layer's way.
    """

    start_tick: int
    length_ticks: int
    voices: tuple[int, ...]
    root: int
    hits: tuple[tuple[int, int], ...] = ()
    tied: tuple[int, ...] = ()
    touch: ChordTouch | None = None

    @property
    def strokes(self) -> tuple[tuple[int, int], ...]:
        """Where it is struck: at least once."""
        return self.hits or ((self.start_tick, self.length_ticks),)
