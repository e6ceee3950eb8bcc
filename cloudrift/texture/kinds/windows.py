"""What is done window by window: played slower, or its start again and again."""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.looped import Looped, frames_at, slice_wrapped
from cloudrift.audio.wrap import read_displaced, read_stretch
from cloudrift.ground.lru import memoize
from cloudrift.ground.settings import Field, ResolvedSettings, SettingsSpec
from cloudrift.notes.time import LONG_VALUES
from cloudrift.texture.context import Context
from cloudrift.texture.kind import Kind
from cloudrift.texture.moves import Move, between, repeats, windows
from cloudrift.texture.periods import RATES, SYNCED, seconds_of
from cloudrift.texture.picture import Portrait, beats_of, moments, shown_beats
from cloudrift.texture.process import Near, Process

WINDOWS = (*SYNCED, "1/1", *LONG_VALUES)
SPEEDS = {"half": 2, "a quarter": 4}
FADE_S = 0.006
Curve = NDArray[np.float32]


def edges_of(value: str, context: Context) -> NDArray[np.int64]:
    """Where windows begin, and the loop's end; a whole number of them fills the loop."""
    count = max(1, round(context.loop_s / seconds_of(value, context.tempo)))
    return np.round(np.arange(count + 1) * context.loop_frames / count).astype(np.int64)


def into_of(edges: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """How far into its window each frame is, and how long that window is."""
    sizes = np.diff(edges)
    return (np.arange(edges[-1]) - np.repeat(edges[:-1], sizes)), np.repeat(sizes, sizes)


def joined(into: NDArray[np.int64], sizes: NDArray[np.int64], rate: int) -> Curve:
    """A level that dips where something begins again, so that nothing clicks."""
    fade = max(2, int(FADE_S * rate))
    near = np.minimum(into, sizes - into)
    return (0.5 - 0.5 * np.cos(np.pi * np.minimum(1.0, near / fade))).astype(np.float32)


# --- slow -----------------------------------------------------------------------------------------


@memoize
def _slow_course(value: str, speed: int, context: Context) -> tuple[Curve, Curve]:
    into, sizes = into_of(edges_of(value, context))
    away = -(into * (1 - 1 / speed)).astype(np.float32)
    return away, joined(into, sizes, context.rate)


def _course(full: ResolvedSettings, context: Context) -> tuple[Curve, Curve]:
    return _slow_course(full.word("window"), SPEEDS[full.word("speed")], context)


def _slow(audio: Stereo, full: ResolvedSettings, _variation: int, context: Context) -> Stereo:
    away, level = _course(full, context)
    return read_displaced(audio, away) * context.tiled(level)


def _slow_stretch(
    audio: Looped, full: ResolvedSettings, _variation: int, context: Context, start: int, count: int
) -> Stereo:
    away, level = _course(full, context)
    read = read_stretch(audio, slice_wrapped(away, start, count), start)
    return np.asarray(read * slice_wrapped(level, start, count))


def _slow_reach(full: ResolvedSettings, _variation: int, context: Context) -> int:
    return int(np.diff(edges_of(full.word("window"), context)).max()) + 8


def _slow_says(full: ResolvedSettings) -> str:
    speed = SPEEDS[full.word("speed")]
    octaves = {2: "an octave", 4: "two octaves"}[speed]
    return (
        f"the first {'half' if speed == 2 else 'quarter'} of every {full.word('window')} "
        f"plays at {full.word('speed')} of the speed, {octaves} down"
    )


def _slow_picture(full: ResolvedSettings, _variation: int, context: Context) -> Portrait:
    heard = np.arange(context.loop_frames) + _course(full, context)[0]
    return moments([heard], shown_beats(full.word("window"), context), context)


def _slow_moves(full: ResolvedSettings, ticks: int, _cuts: tuple[int, ...]) -> tuple[Move, ...]:
    speed = 1 / SPEEDS[full.word("speed")]
    return tuple(Move(a, b, a, speed) for a, b in windows(full.word("window"), ticks))


SOME = Field(name="window", label="Window", default="1/1", choices=WINDOWS)
SLOWED = Kind(
    name="half speed",
    label="Half speed",
    family="Time",
    about="Half-speed: each window at half or a quarter of its speed, an octave or two down.",
    spec=SettingsSpec(
        (Field(name="speed", label="Speed", default="half", choices=tuple(SPEEDS)), SOME)
    ),
    says=_slow_says,
    process=_slow,
    near=Near(process=_slow_stretch, reach=_slow_reach),
    moves=_slow_moves,
    picture=_slow_picture,
    rumbles=True,
)


# --- other frames in place of those that come ------------------------------------------------

Sources = Callable[[ResolvedSettings, Context], tuple[NDArray[np.int64], Curve]]


def _reordered(
    sources: Sources, reach: Callable[[ResolvedSettings, int, Context], int]
) -> tuple[Process, Near]:
    """Return how other frames are heard at each (``sources``, with a level), whole and in part."""

    def process(audio: Stereo, full: ResolvedSettings, _variation: int, context: Context) -> Stereo:
        source, level = sources(full, context)
        places = np.concatenate(
            [source + turn * context.loop_frames for turn in range(context.passes)]
        )
        return audio[:, places % audio.shape[1]] * context.tiled(level)

    def stretch(
        audio: Looped,
        full: ResolvedSettings,
        _variation: int,
        context: Context,
        start: int,
        count: int,
    ) -> Stereo:
        source, level = sources(full, context)
        heard = source.take(np.arange(start, start + count), mode="wrap") % audio.shape[1]
        return frames_at(audio, heard) * slice_wrapped(level, start, count)

    return process, Near(process=stretch, reach=reach)


# --- stutter --------------------------------------------------------------------------------------


@memoize
def _stutter_course(
    window: str, slice_: str, share: float, context: Context
) -> tuple[NDArray[np.int64], Curve]:
    """Which frame is heard at each, and the level: the window's last part repeats a slice."""
    into, sizes = into_of(edges_of(window, context))
    size = max(64, round(seconds_of(slice_, context.tempo) * context.rate))
    begins = np.round(sizes * (1 - share)).astype(np.int64)
    repeats = into >= begins
    inside = np.where(repeats, (into - begins) % size, 0)
    frame = np.arange(len(into))
    source = np.where(repeats, frame - (into - begins) + inside, frame)
    ends = np.minimum(size, sizes - begins)
    level = np.where(repeats, joined(inside, np.maximum(ends, 2), context.rate), 1.0)
    level = np.minimum(level, joined(np.abs(into - begins), sizes * 2, context.rate))
    return source, level.astype(np.float32)


def _stutter_of(full: ResolvedSettings, context: Context) -> tuple[NDArray[np.int64], Curve]:
    share = full.number("share") / 100
    return _stutter_course(full.word("window"), full.word("slice"), share, context)


def _stutter_picture(full: ResolvedSettings, _variation: int, context: Context) -> Portrait:
    beats = shown_beats(full.word("window"), context)
    return moments([_stutter_of(full, context)[0]], beats, context)


def _stutter_moves(full: ResolvedSettings, ticks: int, _cuts: tuple[int, ...]) -> tuple[Move, ...]:
    out = []
    for a, b in windows(full.word("window"), ticks):
        begins = a + (b - a) * (1 - full.number("share") / 100)
        out.append(Move(a, begins, a))
        out += repeats(begins, b, begins, RATES[full.word("slice")])
    return tuple(out)


_STUTTERED = _reordered(_stutter_of, _slow_reach)
STUTTER = Kind(
    name="stutter",
    label="Stutter",
    family="Time",
    about="Repeats a slice at the end of each window.",
    spec=SettingsSpec(
        (
            Field(name="window", label="Window", default="1/1", choices=WINDOWS),
            Field(name="slice", label="Slice", default="1/16", choices=tuple(SYNCED)),
            Field(name="share", label="Last part", default=25, unit="%", low=0, high=100),
        )
    ),
    says=lambda full: (
        f"the last {full.number('share'):.0f} % of every {full.word('window')} in "
        f"slices of {full.word('slice')}"
    ),
    process=_STUTTERED[0],
    near=_STUTTERED[1],
    moves=_stutter_moves,
    picture=_stutter_picture,
)


# --- replay ---------------------------------------------------------------------------------------


def _chord_edges(context: Context) -> tuple[int, NDArray[np.int64]]:
    """The first chord's start, and chord starts from there on up to the loop's length."""
    n = context.loop_frames
    cuts = sorted({cut % n for cut in context.cuts}) or [0]
    return cuts[0], np.array([cut - cuts[0] for cut in cuts] + [n], np.int64)


@memoize
def _replay_course(
    slice_: str, share: float, fall_db: float, backward: bool, context: Context
) -> tuple[NDArray[np.int64], Curve]:
    """Which frame is heard at each, and the level.

    The last part of each chord says again, softer each time, the slice that came before it.
    """
    first, edges = _chord_edges(context)
    into, sizes = into_of(edges)
    size = np.minimum(round(seconds_of(slice_, context.tempo) * context.rate), sizes // 2)
    size = np.maximum(size, 64)
    begins = np.maximum(np.round(sizes * (1 - share)).astype(np.int64), size)
    again = into >= begins
    inside = np.where(again, (into - begins) % size, 0)
    heard = size - 1 - inside if backward else inside
    frame = np.arange(len(into))
    source = np.where(again, frame - into + begins - size + heard, frame)
    level = np.where(again, joined(inside, np.maximum(size, 2), context.rate), 1.0)
    level = np.minimum(level, joined(np.abs(into - begins), sizes * 2, context.rate))
    level = np.minimum(level, joined(into, sizes, context.rate))
    times = np.where(again, (into - begins) // size + 1, 0)
    level = level * 10 ** (-fall_db * times / 20)
    # All that was from the first chord's start on; now from the loop's. A chord over the seam
    # reads from the turn before: below 0.
    source = np.roll(source + first, first)
    source[:first] -= len(into)
    return source, np.roll(level, first).astype(np.float32)


def _replay_of(full: ResolvedSettings, context: Context) -> tuple[NDArray[np.int64], Curve]:
    return _replay_course(
        full.word("slice"),
        full.number("share") / 100,
        full.number("fall_db"),
        full.word("way") == "backward",
        context,
    )


def _replay_picture(full: ResolvedSettings, _variation: int, context: Context) -> Portrait:
    heard = _replay_of(full, context)[0] % context.loop_frames
    return moments([heard], beats_of(context), context)


def _replay_reach(_full: ResolvedSettings, _variation: int, context: Context) -> int:
    return int(np.diff(_chord_edges(context)[1]).max()) + 8


def _replay_moves(full: ResolvedSettings, ticks: int, cuts: tuple[int, ...]) -> tuple[Move, ...]:
    out = []
    backward = full.word("way") == "backward"
    for a, b in between(cuts, ticks):
        size = min(RATES[full.word("slice")], (b - a) / 2)
        begins = a + max((b - a) * (1 - full.number("share") / 100), size)
        source, speed = (begins, -1.0) if backward else (begins - size, 1.0)
        out.append(Move(a, begins, a))
        out += repeats(begins, b, source, size, speed=speed, fall_db=full.number("fall_db"))
    return tuple(out)


_REPLAYED = _reordered(_replay_of, _replay_reach)
REPLAY = Kind(
    name="replay",
    label="Replay",
    family="Motion",
    about="Repeats the last slice of each chord, quieter each time.",
    spec=SettingsSpec(
        (
            Field(name="slice", label="Slice", default="1/8", choices=tuple(SYNCED)),
            Field(name="share", label="Last part", default=40, unit="%", low=0, high=90),
            Field(
                name="fall_db",
                label="Quieter by",
                default=2,
                unit="dB",
                low=0,
                high=12,
                step=0.5,
                hint="each time",
            ),
            Field(
                name="way", label="Direction", default="forward", choices=("forward", "backward")
            ),
        )
    ),
    says=lambda full: (
        f"the last {full.number('share'):.0f} % of every chord in slices of "
        f"{full.word('slice')}, {full.number('fall_db'):.1f} dB quieter each time"
    ),
    process=_REPLAYED[0],
    near=_REPLAYED[1],
    moves=_replay_moves,
    picture=_replay_picture,
)
KINDS = (SLOWED, STUTTER, REPLAY)
