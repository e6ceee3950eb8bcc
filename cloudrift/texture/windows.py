"""What is done window by window: played slower, or its start again and again."""

import functools

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.wrap import read_displaced, read_stretch, taken
from cloudrift.ground.settings import Field, Full, SettingsSpec
from cloudrift.texture.kind import Context, Kind, Near
from cloudrift.texture.periods import SLOW, SYNCED, seconds_of

WINDOWS = {**{name: name for name in SYNCED}, "1/1": "1/1", **{name: name for name in SLOW}}
SPEEDS = {"half": 2, "a quarter": 4}
FADE_S = 0.006
Curve = NDArray[np.float32]


def _edges(value: str, context: Context) -> NDArray[np.int64]:
    """Where windows begin, and the loop's end; a whole number of them fills the loop."""
    count = max(1, round(context.loop_s / seconds_of(value, context.tempo)))
    return np.round(np.arange(count + 1) * context.loop_frames / count).astype(np.int64)


def _into(value: str, context: Context) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """How far into its window each frame is, and how long that window is."""
    edges = _edges(value, context)
    sizes = np.diff(edges)
    return (np.arange(edges[-1]) - np.repeat(edges[:-1], sizes)), np.repeat(sizes, sizes)


def _joined(into: NDArray[np.int64], sizes: NDArray[np.int64], rate: int) -> Curve:
    """A level that dips where something begins anew, so that nothing clicks."""
    fade = max(2, int(FADE_S * rate))
    near = np.minimum(into, sizes - into)
    return (0.5 - 0.5 * np.cos(np.pi * np.minimum(1.0, near / fade))).astype(np.float32)


# --- slow -----------------------------------------------------------------------------------------


@functools.lru_cache(maxsize=8)
def _slow_course(value: str, speed: int, context: Context) -> tuple[Curve, Curve]:
    into, sizes = _into(value, context)
    away = -(into * (1 - 1 / speed)).astype(np.float32)
    return away, _joined(into, sizes, context.rate)


def _course(full: Full, context: Context) -> tuple[Curve, Curve]:
    return _slow_course(full.word("window"), SPEEDS[full.word("speed")], context)


def _slow(audio: Stereo, full: Full, _draw: int, context: Context) -> Stereo:
    away, level = _course(full, context)
    return read_displaced(audio, away) * context.tiled(level)


def _slow_stretch(
    audio: Stereo, full: Full, _draw: int, context: Context, start: int, count: int
) -> Stereo:
    away, level = _course(full, context)
    read = read_stretch(audio, taken(away, start, count), start)
    return np.asarray(read * taken(level, start, count))


def _slow_reach(full: Full, _draw: int, context: Context) -> int:
    return int(np.diff(_edges(full.word("window"), context)).max()) + 8


def _slow_says(full: Full) -> str:
    speed = SPEEDS[full.word("speed")]
    octaves = {2: "an octave", 4: "two octaves"}[speed]
    return (f"the first {'half' if speed == 2 else 'quarter'} of every {full.word('window')} is "
            f"heard, at {full.word('speed')} of the speed, {octaves} lower")  # fmt: skip


SOME = Field(name="window", label="Window", default="1/1", choices=tuple(WINDOWS))
SLOWED = Kind(
    name="slow", label="Slow", family="Time",
    about="Each window at half or a quarter of its speed, an octave or two lower.",
    spec=SettingsSpec((
        Field(name="speed", label="Speed", default="half", choices=tuple(SPEEDS)), SOME,
    )),
    says=_slow_says, process=_slow, near=Near(process=_slow_stretch, reach=_slow_reach),
)  # fmt: skip


# --- stutter --------------------------------------------------------------------------------------


@functools.lru_cache(maxsize=8)
def _stutter_course(window: str, slice_: str, share: float, context: Context
                    ) -> tuple[NDArray[np.int64], Curve]:  # fmt: skip
    """Which frame is heard at each, and the level: the window's last part repeats a slice."""
    into, sizes = _into(window, context)
    size = max(64, round(seconds_of(slice_, context.tempo) * context.rate))
    begins = np.round(sizes * (1 - share)).astype(np.int64)
    repeats = into >= begins
    inside = np.where(repeats, (into - begins) % size, 0)
    frame = np.arange(len(into))
    source = np.where(repeats, frame - (into - begins) + inside, frame)
    ends = np.minimum(size, sizes - begins)
    level = np.where(repeats, _joined(inside, np.maximum(ends, 2), context.rate), 1.0)
    level = np.minimum(level, _joined(np.abs(into - begins), sizes * 2, context.rate))
    return source, level.astype(np.float32)


def _stutter_of(full: Full, context: Context) -> tuple[NDArray[np.int64], Curve]:
    share = full.number("share") / 100
    return _stutter_course(full.word("window"), full.word("slice"), share, context)


def _stutter(audio: Stereo, full: Full, _draw: int, context: Context) -> Stereo:
    source, level = _stutter_of(full, context)
    n = context.loop_frames
    places = np.concatenate([source + turn * n for turn in range(context.passes)])
    return audio[:, places] * context.tiled(level)


def _stutter_stretch(
    audio: Stereo, full: Full, _draw: int, context: Context, start: int, count: int
) -> Stereo:
    source, level = _stutter_of(full, context)
    heard = source.take(np.arange(start, start + count), mode="wrap")
    return audio[:, heard] * taken(level, start, count)


STUTTER = Kind(
    name="stutter", label="Stutter", family="Time",
    about="The end of each window repeats a slice of it.",
    spec=SettingsSpec((
        Field(name="window", label="Window", default="1/1", choices=tuple(WINDOWS)),
        Field(name="slice", label="Slice", default="1/16", choices=tuple(SYNCED)),
        Field(name="share", label="From the end", default=25, unit="%", low=0, high=100),
    )),
    says=lambda full: (f"the last {full.number('share'):.0f} % of every {full.word('window')} in "
                       f"slices of {full.word('slice')}"),
    process=_stutter, near=Near(process=_stutter_stretch, reach=_slow_reach),
)  # fmt: skip
KINDS = (SLOWED, STUTTER)
