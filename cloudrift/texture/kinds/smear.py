"""Smear: overlapping grains of what was heard a moment ago, some of them at another pitch."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.looped import Looped
from cloudrift.audio.wrap import read_splined, read_stretch, splined
from cloudrift.ground.draws import rng_for
from cloudrift.ground.lru import memoize
from cloudrift.ground.settings import Field, ResolvedSettings, Settings, SettingsSpec, percent
from cloudrift.texture.context import Context
from cloudrift.texture.kind import Kind
from cloudrift.texture.periods import Moments, all_of, stretch_of
from cloudrift.texture.picture import BEATS_SHOWN, Portrait, beats_of, moments
from cloudrift.texture.process import Near

STREAMS = 4  # of grains at once, each a quarter of a grain after the one before
PITCHES = {
    "as it is": (0,),
    "an octave above": (12,),
    "an octave below": (-12,),
    "some an octave above": (0, 0, 12),
    "octaves above and below": (0, 12, -12),
    "fifths and octaves": (0, 7, 12),
}
Courses = tuple[NDArray[np.float32], NDArray[np.float32], NDArray[np.float32]]


def courses_of(full: ResolvedSettings, variation: int, context: Context, at: Moments) -> Courses:
    """Return how far back each stream reads (frames), and its level left and right.

    They are (streams, moments) each. A whole number of grains fills the loop. A grain at another
    pitch moves towards or away from the present while it lasts, and is never ahead of it.
    """
    n, rate = context.loop_frames, context.rate
    count = max(1, round(n / (full.number("grain_ms") * 1e-3 * rate)))
    rng = rng_for(variation, "smear", count)
    grain, width = n / count, full.number("width") / 100
    reach = full.number("reach_ms") * 1e-3 * rate
    away = np.empty((STREAMS, len(at)), np.float32)
    sides = np.empty((2, STREAMS, len(at)), np.float32)
    for k in range(STREAMS):
        place = (at / grain - k / STREAMS) % count
        which = np.minimum(place.astype(np.int64), count - 1)
        into = ((place - which) * grain).astype(np.float32)
        back = (rng.random(count) ** 1.5 * reach).astype(np.float32)
        ratio = (2.0 ** (rng.choice(PITCHES[full.word("pitch")], count) / 12) - 1).astype(
            np.float32
        )
        away[k] = ratio[which] * into - (back + np.maximum(ratio * np.float32(grain), 0))[which]
        window = np.sin(np.float32(np.pi / grain) * into) ** 2 * np.float32(np.sqrt(4 / STREAMS))
        pan = width * rng.uniform(-1, 1, count) * np.pi / 4 + np.pi / 4
        sides[0, k] = window * np.cos(pan).astype(np.float32)[which]
        sides[1, k] = window * np.sin(pan).astype(np.float32)[which]
    return away, sides[0], sides[1]


@memoize
def _whole(settings: Settings, variation: int, context: Context) -> Courses:
    return courses_of(ResolvedSettings(dict(settings)), variation, context, all_of(context))


def _smear(audio: Stereo, full: ResolvedSettings, variation: int, context: Context) -> Stereo:
    away, left, right = _whole(tuple(full.items()), variation, context)
    spline, out = splined(audio), np.zeros_like(audio)
    for k in range(STREAMS):
        out += read_splined(spline, away[k]) * context.tiled(np.stack([left[k], right[k]]))
    return out


def _stretch(
    audio: Looped, full: ResolvedSettings, variation: int, context: Context, start: int, count: int
) -> Stereo:
    away, left, right = courses_of(full, variation, context, stretch_of(context, start, count))
    out = np.zeros((2, count), np.float32)
    for k in range(STREAMS):
        out += read_stretch(audio, away[k], start) * np.stack([left[k], right[k]])
    return out


def _reach(full: ResolvedSettings, _variation: int, context: Context) -> int:
    longest = full.number("reach_ms") + 2 * full.number("grain_ms")
    return int(longest * 1e-3 * context.rate) + 64


def _picture(full: ResolvedSettings, variation: int, context: Context) -> Portrait:
    away, _, _ = courses_of(full, variation, context, all_of(context))
    beats = min(beats_of(context), BEATS_SHOWN)
    return moments(list(np.arange(context.loop_frames) + away), beats, context)


def _pitches(full: ResolvedSettings) -> tuple[tuple[float, float], ...]:
    chosen = PITCHES[full.word("pitch")]
    shares = {one: chosen.count(one) / len(chosen) for one in dict.fromkeys(chosen)}
    return tuple((float(one), float(10 * np.log10(share))) for one, share in shares.items())


SMEAR = Kind(
    name="granular",
    label="Granular",
    family="Space",
    about="Granular: turns chords into a bed of grains, also at other pitches.",
    spec=SettingsSpec(
        (
            Field(
                name="grain_ms",
                label="Grain",
                default=180,
                unit="ms",
                low=30,
                high=800,
                log=True,
                follows="tempo",
            ),
            Field(
                name="reach_ms",
                label="Reach",
                default=600,
                unit="ms",
                low=0,
                high=2500,
                step=10,
                follows="tempo",
            ),
            Field(
                name="pitch", label="Pitch", default="some an octave above", choices=tuple(PITCHES)
            ),
            percent("width", "Width", 80),
        )
    ),
    says=lambda full: (
        f"grains of {full.number('grain_ms'):.0f} ms from the last "
        f"{full.number('reach_ms') / 1000:.2g} s, {full.word('pitch')}"
    ),
    process=_smear,
    near=Near(process=_stretch, reach=_reach),
    picture=_picture,
    pitches=_pitches,
    blend=0.5,
    draws=True,
)
