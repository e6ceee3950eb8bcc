"""Sweep and swirl: a filter's edge, and notches, that move with the loop."""

from collections.abc import Callable
from functools import partial

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.looped import Looped
from cloudrift.ground.draws import rng_for
from cloudrift.ground.settings import Field, ResolvedSettings, SettingsSpec, hz_text, percent
from cloudrift.texture.context import Context
from cloudrift.texture.frames import FRAME, Gain, filtered, filtered_stretch, hz_of, places
from cloudrift.texture.kind import Kind
from cloudrift.texture.periods import rate_field, rate_words, turns
from cloudrift.texture.picture import POINTS, Portrait, beat_axis, beats_of, hz_axis, shown_beats
from cloudrift.texture.process import Near, Process

SHAPES = ("triangle", "sine", "random", "falling")


def course(
    shape: str, value: str, variation: int, context: Context, share: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Return where a filter is at that many places in the loop (shares of it): 0 to 1."""
    count = turns(value, context)
    place = (count * share) % 1.0
    if shape == "sine":
        return 0.5 - 0.5 * np.cos(2 * np.pi * place)
    if shape == "falling":
        return 1 - place
    if shape == "random":
        rng = rng_for(variation, "sweep", count)
        knots = rng.random(count)
        at = count * share
        low = at.astype(int) % count
        to = at - np.floor(at)
        to = to * to * (3 - 2 * to)
        return np.asarray(knots[low] * (1 - to) + knots[(low + 1) % count] * to)
    return 1 - np.abs(2 * place - 1)


Shares = NDArray[np.float64]  # places in the loop, 0 to 1


def _sweep(full: ResolvedSettings, variation: int, context: Context, at: Shares) -> Gain:
    """A high cut that moves: each short frame is filtered at its own edge."""
    place = course(full.word("shape"), full.word("rate"), variation, context, at)
    low, high = full.number("low_hz"), full.number("high_hz")
    edge = (low * (high / low) ** place).astype(np.float32)
    x = hz_of(context.rate) / edge[:, None]
    q = np.float32(1 / max(0.3, 2 - 1.6 * full.number("peak") / 100))
    return np.asarray(1 / np.sqrt((1 - x * x) ** 2 + (x / q) ** 2), np.float32)


SWIRL_STAGES = 6


def _swirl(full: ResolvedSettings, variation: int, context: Context, at: Shares) -> Gain:
    """Notches that wander: the sound beside itself, turned in phase by a chain that moves.

    Each side is half a turn ahead of the other by as much as the width says.
    """
    depth, width = full.number("depth") / 100, full.number("width") / 100
    low, high = full.number("low_hz"), full.number("high_hz")
    hz = hz_of(context.rate)
    sides = []
    for side in (0.0, 0.5 * width):
        share = (at + side / turns(full.word("rate"), context)) % 1.0
        place = course(full.word("shape"), full.word("rate"), variation, context, share)
        x = hz / (low * (high / low) ** place)[:, None].astype(np.float32)
        turn = -2 * SWIRL_STAGES * np.arctan(x)
        sides.append((1 + depth * np.exp(1j * turn)) / (1 + depth))
    return np.stack(sides).astype(np.complex64)


def _by_frames(
    gain_of: Callable[[ResolvedSettings, int, Context, Shares], Gain],
) -> tuple[Process, Near]:
    """Return how a gain that moves over frequencies is laid on a sound, whole and in part."""

    def process(audio: Stereo, full: ResolvedSettings, variation: int, context: Context) -> Stereo:
        gain = gain_of(full, variation, context, places(context))
        return filtered(audio, context, lambda _: gain)

    def stretch(
        audio: Looped,
        full: ResolvedSettings,
        variation: int,
        context: Context,
        start: int,
        count: int,
    ) -> Stereo:
        return filtered_stretch(
            audio, context, lambda at: gain_of(full, variation, context, at), start, count
        )

    return process, Near(process=stretch, reach=lambda _full, _variation, _context: FRAME)


def _edge_picture(title: str, full: ResolvedSettings, variation: int, context: Context) -> Portrait:
    """Where a filter that moves is, over the loop."""
    beats = shown_beats(full.word("rate"), context)
    x = np.linspace(0, beats, POINTS, endpoint=False)
    place = course(
        full.word("shape"), full.word("rate"), variation, context, x / beats_of(context) % 1.0
    )
    low, high = full.number("low_hz"), full.number("high_hz")
    return Portrait(
        title=title,
        x=x,
        curves=(low * (high / low) ** place,),
        x_axis=beat_axis(beats),
        y_axis=hz_axis(),
    )


_SWEEP_MOVED = _by_frames(_sweep)
SWEEP = Kind(
    name="sweep",
    label="Filter sweep",
    family="Motion",
    about="Filter sweep: a high cut that moves with the bars.",
    spec=SettingsSpec(
        (
            Field(
                name="low_hz",
                label="Lowest",
                default=350,
                unit="Hz",
                low=60,
                high=4000,
                step=1,
                log=True,
            ),
            Field(
                name="high_hz",
                label="Highest",
                default=7000,
                unit="Hz",
                low=200,
                high=18_000,
                step=10,
                log=True,
            ),
            Field(name="shape", label="Shape", default="triangle", choices=SHAPES),
            rate_field("4 bars"),
            Field(name="peak", label="Resonance", default=20, unit="%", low=0, high=100),
        )
    ),
    says=lambda full: f"{full.word('shape')} between its edges, {rate_words(full)}",
    process=_SWEEP_MOVED[0],
    near=_SWEEP_MOVED[1],
    draws=True,
    picture=partial(_edge_picture, "the edge over time"),
)
_SWIRL_MOVED = _by_frames(_swirl)
SWIRL = Kind(
    name="phaser",
    label="Phaser",
    family="Motion",
    about="Phaser: notches that move up and down.",
    spec=SettingsSpec(
        (
            percent("depth", "Depth", 85),
            rate_field("2 bars"),
            Field(
                name="low_hz",
                label="Lowest",
                default=250,
                unit="Hz",
                low=60,
                high=2000,
                step=1,
                log=True,
            ),
            Field(
                name="high_hz",
                label="Highest",
                default=2600,
                unit="Hz",
                low=500,
                high=10_000,
                step=10,
                log=True,
            ),
            Field(name="shape", label="Shape", default="sine", choices=SHAPES),
            percent("width", "Stereo spread", 50),
        )
    ),
    says=lambda full: (
        f"three notches between {hz_text(full.number('low_hz'))} and "
        f"{hz_text(full.number('high_hz'))}, {rate_words(full)}"
    ),
    process=_SWIRL_MOVED[0],
    near=_SWIRL_MOVED[1],
    draws=True,
    picture=partial(_edge_picture, "the middle notch over time"),
)
KINDS = (SWEEP, SWIRL)
