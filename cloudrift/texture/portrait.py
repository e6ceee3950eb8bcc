"""Portraits: what each treatment does, computed from its settings, as curves with axes."""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
import scipy.fft as sf
from numpy.typing import NDArray

from cloudrift.audio.buffers import to_gain
from cloudrift.ground.settings import Full, hz_text
from cloudrift.ground.words import number
from cloudrift.texture import backward, dynamics, shadow, smear, windows
from cloudrift.texture.curves import SHAPES
from cloudrift.texture.drive import CURVES
from cloudrift.texture.echo import ECHO
from cloudrift.texture.hall import drift_of
from cloudrift.texture.kind import Context, Kind
from cloudrift.texture.periods import all_of, turns
from cloudrift.texture.ride import BLEND
from cloudrift.texture.shift import semitones_of
from cloudrift.texture.sweeping import course
from cloudrift.texture.treatment import Treatment
from cloudrift.texture.voices import chorus_away
from cloudrift.texture.weathering.card import strays_of

POINTS = 240
Curve = NDArray[np.float64]
LOW_HZ, HIGH_HZ = 30.0, 18_000.0
BEATS_SHOWN = 8.0  # of what repeats quickly
DECADES = (100.0, 1000.0, 10_000.0)


@dataclass(frozen=True, kw_only=True)
class Axis:
    """One axis: its ends, in what, and where it is marked."""

    low: float
    high: float
    marks: tuple[tuple[float, str], ...]
    log: bool = False

    def share(self, values: Curve) -> Curve:
        """Return where values lie between its ends, 0 to 1."""
        if self.log:
            at = np.log(np.maximum(values, self.low * 1e-3) / self.low)
            return np.asarray(at / np.log(self.high / self.low))
        return np.asarray((values - self.low) / (self.high - self.low))


@dataclass(frozen=True, kw_only=True)
class Portrait:
    """A title and curves over shared axes; the second curve of two is the other side's."""

    title: str
    x: Curve
    curves: tuple[Curve, ...]
    x_axis: Axis
    y_axis: Axis


def portrait(treatment: Treatment, context: Context) -> Portrait | None:
    """Return the picture of what a treatment does at its place; None for one not known here."""
    if not treatment.known:
        return None
    kind, full = treatment.of, treatment.full
    # Once, in one turn: what repeats is drawn for one loop.
    context = replace(context, passes=1, once=False)
    draw = BY_KIND.get(kind.name) or (_response if kind.linear else None)
    assert draw is not None, kind.name
    ride = next((ride for ride in treatment.rides if ride.of != BLEND.name), None)
    if ride is None:
        return draw(kind, full, treatment.draw, context)
    values = [point.value for point in ride.points]
    high, low = (draw(kind, Full({**full, ride.of: value}), treatment.draw, context)
                 for value in (max(values), min(values)))  # fmt: skip
    if low.x.shape != high.x.shape or not np.allclose(low.x, high.x):
        return high
    label = kind.spec[ride.of].label.lower()
    return replace(high, title=f"{high.title}: {label} at its highest, and lowest (dashed)",
                   curves=(high.curves[0], low.curves[0]))  # fmt: skip


# --- axes -----------------------------------------------------------------------------------------


def _hz_axis() -> Axis:
    return Axis(
        low=LOW_HZ, high=HIGH_HZ, log=True, marks=tuple((hz, hz_text(hz)) for hz in DECADES)
    )


def _db_axis(low: float, high: float, step: float) -> Axis:
    at = np.arange(np.ceil(low / step) * step, high + 1e-9, step)
    return Axis(low=low, high=high,
                marks=tuple((float(v), f"{number(v, '+.0f')} dB" if v else "0 dB")
                            for v in at))  # fmt: skip


def _time_axis(seconds: float) -> Axis:
    step = next(s for s in (0.05, 0.1, 0.25, 0.5, 1.0, 2.0, 5.0, 10.0) if seconds / s <= 5)
    at = np.arange(0, seconds + 1e-9, step)
    return Axis(low=0, high=seconds, marks=tuple((float(v), f"{v:g} s") for v in at))


def _beat_axis(beats: float) -> Axis:
    step = next(s for s in (1, 2, 4, 8, 16, 32, 64, 128) if beats / s <= 8)
    at = np.arange(0, beats - 1e-9, step)
    return Axis(low=0, high=beats, marks=tuple((float(v), f"beat {v + 1:.0f}" if v == 0 else
                                                f"{v + 1:.0f}") for v in at))  # fmt: skip


def _percent_axis(most: float = 100) -> Axis:
    return Axis(low=0, high=most, marks=tuple((v, f"{v:.0f} %") for v in (0, most / 2, most)))


def _cents_axis(most: float) -> Axis:
    most = max(5.0, float(np.ceil(most / 5) * 5))
    marks = ((-most, f"−{most:.0f} cents"), (0.0, "0"), (most, f"+{most:.0f} cents"))
    return Axis(low=-most, high=most, marks=marks)


def _beats_of(context: Context) -> float:
    return context.loop_s * context.tempo / 60


def _shown_beats(value: str | None, context: Context) -> float:
    """How much of the loop is shown of what comes every note value: some turns of it."""
    beats = _beats_of(context)
    if value is None:
        return beats
    turn = beats / turns(value, context)
    return min(beats, max(BEATS_SHOWN, 2 * turn))


def _over_beats(curve: NDArray[np.float32], beats: float, context: Context) -> tuple[Curve, Curve]:
    """Return beats and what a curve over the loop is there."""
    x = np.linspace(0, beats, POINTS, endpoint=False)
    at = (x / _beats_of(context) * context.loop_frames).astype(int) % context.loop_frames
    return x, np.asarray(curve[at], float)


# --- linear ---------------------------------------------------------------------------------------


def _response(kind: Kind, full: Full, draw: int, context: Context) -> Portrait:
    """The level at each frequency."""
    assert kind.linear is not None
    length = 1 << 16
    ones = np.ones((2, length // 2 + 1), np.complex64)
    level = np.abs(kind.linear.through(ones, full, draw, context, length)).max(axis=0)
    hz = np.geomspace(LOW_HZ, HIGH_HZ, POINTS)
    db = 20 * np.log10(np.interp(hz, np.fft.rfftfreq(length, 1 / context.rate), level) + 1e-6)
    top = max(12.0, float(np.ceil(db.max() / 6) * 6))
    return Portrait(title="level over frequency", x=hz, curves=(db,), x_axis=_hz_axis(),
                    y_axis=_db_axis(-36, min(top, 30), 12))  # fmt: skip


BANDS_HZ = (1000.0, 200.0, 5000.0)  # the middle is drawn through; low and high are dashed


def _decay(kind: Kind, full: Full, draw: int, context: Context) -> Portrait:
    """How a click rings on in the middle, low and high: highs mostly go first."""
    linear = kind.linear
    assert linear is not None
    seconds = float(np.clip(linear.ring_s(full, context), 0.2, 24.0))
    length = int(sf.next_fast_len(int((seconds + 0.1) * context.rate), real=True))
    one = np.ones((2, length // 2 + 1), np.complex64)
    spectrum = linear.through(one, full, draw, context, length)
    octaves = np.log2(np.maximum(np.fft.rfftfreq(length, 1 / context.rate), 1.0))
    count = int(seconds * context.rate)
    edges = np.linspace(0, count, POINTS + 1).astype(int)
    curves = []
    for middle in BANDS_HZ:
        band = np.cos(np.clip(octaves - np.log2(middle), -1, 1) * np.pi / 2).astype(np.float32)
        power = np.square(sf.irfft(spectrum * band, length)).sum(axis=0)[:count]
        curves.append(10 * np.log10(np.maximum.reduceat(power.astype(float), edges[:-1]) + 1e-14))
    return Portrait(title="a click rings on: middle; low and high dashed",
                    x=edges[:-1] / context.rate, curves=tuple(c - c.max() for c in curves),
                    x_axis=_time_axis(seconds), y_axis=_db_axis(-60, 0, 20))  # fmt: skip


def _cloud(kind: Kind, full: Full, draw: int, context: Context) -> Portrait:
    """How far left and right stray in pitch."""
    strays = drift_of(full, draw, context)
    return _pitch([*strays], context)


def _tape_echo(_kind: Kind, full: Full, draw: int, context: Context) -> Portrait:
    """The repeats, without what the tape does to them."""
    plain = Full({field.name: full[field.name] for field in ECHO.spec})
    return _decay(ECHO, plain, draw, context)


def _ghost(_kind: Kind, full: Full, draw: int, context: Context) -> Portrait:
    """The hall's decay the other way round."""
    seconds = full.number("decay_s")
    x = np.linspace(-seconds, 0.2, POINTS)
    y = np.where(x <= 0, 60 * x / seconds, -60.0)
    return Portrait(title="swells into a note at 0 s", x=x, curves=(y,),
                    x_axis=Axis(low=-seconds, high=0.2, marks=((-seconds, f"−{seconds:.1f} s"),
                                                              (0.0, "0 s"))),
                    y_axis=_db_axis(-60, 0, 20))  # fmt: skip


# --- drive and dynamics ---------------------------------------------------------------------------


def _transfer(kind: Kind, full: Full, _draw: int, _context: Context) -> Portrait:
    """What comes out for each level that goes in, a moment of a wave at a time."""
    gain = to_gain(full.number("drive_db"))
    lean = full.number("lean") / 100 if "lean" in full else 0.0
    x = np.linspace(-1, 1, POINTS)
    wave = np.repeat(x[:, None], 2, axis=1).astype(np.float32)
    shape = SHAPES[CURVES[kind.name]]
    rest = shape(np.full((1, 2), lean, np.float32))[0, -1]
    y = (shape(wave * np.float32(gain) + np.float32(lean))[:, -1] - rest).astype(float)
    y *= to_gain(full.number("out_db")) / (gain if kind.name == "tape" else np.sqrt(gain))
    most = max(1.0, float(np.abs(y).max()))
    marks = ((-1.0, "−1"), (0.0, "0"), (1.0, "+1"))
    return Portrait(title="out over in, of full scale", x=x, curves=(y, x),
                    x_axis=Axis(low=-1, high=1, marks=marks),
                    y_axis=Axis(low=-most, high=most, marks=marks))  # fmt: skip


def _levels(kind: Kind, full: Full, _draw: int, _context: Context) -> Portrait:
    """The steady level that comes out for each that goes in."""
    x = np.linspace(-72, 0, POINTS)
    if kind.name == "compressor":
        y = x + full.number("gain_db") - dynamics.reduction_db(x.astype(np.float32), full)
    elif kind.name == "squash":
        y = x + dynamics.squash_db(x.astype(np.float32), full)
    else:
        y = np.minimum(x + full.number("push_db"), full.number("ceiling_db"))
    axis = Axis(low=-72, high=0, marks=tuple((v, f"−{-v:.0f} dB") for v in (-60.0, -40.0, -20.0)))
    return Portrait(title="level out over level in", x=x, curves=(np.asarray(y, float), x),
                    x_axis=axis, y_axis=replace(axis, high=6))  # fmt: skip


def _sticking_out(_kind: Kind, full: Full, _draw: int, _context: Context) -> Portrait:
    """How far something still sticks out."""
    x = np.linspace(0, 24, POINTS)
    y = x - full.number("amount") / 100 * np.maximum(0, x - full.number("above_db"))
    axis = _db_axis(0, 24, 6)
    return Portrait(title="sticks out by, over by how much it did", x=x, curves=(y, x),
                    x_axis=axis, y_axis=axis)  # fmt: skip


def _cleaning(_kind: Kind, full: Full, _draw: int, _context: Context) -> Portrait:
    """How much is taken of what is so far above the noise."""
    x = np.linspace(-6, 30, POINTS)
    margin = full.number("above_db")
    kept = np.clip((x - margin / 2) / max(margin, 1), 0, 1)
    y = -full.number("reduction_db") * (1 - kept)
    return Portrait(title="gain over level above the noise", x=x, curves=(y,),
                    x_axis=_db_axis(-6, 30, 6), y_axis=_db_axis(-36, 3, 12))  # fmt: skip


def _bodies(_kind: Kind, full: Full, _draw: int, _context: Context) -> Portrait:
    """A vowel's shape before and after."""
    hz = np.geomspace(80, 9000, POINTS)

    def body(at: Curve) -> Curve:
        peaks = ((700, 0, 130), (1150, -4, 150), (2600, -16, 260), (3500, -24, 300))
        power = sum(10 ** (db / 10) / (1 + ((at - f) / w) ** 2) for f, db, w in peaks)
        return np.asarray(10 * np.log10(power))

    ratio = 2 ** (full.number("shift_st") / 12)
    return Portrait(title="the body of a sung ah: now, and as it was", x=hz,
                    curves=(body(hz / ratio), body(hz)),
                    x_axis=Axis(low=80, high=9000, log=True,
                                marks=((100.0, "100 Hz"), (1000.0, "1 kHz"))),
                    y_axis=_db_axis(-40, 6, 20))  # fmt: skip


# --- over the loop --------------------------------------------------------------------------------


def _gains(kind: Kind, full: Full, draw: int, context: Context) -> Portrait:
    """The level left and right (or how wide it is) over the loop."""
    assert kind.process is not None
    ones = np.ones((2, context.loop_frames), np.float32)
    wide = kind.name == "width move"
    if wide:
        ones[1] = -1
    out = kind.process(ones, full, draw, context)
    beats = _shown_beats(full.word("rate"), context)
    if kind.name == "gate":  # a step is a rate, but a pattern is sixteen
        beats = min(_beats_of(context), beats * 16 / 4 if beats < _beats_of(context) else beats)
    lines = [out[0]] if wide or np.array_equal(out[0], out[1]) else [out[0], out[1]]
    x, _ = _over_beats(out[0], beats, context)
    curves = tuple(_over_beats(line, beats, context)[1] * 100 for line in lines)
    title = "width over time" if wide else "level over time"
    return Portrait(title=title if len(lines) == 1 else "level over time, left and right", x=x,
                    curves=curves, x_axis=_beat_axis(beats),
                    y_axis=_percent_axis(200 if wide else 100))  # fmt: skip


def _edges(kind: Kind, full: Full, draw: int, context: Context) -> Portrait:
    """Where a filter that moves is, over the loop."""
    beats = _shown_beats(full.word("rate"), context)
    x = np.linspace(0, beats, POINTS, endpoint=False)
    place = course(full.word("shape"), full.word("rate"), draw, context,
                          x / _beats_of(context) % 1.0)  # fmt: skip
    low, high = full.number("low_hz"), full.number("high_hz")
    return Portrait(title="the edge over time" if kind.name == "sweep" else
                    "the middle notch over time", x=x, curves=(low * (high / low) ** place,),
                    x_axis=_beat_axis(beats), y_axis=_hz_axis())  # fmt: skip


def _pitch(strays: list[NDArray[np.float32]], context: Context) -> Portrait:
    """Cents over the loop, of places that stray (frames)."""
    beats, curves = _beats_of(context), []
    x = np.linspace(0, beats, POINTS, endpoint=False)
    for away in strays:
        speed = np.diff(away, append=away[:1])
        at = (x / beats * len(away)).astype(int)
        curves.append(1200 * np.log2(np.maximum(1 + speed[at].astype(float), 0.1)))
    most = max(float(np.abs(curve).max()) for curve in curves)
    return Portrait(title="pitch over time", x=x, curves=tuple(curves), x_axis=_beat_axis(beats),
                    y_axis=_cents_axis(most))  # fmt: skip


def _worn(kind: Kind, full: Full, draw: int, context: Context) -> Portrait:
    away = strays_of(full, draw, context)
    return _pitch([np.zeros(context.loop_frames, np.float32) if away is None else away], context)


def _chorus(_kind: Kind, full: Full, _draw: int, context: Context) -> Portrait:
    """How late its voices are."""
    beats = _shown_beats(full.word("rate"), context)
    lines = [_over_beats(-away / context.rate * 1e3, beats, context)
             for away in chorus_away(full, context, all_of(context))]  # fmt: skip
    most = float(np.ceil(max(y.max() for _, y in lines) / 5) * 5)
    return Portrait(title="how late its four voices are", x=lines[0][0],
                    curves=tuple(y for _, y in lines), x_axis=_beat_axis(beats),
                    y_axis=Axis(low=0, high=most, marks=((0.0, "0 ms"), (most, f"{most:.0f} ms"))),
                    )  # fmt: skip


def _partials(_kind: Kind, full: Full, _draw: int, _context: Context) -> Portrait:
    """Where the partials of a tone at 220 Hz come to lie."""
    apart = full.number("cents")
    x = np.array([0.0, 0.45, 0.55, 1.0])
    return Portrait(title="pitch from left to right", x=x,
                    curves=(np.array([apart, apart, -apart, -apart]),),
                    x_axis=Axis(low=0, high=1, marks=((0.1, "left"), (0.9, "right"))),
                    y_axis=_cents_axis(apart))  # fmt: skip


def _moved(kind: Kind, full: Full, _draw: int, _context: Context) -> Portrait:
    """What each pitch becomes."""
    steps = [shadow.INTERVALS[full.word("interval")] if kind.name == "shadow" else
             semitones_of(full)]  # fmt: skip
    x = np.array([110.0, 1760.0])
    axis = Axis(low=110, high=1760, log=True,
                marks=tuple((hz, hz_text(hz)) for hz in (110.0, 220.0, 440.0, 880.0)))  # fmt: skip
    return Portrait(title="pitch heard over pitch played", x=x,
                    curves=tuple(x * 2 ** (s / 12) for s in [*steps, 0.0][:2]), x_axis=axis,
                    y_axis=Axis(low=27.5, high=3520, log=True, marks=axis.marks))  # fmt: skip


# --- which moment is heard when -------------------------------------------------------------------


def _moments(kind: Kind, full: Full, draw: int, context: Context) -> Portrait:
    """Which moment of what came in is heard at each."""
    n = context.loop_frames
    window = full.word("window") if "window" in full else None
    beats = _shown_beats(window, context)
    lines: list[NDArray[np.generic]]
    if kind.name == "slow":
        away = windows.slow_away(full, context)
        lines = [np.arange(n) + away]
    elif kind.name == "smear":
        beats = min(beats, BEATS_SHOWN)
        lines = [
            np.arange(n) + away
            for away in smear.courses_of(full, draw, context, all_of(context))[0]
        ]
    elif kind.name == "backward":
        lines = [backward.heard_frames(full, context)]
    elif kind.name == "replay":
        lines = [windows.replay_frames(full, context)]
    else:
        lines = [windows.stutter_frames(full, context)]
    to_beats = _beats_of(context) / n
    x = np.linspace(0, beats, POINTS, endpoint=False)
    at = np.minimum((x / to_beats).astype(int), n - 1)
    curves = tuple(np.asarray(line[at] * to_beats, float) for line in lines)
    axis = _beat_axis(beats)
    return Portrait(title="which beat is heard at each", x=x, curves=curves, x_axis=axis,
                    y_axis=axis)  # fmt: skip


_Draw = Callable[[Kind, Full, int, Context], Portrait]
BY_KIND: dict[str, _Draw] = {
    **dict.fromkeys(("hall", "room", "plate", "worn room", "spring", "echo"), _decay),
    **dict.fromkeys(CURVES, _transfer),
    **dict.fromkeys(("compressor", "squash", "limiter"), _levels),
    **dict.fromkeys(("tremolo", "auto-pan", "pump", "gate", "width move"), _gains),
    **dict.fromkeys(("sweep", "swirl"), _edges),
    **dict.fromkeys(("slow", "stutter", "replay", "smear", "backward"), _moments),
    **dict.fromkeys(("shift", "shadow"), _moved),
    "cloud": _cloud, "tape echo": _tape_echo, "ghost": _ghost, "tamer": _sticking_out,
    "noise cleaner": _cleaning, "formant": _bodies, "weathering": _worn, "chorus": _chorus,
    "doubler": _partials,
}  # fmt: skip
