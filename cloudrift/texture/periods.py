"""What repeats in time with the loop: rates as note values, bent so that they divide it."""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.looped import Looped, slice_wrapped
from cloudrift.ground.lru import memoize
from cloudrift.ground.settings import Field, ResolvedSettings, Settings
from cloudrift.notes.time import LONG_VALUES, NOTE_VALUES, TICKS_PER_QUARTER
from cloudrift.texture.context import Context
from cloudrift.texture.process import Near, Process

RATES = {**LONG_VALUES, **NOTE_VALUES}
SYNCED = {name: ticks for name, ticks in NOTE_VALUES.items() if ticks <= 1920}

Moments = NDArray[np.int64]  # frames of a loop
Gains = NDArray[np.float32]  # (2, moments): of left and right, or of middle and side
Curve = Callable[[ResolvedSettings, Context, Moments], Gains]


def seconds_of(value: str, tempo: float) -> float:
    """Return how long a note value lasts at a tempo (BPM)."""
    return RATES[value] / TICKS_PER_QUARTER * 60 / tempo


def rate_field(default: str, label: str = "Rate") -> Field:
    """Return a rate as a note value."""
    return Field(name="rate", label=label, default=default, choices=tuple(RATES))


def rate_words(full: ResolvedSettings) -> str:
    """Say how often it comes."""
    return f"every {full.word('rate')}"


def turns(value: str, context: Context) -> int:
    """Return how often a note value fits into the loop: at least once, always a whole number."""
    return max(1, round(context.loop_s / seconds_of(value, context.tempo)))


def phase(count: float, context: Context, at: Moments, start: float = 0.0) -> NDArray[np.float64]:
    """Return where in its period something is, 0 to 1, at some frames; it turns so often a loop."""
    return np.asarray((start + count * (at / context.loop_frames)) % 1.0)


def all_of(context: Context) -> Moments:
    """Return the frames of a loop."""
    return np.arange(context.loop_frames)


def stretch_of(context: Context, start: int, count: int) -> Moments:
    """Return some frames of a loop from one on, round the seam."""
    return np.arange(start, start + count) % context.loop_frames


def by_side(curve: Curve) -> tuple[Process, Near]:
    """Return how a gain over time is laid on left and right, whole and in part."""
    return _pointwise(curve, lambda audio, gains: audio * gains)


def by_width(curve: Curve) -> tuple[Process, Near]:
    """Return how a gain over time is laid on the middle and the side signal."""

    def lay(audio: Stereo, gains: Gains) -> Stereo:
        middle = (audio[0] + audio[1]) * (np.float32(0.5) * gains[0])
        side = (audio[0] - audio[1]) * (np.float32(0.5) * gains[1])
        return np.stack([middle + side, middle - side])

    return _pointwise(curve, lay)


def _pointwise(curve: Curve, lay: Callable[[Stereo, Gains], Stereo]) -> tuple[Process, Near]:
    def process(audio: Stereo, full: ResolvedSettings, _variation: int, context: Context) -> Stereo:
        return lay(audio, context.tiled(_whole(curve, tuple(full.items()), context)))

    def stretch(
        audio: Looped,
        full: ResolvedSettings,
        _variation: int,
        context: Context,
        start: int,
        count: int,
    ) -> Stereo:
        gains = curve(full, context, stretch_of(context, start, count))
        return lay(slice_wrapped(audio, start, count), gains)

    return process, Near(process=stretch, reach=lambda _full, _variation, _context: 0)


@memoize
def _whole(curve: Curve, settings: Settings, context: Context) -> Gains:
    return curve(ResolvedSettings(dict(settings)), context, all_of(context))
