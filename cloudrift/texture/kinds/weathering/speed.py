"""A playing speed that strays: slow (wow), quick (flutter), with the record's turning (warp)."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.looped import slice_wrapped
from cloudrift.audio.wrap import circular_noise
from cloudrift.ground.draws import rng_for
from cloudrift.ground.lru import memoize

TURN_HZ = 33.333 / 60  # a record's turning rate
WOW_HZ, FLUTTER_HZ = (0.3, 2.2), (6.0, 13.0)
PARTS = ("wow", "flutter", "warp")


def speed_curve(part: str, variation: int, frames: int, rate: int) -> NDArray[np.float64]:
    """Return how the pitch strays over one loop of ``frames``: peak 1, mean 0, the loop's period.

    Wow and flutter are random in their bands; warp turns a whole number of times a loop.
    """
    loop_s = frames / rate
    if part == "warp":
        turns = max(1, round(TURN_HZ * loop_s))
        place = 2 * np.pi * (turns * np.arange(frames) / frames + rng_for(variation, part).random())
        curve = np.sin(place) + 0.22 * np.sin(2 * place + 1.0)
    else:
        low, high = WOW_HZ if part == "wow" else FLUTTER_HZ
        curve = circular_noise(rng_for(variation, part), frames, low * loop_s, high * loop_s)
    curve = curve - curve.mean()
    return np.asarray(curve / np.abs(curve).max())


@memoize
def _stray(part: str, variation: int, frames: int, rate: int) -> NDArray[np.float32]:
    """How far the playing place strays in frames, for a speed that strays by 1."""
    return displaced_by(speed_curve(part, variation, frames, rate))


def displaced_by(speed: NDArray[np.float64]) -> NDArray[np.float32]:
    """Return how far a place strays, in frames, whose speed strays so over a loop (mean: 0)."""
    away = np.cumsum(speed - speed.mean())
    return (away - away.mean()).astype(np.float32)


def cents_to_speed(cents: float) -> np.float32:
    """Return the change of speed that a small change of pitch is."""
    return np.float32(2 ** (cents / 1200) - 1)


def strayed(
    cents: dict[str, float],
    variation: int,
    frames: int,
    rate: int,
    where: tuple[int, int] | None = None,
) -> NDArray[np.float32] | None:
    """Return how far each frame is read from its place, (frames,); None where nothing strays.

    ``cents`` holds the peak of each part of PARTS. ``where`` is a first frame and a count: only
    those, round the seam.
    """
    out: NDArray[np.float32] | None = None
    for part, peak in cents.items():
        if peak > 0:
            stray = slice_wrapped(_stray(part, variation, frames, rate), *(where or (0, frames)))
            more = stray * cents_to_speed(peak)
            out = more if out is None else np.add(out, more, out=out)
    return out


def strays_most(cents: dict[str, float], variation: int, frames: int, rate: int) -> int:
    """Return how many frames away from its place any frame is read at most."""
    return (
        int(
            sum(
                _most(part, variation, frames, rate) * cents_to_speed(peak)
                for part, peak in cents.items()
                if peak > 0
            )
        )
        + 1
    )


@memoize
def _most(part: str, variation: int, frames: int, rate: int) -> float:
    return float(np.abs(_stray(part, variation, frames, rate)).max())
