"""Slots: a step effect. Each of eight steps plays what comes as it is, or otherwise."""

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.looped import Looped, slice_wrapped
from cloudrift.audio.wrap import filter_circular, read_stretch
from cloudrift.ground.lru import memoize
from cloudrift.ground.settings import Field, ResolvedSettings, SettingsSpec
from cloudrift.texture.context import Context
from cloudrift.texture.kind import Kind
from cloudrift.texture.kinds.windows import Curve, edges_of, into_of, joined
from cloudrift.texture.moves import Move, repeats, windows
from cloudrift.texture.periods import SYNCED
from cloudrift.texture.picture import Portrait, moments, shown_beats
from cloudrift.texture.process import Near

COUNT, STRIKES = 8, 4
AS_IT_IS, STUTTER, BACKWARD, OCTAVE, SLOW, NARROW, SILENCE = (
    "as it is",
    "stutter",
    "backward",
    "octave up",
    "slow",
    "narrow",
    "silence",
)
WHAT = (AS_IT_IS, STUTTER, BACKWARD, OCTAVE, SLOW, NARROW, SILENCE)
USUAL = (AS_IT_IS, AS_IT_IS, AS_IT_IS, STUTTER, AS_IT_IS, BACKWARD, AS_IT_IS, NARROW)
BAND_HZ = (500.0, 1900.0)
HALF_BAND = 0.2  # of the rate: what is read twice as fast must not fold back
RING_S = 0.05


SLOT_NAMES = tuple(f"slot_{i + 1}" for i in range(COUNT))


def shape_of(what: str, points: int) -> tuple[NDArray[np.float64], float]:
    """Return what becomes of a blow that dies away over a slot, (points,) from 0 to 1, drawn.

    And how high it is drawn: a narrow band leaves less of it.
    """
    into = np.arange(points) / points
    read = {
        STUTTER: into * STRIKES % 1 / STRIKES,
        BACKWARD: 1 - into,
        OCTAVE: 2 * into % 1,
        SLOW: into / 2,
    }.get(what, into)
    level = np.zeros(points) if what == SILENCE else np.exp(-3 * read)
    return level, 0.4 if what == NARROW else 1.0


def _pattern(full: ResolvedSettings) -> tuple[str, ...]:
    return tuple(full.word(name) for name in SLOT_NAMES)


@memoize
def _course(value: str, pattern: tuple[str, ...], context: Context) -> tuple[Curve, Curve, Curve]:
    """How far away from each frame is what is heard there, at which level; and what the slot does.

    Where a slot differs from the one beside it, the level dips over the edge.
    """
    edges = edges_of(value, context)
    into, sizes = into_of(edges)
    slots = np.arange(len(edges) - 1)
    number = np.array([WHAT.index(pattern[i % COUNT]) for i in slots], np.int8)
    does = np.repeat(number, np.diff(edges))
    part = np.maximum(sizes // STRIKES, 1)
    away = np.select(
        [does == WHAT.index(what) for what in (STUTTER, BACKWARD, OCTAVE, SLOW)],
        [into % part - into, sizes - 1 - 2 * into, 2 * into % sizes - into, into / 2 - into],
        0.0,
    )
    level = np.where(does == WHAT.index(SILENCE), 0.0, 1.0)
    inside = np.select(
        [does == WHAT.index(STUTTER), does == WHAT.index(OCTAVE)],
        [into % part, 2 * into % sizes],
        into,
    )
    long = np.where(does == WHAT.index(STUTTER), part, sizes)
    level = level * np.where(
        np.isin(does, (WHAT.index(STUTTER), WHAT.index(OCTAVE))),
        joined(inside, np.maximum(long, 2), context.rate),
        1.0,
    )
    meets = _edges_that_differ(number, sizes, into, edges)
    level = np.where(meets, level * joined(into, sizes, context.rate), level)
    return away.astype(np.float32), level.astype(np.float32), does.astype(np.float32)


def _edges_that_differ(
    number: NDArray[np.int8],
    sizes: NDArray[np.int64],
    into: NDArray[np.int64],
    edges: NDArray[np.int64],
) -> NDArray[np.bool_]:
    """Of each frame, whether the edge of its slot that is nearer lies beside another kind of slot.

    Slots that move what they play differ from their neighbours always.
    """
    moves = ~np.isin(number, [WHAT.index(what) for what in (AS_IT_IS, NARROW, SILENCE)])
    before = (number != np.roll(number, 1)) | moves | np.roll(moves, 1)
    behind = np.roll(before, -1)
    lengths = np.diff(edges)
    return np.where(into < sizes - into, np.repeat(before, lengths), np.repeat(behind, lengths))


def _slots(audio: Stereo, full: ResolvedSettings, variation: int, context: Context) -> Stereo:
    return _stretch(audio, full, variation, context, 0, audio.shape[1])


def _stretch(
    audio: Looped, full: ResolvedSettings, _variation: int, context: Context, start: int, count: int
) -> Stereo:
    away, level, does = (
        slice_wrapped(curve, start, count)
        for curve in _course(full.word("slot"), _pattern(full), context)
    )
    beside = _reach(full, 0, context)
    around = slice_wrapped(audio, start - beside, count + 2 * beside)
    out = np.array(around[:, beside : beside + count])
    moved = np.isin(does, [WHAT.index(what) for what in (STUTTER, BACKWARD, SLOW)])
    for here, through, reads in (
        (does == WHAT.index(NARROW), _narrowed, False),
        (does == WHAT.index(OCTAVE), _lowered, True),
        (moved, None, True),
    ):
        if not here.any():
            continue
        heard = around if through is None else through(around, context.rate)
        placed = heard[:, beside : beside + count]
        out[:, here] = (read_stretch(heard, away, beside) if reads else placed)[:, here]
    return np.asarray(out * level, np.float32)


def _reach(full: ResolvedSettings, _variation: int, context: Context) -> int:
    longest = int(np.diff(edges_of(full.word("slot"), context)).max())
    return longest + int(RING_S * context.rate) + 8


def _narrowed(audio: Stereo, rate: int) -> Stereo:
    """What a small speaker lets through."""
    low, high = BAND_HZ
    return _through(
        audio,
        rate,
        lambda hz: 1 / np.sqrt((1 + (low / np.maximum(hz, 1.0)) ** 8) * (1 + (hz / high) ** 8)),
    )


def _lowered(audio: Stereo, rate: int) -> Stereo:
    """Without what would fold back when it is read twice as fast."""
    edge = HALF_BAND * rate
    return _through(audio, rate, lambda hz: 1 / np.sqrt(1 + (hz / edge) ** 24))


def _through(
    audio: Stereo, rate: int, response: Callable[[NDArray[np.floating[Any]]], Any]
) -> Stereo:
    def filtered(spectrum: NDArray[np.complex64], length: int) -> NDArray[np.complex64]:
        hz = np.fft.rfftfreq(length, 1 / rate)
        return spectrum * response(hz).astype(np.float32)

    return filter_circular(audio, filtered, int(RING_S * rate))


def _moves(full: ResolvedSettings, ticks: int, _cuts: tuple[int, ...]) -> tuple[Move, ...]:
    out = []
    pattern = _pattern(full)
    for i, (a, b) in enumerate(windows(full.word("slot"), ticks)):
        size = b - a
        out += {
            STUTTER: repeats(a, b, a, size / STRIKES),
            BACKWARD: [Move(a, b, b, -1.0)],
            OCTAVE: repeats(a, b, a, size / 2, speed=2.0),
            SLOW: [Move(a, b, a, 0.5)],
            SILENCE: [],
        }.get(pattern[i % COUNT], [Move(a, b, a)])
    return tuple(out)


def _says(full: ResolvedSettings) -> str:
    parts = [f"{i + 1} {what}" for i, what in enumerate(_pattern(full)) if what != AS_IT_IS]
    return f"of {COUNT} slots of {full.word('slot')}: {', '.join(parts) or 'all unchanged'}"


def _picture(full: ResolvedSettings, _variation: int, context: Context) -> Portrait:
    away, _level, _does = _course(full.word("slot"), _pattern(full), context)
    heard = (np.arange(context.loop_frames) + away) % context.loop_frames
    return moments([heard], shown_beats("1/1", context), context)


SLOTS = Kind(
    name="slots",
    label="Slots",
    family="Motion",
    about="Eight steps, each unchanged, repeated, reversed, up an octave, half speed, narrow or "
    "silent.",
    spec=SettingsSpec(
        (
            Field(name="slot", label="Slot length", default="1/8", choices=tuple(SYNCED)),
            *(
                Field(name=f"slot_{i + 1}", label=f"Slot {i + 1}", default=what, choices=WHAT)
                for i, what in enumerate(USUAL)
            ),
        )
    ),
    says=_says,
    process=_slots,
    near=Near(process=_stretch, reach=_reach),
    moves=_moves,
    picture=_picture,
)
