"""Motion: what moves in time with the loop. Rates are note values that divide it."""

import functools
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.wrap import read_splined, read_stretch, splined, taken
from cloudrift.ground.draws import stream
from cloudrift.ground.settings import Field, Full, SettingsSpec, hz_text, percent
from cloudrift.texture.frames import FRAME, Gain, filtered, filtered_stretch, hz_of, places
from cloudrift.texture.kind import Context, Kind, Near, Process
from cloudrift.texture.periods import Gains, by_side, by_width, phase, rate_field, turns

STEPS = 16
PATTERNS = {
    "off-beats": "0011001100110011", "every second": "1010101010101010",
    "gallop": "1011101110111011", "three and three": "1001001000100100",
    "broken": "1101001011010110", "late": "0111011101110111", "half and half": "1111111100000000",
}  # fmt: skip


def _both(gain: NDArray[np.float64]) -> Gains:
    return np.stack([gain, gain]).astype(np.float32)


# --- level over time ------------------------------------------------------------------------------


@functools.lru_cache(maxsize=16)
def _tremolo_gain(depth: float, value: str, context: Context) -> Gains:
    wave = 0.5 + 0.5 * np.cos(2 * np.pi * phase(turns(value, context), context))
    return _both(1 - depth * (1 - wave))


def _tremolo(full: Full, _draw: int, context: Context) -> Gains:
    return _tremolo_gain(full.number("depth") / 100, full.word("rate"), context)


@functools.lru_cache(maxsize=16)
def _pan_gain(depth: float, value: str, context: Context) -> Gains:
    place = depth * np.sin(2 * np.pi * phase(turns(value, context), context))
    # A balance: the side one moves towards stays as it is.
    left, right = (
        np.cos(np.maximum(place, 0) * np.pi / 2),
        np.cos(np.maximum(-place, 0) * np.pi / 2),
    )
    return np.stack([left, right]).astype(np.float32)


def _auto_pan(full: Full, _draw: int, context: Context) -> Gains:
    return _pan_gain(full.number("depth") / 100, full.word("rate"), context)


@functools.lru_cache(maxsize=16)
def _pump_gain(depth: float, hold: float, curve: float, value: str, context: Context) -> Gains:
    """A dip on every beat: down at once (5 ms), held, and up again along a curve."""
    count = turns(value, context)
    place = phase(count, context)
    length = context.loop_s / count
    fall = min(0.3, 0.005 / length)
    rise = np.clip((place - hold) / max(1e-6, 0.98 - hold), 0, 1) ** curve
    down = np.clip(1 - place / fall, 0, 1)
    level = np.maximum(rise, down)
    # It is down already when the beat comes: the last two hundredths go there.
    return _both(1 - depth * (1 - level))


def _pump(full: Full, _draw: int, context: Context) -> Gains:
    return _pump_gain(full.number("depth") / 100, full.number("hold") / 100, full.number("curve"),
                      full.word("rate"), context)  # fmt: skip


@functools.lru_cache(maxsize=16)
def _gate_gain(depth: float, soft_ms: float, pattern: str, value: str, context: Context) -> Gains:
    """Steps that are open or shut, with soft edges."""
    n = context.loop_frames
    steps = turns(value, context)
    open_ = np.array([int(PATTERNS[pattern][i % STEPS]) for i in range(steps)], float)
    edges = np.round(np.arange(steps + 1) * n / steps).astype(int)
    level = np.repeat(open_, np.diff(edges))
    size = max(1, min(round(soft_ms * 1e-3 * context.rate), n // steps))
    window = np.hanning(size + 2)[1:-1]
    edge = np.roll(np.pad(window / window.sum(), (0, n - size)), -(size // 2))
    spectrum = np.fft.rfft(level) * np.fft.rfft(edge)
    return _both(1 - depth * (1 - np.clip(np.fft.irfft(spectrum, n), 0, 1)))


def _gate(full: Full, _draw: int, context: Context) -> Gains:
    return _gate_gain(full.number("depth") / 100, full.number("soft_ms"), full.word("pattern"),
                      full.word("rate"), context)  # fmt: skip


@functools.lru_cache(maxsize=16)
def _width_gain(least: float, most: float, value: str, context: Context) -> Gains:
    wave = 0.5 - 0.5 * np.cos(2 * np.pi * phase(turns(value, context), context))
    side = least + (most - least) * wave
    return np.stack([np.ones_like(side), side]).astype(np.float32)


def _width_move(full: Full, _draw: int, context: Context) -> Gains:
    return _width_gain(full.number("least") / 100, full.number("most") / 100, full.word("rate"),
                       context)  # fmt: skip


# --- place over time ------------------------------------------------------------------------------


@functools.lru_cache(maxsize=8)
def _chorus_away(depth_ms: float, delay_ms: float, value: str, context: Context
                 ) -> NDArray[np.float32]:  # fmt: skip
    """How far back four voices are read, in frames: (4, loop frames); two of them are left."""
    count = turns(value, context)
    out = []
    for voice in range(4):
        # Neighbouring voices turn at different speeds, all of them whole numbers a loop.
        sway = np.sin(2 * np.pi * phase(count + voice % 2, context, voice / 4))
        out.append(-(delay_ms + depth_ms * (1 + sway)) * 1e-3 * context.rate)
    return np.asarray(out, np.float32)


def chorus_of(full: Full, context: Context) -> NDArray[np.float32]:
    """Return how far back its four voices are read, in frames: (4, loop frames)."""
    return _chorus_away(
        full.number("depth_ms"), full.number("delay_ms"), full.word("rate"), context
    )


def _chorus(audio: Stereo, full: Full, _draw: int, context: Context) -> Stereo:
    spline = splined(audio)
    return _voices(*(read_splined(spline, away) for away in chorus_of(full, context)))


def _voices(left_1: Stereo, right_1: Stereo, left_2: Stereo, right_2: Stereo) -> Stereo:
    """Two voices a side, and a little of what the other side's two differ by."""
    out = np.stack([left_1[0] + left_2[0], right_1[1] + right_2[1]])
    across = np.stack([right_2[0] - right_1[0], left_2[1] - left_1[1]])
    return np.asarray(out * np.float32(0.5) + across * np.float32(0.25), np.float32)


def _chorus_stretch(
    audio: Stereo, full: Full, _draw: int, context: Context, start: int, count: int
) -> Stereo:
    return _voices(*(read_stretch(audio, taken(away, start, count), start)
                     for away in chorus_of(full, context)))  # fmt: skip


def _chorus_reach(full: Full, _draw: int, context: Context) -> int:
    longest = full.number("delay_ms") + 2 * full.number("depth_ms")
    return int(longest * 1e-3 * context.rate) + 8


HEAD_S = 0.09  # how long a reading head of the doubler goes before the other takes over


@functools.lru_cache(maxsize=8)
def _heads(cents: float, context: Context) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Two heads that read at another speed, half a turn apart: displacement and share, (2, n)."""
    away_per_frame = 2 ** (cents / 1200) - 1
    n = context.loop_frames
    ramp = HEAD_S * context.rate * min(1.0, 400 * abs(away_per_frame))
    count = max(1, round(abs(away_per_frame) * n / max(ramp, 1.0)))
    travel = away_per_frame * n / count  # so that the pitch is exact
    places = [phase(count, context, 0.5 * head) for head in range(2)]
    away = [(place - 0.5) * travel - abs(travel) for place in places]
    shares = [np.sin(np.pi * place) ** 2 for place in places]
    return np.asarray(away, np.float32), np.asarray(shares, np.float32)


def _doubler(audio: Stereo, full: Full, _draw: int, context: Context) -> Stereo:
    cents = full.number("cents")
    if cents == 0:
        return audio.copy()
    spline, sides = splined(audio), []
    for side, way in enumerate((1, -1)):
        away, shares = _heads(way * cents, context)
        sides.append(sum(context.tiled(share) * read_splined(spline[side : side + 1], one)[0]
                         for one, share in zip(away, shares, strict=True)))  # fmt: skip
    return np.stack(sides)


def _doubler_stretch(
    audio: Stereo, full: Full, _draw: int, context: Context, start: int, count: int
) -> Stereo:
    cents = full.number("cents")
    if cents == 0:
        return np.array(taken(audio, start, count))
    sides = []
    for side, way in enumerate((1, -1)):
        pairs = zip(*_heads(way * cents, context), strict=True)
        sides.append(sum(taken(share, start, count)
                         * read_stretch(audio, taken(away, start, count), start)[side]
                         for away, share in pairs))  # fmt: skip
    return np.stack(sides)


# --- filter over time -----------------------------------------------------------------------------

SHAPES = ("triangle", "sine", "random", "falling")


def course(
    shape: str, value: str, draw: int, context: Context, share: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Return where a filter is at so many places in the loop (shares of it): 0 to 1."""
    count = turns(value, context)
    place = (count * share) % 1.0
    if shape == "sine":
        return 0.5 - 0.5 * np.cos(2 * np.pi * place)
    if shape == "falling":
        return 1 - place
    if shape == "random":
        rng = stream(draw, "sweep", count)
        knots = rng.random(count)
        at = count * share
        low = at.astype(int) % count
        to = at - np.floor(at)
        to = to * to * (3 - 2 * to)
        return np.asarray(knots[low] * (1 - to) + knots[(low + 1) % count] * to)
    return 1 - np.abs(2 * place - 1)


def _sweep(full: Full, draw: int, context: Context) -> Gain:
    """A high cut that moves: each short frame is filtered at its own edge."""
    place = course(full.word("shape"), full.word("rate"), draw, context, places(context))
    low, high = full.number("low_hz"), full.number("high_hz")
    edge = (low * (high / low) ** place).astype(np.float32)
    x = hz_of(context.rate) / edge[:, None]
    q = np.float32(1 / max(0.3, 2 - 1.6 * full.number("peak") / 100))
    return np.asarray(1 / np.sqrt((1 - x * x) ** 2 + (x / q) ** 2), np.float32)


SWIRL_STAGES = 6


def _swirl(full: Full, draw: int, context: Context) -> Gain:
    """Notches that wander: the sound beside itself, turned in phase by a chain that moves.

    Each side is half a turn ahead of the other by as much as the width says.
    """
    depth, width = full.number("depth") / 100, full.number("width") / 100
    low, high = full.number("low_hz"), full.number("high_hz")
    hz = hz_of(context.rate)
    sides = []
    for side in (0.0, 0.5 * width):
        share = (places(context) + side / turns(full.word("rate"), context)) % 1.0
        place = course(full.word("shape"), full.word("rate"), draw, context, share)
        x = hz / (low * (high / low) ** place)[:, None].astype(np.float32)
        turn = -2 * SWIRL_STAGES * np.arctan(x)
        sides.append((1 + depth * np.exp(1j * turn)) / (1 + depth))
    return np.stack(sides).astype(np.complex64)


def _by_frames(gain_of: Callable[[Full, int, Context], Gain]) -> tuple[Process, Near]:
    """Return how a gain that moves over frequencies is laid on a sound, whole and in part."""

    def process(audio: Stereo, full: Full, draw: int, context: Context) -> Stereo:
        gain = gain_of(full, draw, context)
        return filtered(audio, context, lambda _: gain)

    def stretch(
        audio: Stereo, full: Full, draw: int, context: Context, start: int, count: int
    ) -> Stereo:
        return filtered_stretch(audio, context, gain_of(full, draw, context), start, count)

    return process, Near(process=stretch, reach=lambda _full, _draw, _context: FRAME)


def _rate_words(full: Full) -> str:
    return f"every {full.word('rate')}"


def _kind(
    name: str, label: str, about: str, spec: tuple[Field, ...], says: Callable[[Full], str],
    moved: tuple[Process, Near],
) -> Kind:  # fmt: skip
    process, near = moved
    return Kind(name=name, label=label, family="Motion", about=about, spec=SettingsSpec(spec),
                says=says, process=process, near=near)  # fmt: skip


TREMOLO = _kind(
    "tremolo", "Tremolo", "Level that sways.",
    (percent("depth", "Depth", 50), rate_field("1/8")),
    lambda full: f"{full.number('depth'):.0f} % softer and back, {_rate_words(full)}",
    by_side(_tremolo),
)  # fmt: skip
AUTO_PAN = _kind(
    "auto-pan", "Auto-pan", "Wanders from side to side.",
    (percent("depth", "Depth", 60), rate_field("1/1")),
    lambda full: f"left and right by {full.number('depth'):.0f} %, {_rate_words(full)}",
    by_side(_auto_pan),
)  # fmt: skip
PUMP = _kind(
    "pump", "Pump", "Dips on every beat, as if something louder pushed it down.",
    (percent("depth", "Depth", 60), rate_field("1/4"), percent("hold", "Held down", 10),
     Field(name="curve", label="Curve", default=1.2, unit="", low=0.3, high=4, step=0.1)),
    lambda full: f"down by {full.number('depth'):.0f} % {_rate_words(full)}",
    by_side(_pump),
)  # fmt: skip
GATE = _kind(
    "gate", "Gate", "Opens and shuts in a pattern of sixteen steps.",
    (Field(name="pattern", label="Pattern", default="gallop", choices=tuple(PATTERNS)),
     rate_field("1/16", "Step"), percent("depth", "Depth", 100),
     Field(name="soft_ms", label="Soft edges", default=8, unit="ms", low=1, high=100)),
    lambda full: f"{full.word('pattern')}, a step every {full.word('rate')}",
    by_side(_gate),
)  # fmt: skip
WIDTH_MOVE = _kind(
    "width move", "Width move", "From narrow to wide and back.",
    (Field(name="least", label="Narrowest", default=0, unit="%", low=0, high=200),
     Field(name="most", label="Widest", default=140, unit="%", low=0, high=200),
     rate_field("2 bars")),
    lambda full: (f"from {full.number('least'):.0f} to {full.number('most'):.0f} % wide, "
                  f"{_rate_words(full)}"),
    by_width(_width_move),
)  # fmt: skip
CHORUS = Kind(
    name="chorus", label="Chorus", family="Motion", about="Several of it, each a little elsewhere.",
    spec=SettingsSpec((
        Field(name="depth_ms", label="Depth", default=2.2, unit="ms", low=0, high=10, step=0.1,
              ride_step=1 / 30),
        Field(name="delay_ms", label="Delay", default=9, unit="ms", low=1, high=40, step=0.5,
              ride_step=1 / 30),
        rate_field("2 bars"),
    )),
    says=lambda full: f"four voices that stray by {full.number('depth_ms'):.1f} ms",
    blend=0.5, process=_chorus, near=Near(process=_chorus_stretch, reach=_chorus_reach),
)  # fmt: skip
DOUBLER = Kind(
    name="doubler", label="Doubler", family="Motion", about="Left a little higher, right lower.",
    spec=SettingsSpec((
        Field(name="cents", label="Apart", default=9, unit="cents", low=0, high=50, step=0.5,
              rides=False),
    )),
    says=lambda full: f"left {full.number('cents'):.1f} cents up, right as much down",
    blend=0.6, process=_doubler,
    near=Near(process=_doubler_stretch, reach=lambda _full, _draw, context: context.rate // 5),
)  # fmt: skip
_SWEEP_MOVED = _by_frames(_sweep)
SWEEP = Kind(
    name="sweep", label="Sweep", family="Motion", about="A high cut that moves with the bars.",
    spec=SettingsSpec((
        Field(name="low_hz", label="Lowest", default=350, unit="Hz", low=60, high=4000, step=1,
              log=True),
        Field(name="high_hz", label="Highest", default=7000, unit="Hz", low=200, high=18_000,
              step=10, log=True),
        Field(name="shape", label="Shape", default="triangle", choices=SHAPES),
        rate_field("4 bars"),
        Field(name="peak", label="Peak", default=20, unit="%", low=0, high=100),
    )),
    says=lambda full: f"{full.word('shape')} between its edges, {_rate_words(full)}",
    process=_SWEEP_MOVED[0], near=_SWEEP_MOVED[1], draws=True,
)  # fmt: skip
_SWIRL_MOVED = _by_frames(_swirl)
SWIRL = Kind(
    name="swirl", label="Swirl", family="Motion", about="Notches that wander up and down.",
    spec=SettingsSpec((
        percent("depth", "Depth", 85), rate_field("2 bars"),
        Field(name="low_hz", label="Lowest", default=250, unit="Hz", low=60, high=2000, step=1,
              log=True),
        Field(name="high_hz", label="Highest", default=2600, unit="Hz", low=500, high=10_000,
              step=10, log=True),
        Field(name="shape", label="Shape", default="sine", choices=SHAPES),
        percent("width", "Sides apart", 50),
    )),
    says=lambda full: (f"three notches between {hz_text(full.number('low_hz'))} and "
                       f"{hz_text(full.number('high_hz'))}, {_rate_words(full)}"),
    process=_SWIRL_MOVED[0], near=_SWIRL_MOVED[1], draws=True,
)  # fmt: skip
KINDS = (CHORUS, DOUBLER, TREMOLO, AUTO_PAN, PUMP, GATE, SWEEP, SWIRL, WIDTH_MOVE)
