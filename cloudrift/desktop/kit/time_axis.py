"""Where a time is in a picture: every picture over time asks this, and none counts for itself."""

from dataclasses import dataclass
from typing import Any, overload

import numpy as np
from numpy.typing import NDArray

Curve = NDArray[np.float64]


@dataclass(frozen=True)
class TimeAxis:
    """``ticks`` from ``first`` on, over that many ``pixels`` from ``left`` on.

    With 1 tick they are shares of the loop.
    """

    left: float
    pixels: float
    ticks: float = 1.0
    first: float = 0.0

    @overload
    def at_x(self, tick: float) -> float: ...
    @overload
    def at_x(self, tick: NDArray[Any]) -> Curve: ...
    def at_x(self, tick: float | NDArray[Any]) -> float | Curve:
        """Return the pixel of a tick, or of several."""
        return self.left + self.px(tick - self.first)

    @overload
    def px(self, ticks: float) -> float: ...
    @overload
    def px(self, ticks: NDArray[Any]) -> Curve: ...
    def px(self, ticks: float | NDArray[Any]) -> float | Curve:
        """Return how many pixels that many ticks are."""
        return ticks / self.ticks * self.pixels

    def tick_at(self, x: float) -> float:
        """Return the tick of a pixel."""
        return self.first + self.ticks_of(x - self.left)

    def ticks_of(self, pixels: float) -> float:
        """Return how many ticks that many pixels are."""
        return pixels / max(1.0, self.pixels) * self.ticks

    def nearest(self, x: float) -> float:
        """Return the tick of a pixel; that of the nearer end where it lies outside."""
        return min(max(self.tick_at(x), self.first), self.first + self.ticks)
