"""The context that a treatment works in."""

from dataclasses import dataclass, replace

import numpy as np

from cloudrift.theory.key import Key

C_MINOR = Key()


@dataclass(frozen=True, kw_only=True)
class Context:
    """Where a treatment works: rate, the loop's length and tempo at this place, chord starts.

    ``exact_frames`` is the loop's length before rounding. ``passes`` is 1 for the steady state;
    a one-pass render is a loop with silence after it, that many loop lengths long, so that the
    same code serves: nothing is left to wrap round. ``cuts`` are the chord starts in frames,
    ``key`` is what is heard here.
    """

    rate: int
    exact_frames: float
    tempo: float
    cuts: tuple[int, ...] = (0,)
    passes: int = 1
    once: bool = False
    key: Key = C_MINOR

    @property
    def loop_frames(self) -> int:
        """The period of everything that repeats."""
        return round(round(self.exact_frames, 4))  # floats of exact fractions, cleaned

    @property
    def frames(self) -> int:
        """The length of the audio handed in."""
        return self.passes * self.loop_frames

    @property
    def loop_s(self) -> float:
        """The period in seconds."""
        return self.exact_frames / self.rate

    def depends(self, *, in_key: bool) -> tuple[object, ...]:
        """All that a treatment can ask of it, as plain values; the key only of those that do."""
        key = self.key.plain if in_key else ""
        return (self.rate, self.exact_frames, self.tempo, self.cuts, self.passes, self.once, key)

    def stretched(self, ratio: float) -> "Context":
        """Return the context after a change of length by ``ratio`` (2 = twice as long)."""
        if ratio == 1:
            return self
        return replace(
            self,
            exact_frames=self.exact_frames * ratio,
            tempo=self.tempo / ratio,
            cuts=tuple(round(cut * ratio) for cut in self.cuts),
        )

    def in_key(self, key: Key) -> "Context":
        """Return the context where another key is heard."""
        return self if key == self.key else replace(self, key=key)

    def tiled(self, period: np.ndarray) -> np.ndarray:
        """Repeat something with the loop's period over the whole length (last axis)."""
        return np.tile(period, self.passes)
