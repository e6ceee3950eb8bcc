"""Motion: level, place and width that move with the loop. Rates are note values that divide it."""

from collections.abc import Callable
from functools import partial

import numpy as np
from numpy.typing import NDArray

from cloudrift.ground.settings import Field, ResolvedSettings, SettingsSpec, percent
from cloudrift.texture.context import Context
from cloudrift.texture.kind import Kind
from cloudrift.texture.periods import (
    Gains,
    Moments,
    by_side,
    by_width,
    phase,
    rate_field,
    rate_words,
    turns,
)
from cloudrift.texture.picture import (
    Portrait,
    beat_axis,
    beats_of,
    over_beats,
    percent_axis,
    shown_beats,
)
from cloudrift.texture.process import Near, Process

STEPS = 16
PATTERNS = {
    "off-beats": "0011001100110011",
    "every second": "1010101010101010",
    "gallop": "1011101110111011",
    "three and three": "1001001000100100",
    "broken": "1101001011010110",
    "late": "0111011101110111",
    "half and half": "1111111100000000",
}


def _both(gain: NDArray[np.float64]) -> Gains:
    return np.stack([gain, gain]).astype(np.float32)


# --- level over time ------------------------------------------------------------------------------


def _tremolo(full: ResolvedSettings, context: Context, at: Moments) -> Gains:
    wave = 0.5 + 0.5 * np.cos(2 * np.pi * phase(turns(full.word("rate"), context), context, at))
    return _both(1 - full.number("depth") / 100 * (1 - wave))


def _auto_pan(full: ResolvedSettings, context: Context, at: Moments) -> Gains:
    """A balance: the side one moves towards stays as it is."""
    place = np.sin(2 * np.pi * phase(turns(full.word("rate"), context), context, at))
    place *= full.number("depth") / 100
    left = np.cos(np.maximum(place, 0) * np.pi / 2)
    right = np.cos(np.maximum(-place, 0) * np.pi / 2)
    return np.stack([left, right]).astype(np.float32)


def _pump(full: ResolvedSettings, context: Context, at: Moments) -> Gains:
    """A dip on every beat: down at once (5 ms), held, and up again along a curve."""
    count = turns(full.word("rate"), context)
    place, hold = phase(count, context, at), full.number("hold") / 100
    fall = min(0.3, 0.005 * count / context.loop_s)
    rise = np.clip((place - hold) / max(1e-6, 0.98 - hold), 0, 1) ** full.number("curve")
    down = np.clip(1 - place / fall, 0, 1)
    # It is down already when the beat comes: the last two hundredths go there.
    return _both(1 - full.number("depth") / 100 * (1 - np.maximum(rise, down)))


def _gate(full: ResolvedSettings, context: Context, at: Moments) -> Gains:
    """Steps that are open or shut; over each edge the level goes softly from one to the next."""
    steps = turns(full.word("rate"), context)
    pattern = PATTERNS[full.word("pattern")]
    open_ = np.array([int(pattern[i % STEPS]) for i in range(steps)], float)
    size = context.loop_frames / steps
    soft = np.clip(full.number("soft_ms") * 1e-3 * context.rate, 1, size)
    place = at / size
    edge = np.round(place).astype(np.int64)  # the edge that is nearest, and how far it is
    away = np.clip((place - edge) * size / soft, -0.5, 0.5)
    share = 0.5 + away + np.sin(2 * np.pi * away) / (2 * np.pi)
    level = open_[(edge - 1) % steps] * (1 - share) + open_[edge % steps] * share
    return _both(1 - full.number("depth") / 100 * (1 - level))


def _width_move(full: ResolvedSettings, context: Context, at: Moments) -> Gains:
    wave = 0.5 - 0.5 * np.cos(2 * np.pi * phase(turns(full.word("rate"), context), context, at))
    least, most = full.number("least") / 100, full.number("most") / 100
    side = least + (most - least) * wave
    return np.stack([np.ones_like(side), side]).astype(np.float32)


def _level_picture(
    process: Process, full: ResolvedSettings, variation: int, context: Context
) -> Portrait:
    """The level left and right over the loop."""
    out = process(np.ones((2, context.loop_frames), np.float32), full, variation, context)
    beats = shown_beats(full.word("rate"), context)
    if "pattern" in full:  # a step is a rate, but a pattern is sixteen
        whole = beats_of(context)
        beats = min(whole, beats * STEPS / 4 if beats < whole else beats)
    lines = [out[0]] if np.array_equal(out[0], out[1]) else [out[0], out[1]]
    drawn = [over_beats(line * 100, beats, context) for line in lines]
    return Portrait(
        title="level over time" + (", left and right" if len(lines) > 1 else ""),
        x=drawn[0][0],
        curves=tuple(y for _, y in drawn),
        x_axis=beat_axis(beats),
        y_axis=percent_axis(),
    )


def _width_picture(
    process: Process, full: ResolvedSettings, variation: int, context: Context
) -> Portrait:
    """How wide it is over the loop."""
    sides = np.array([[1], [-1]], np.float32) * np.ones(context.loop_frames, np.float32)
    beats = shown_beats(full.word("rate"), context)
    x, y = over_beats(process(sides, full, variation, context)[0] * 100, beats, context)
    return Portrait(
        title="width over time", x=x, curves=(y,), x_axis=beat_axis(beats), y_axis=percent_axis(200)
    )


def _kind(
    name: str,
    label: str,
    about: str,
    spec: tuple[Field, ...],
    says: Callable[[ResolvedSettings], str],
    moved: tuple[Process, Near],
    picture: Callable[[Process, ResolvedSettings, int, Context], Portrait] = _level_picture,
) -> Kind:
    process, near = moved
    return Kind(
        name=name,
        label=label,
        family="Motion",
        about=about,
        spec=SettingsSpec(spec),
        says=says,
        process=process,
        near=near,
        picture=partial(picture, process),
    )


TREMOLO = _kind(
    "tremolo",
    "Tremolo",
    "Level that rises and falls.",
    (percent("depth", "Depth", 50), rate_field("1/8")),
    lambda full: f"{full.number('depth'):.0f} % quieter and back, {rate_words(full)}",
    by_side(_tremolo),
)
AUTO_PAN = _kind(
    "auto-pan",
    "Auto-pan",
    "Moves from side to side.",
    (percent("depth", "Depth", 60), rate_field("1/1")),
    lambda full: f"left and right by {full.number('depth'):.0f} %, {rate_words(full)}",
    by_side(_auto_pan),
)
PUMP = _kind(
    "pump", "Pump", "Ducks on every beat, like a sidechain compressor.",
    (percent("depth", "Depth", 60), rate_field("1/4"), percent("hold", "Hold", 10),
     Field(name="curve", label="Curve", default=1.2, unit="power", low=0.3, high=4, step=0.1,
           hint="1: evenly; below: at once; above: late")),
    lambda full: f"down by {full.number('depth'):.0f} % {rate_words(full)}",
    by_side(_pump),
)  # fmt: skip
GATE = _kind(
    "gate",
    "Gate",
    "Opens and closes in a pattern of sixteen steps.",
    (
        Field(name="pattern", label="Pattern", default="gallop", choices=tuple(PATTERNS)),
        rate_field("1/16", "Step"),
        percent("depth", "Depth", 100),
        Field(name="soft_ms", label="Edge fade", default=8, unit="ms", low=1, high=100),
    ),
    lambda full: f"{full.word('pattern')}, a step every {full.word('rate')}",
    by_side(_gate),
)
WIDTH_MOVE = _kind(
    "width sweep",
    "Width sweep",
    "Moves from narrow to wide and back.",
    (
        Field(name="least", label="Narrowest", default=0, unit="%", low=0, high=200),
        Field(name="most", label="Widest", default=140, unit="%", low=0, high=200),
        rate_field("2 bars"),
    ),
    lambda full: (
        f"from {full.number('least'):.0f} to {full.number('most'):.0f} % wide, {rate_words(full)}"
    ),
    by_width(_width_move),
    _width_picture,
)
KINDS = (TREMOLO, AUTO_PAN, PUMP, GATE, WIDTH_MOVE)
