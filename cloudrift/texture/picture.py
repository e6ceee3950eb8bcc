"""Pictures of what treatments do: curves with axes, and the curves that several of them share."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio.wrap import Spectrum
from cloudrift.ground.settings import hz_text
from cloudrift.ground.words import number
from cloudrift.texture.context import Context
from cloudrift.texture.periods import turns

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


def hz_axis() -> Axis:
    """Return frequencies from low to high."""
    return Axis(
        low=LOW_HZ, high=HIGH_HZ, log=True, marks=tuple((hz, hz_text(hz)) for hz in DECADES)
    )


def db_axis(low: float, high: float, step: float) -> Axis:
    """Return levels in dB, marked every step."""
    at = np.arange(np.ceil(low / step) * step, high + 1e-9, step)
    return Axis(
        low=low,
        high=high,
        marks=tuple((float(v), f"{number(v, '+.0f')} dB" if v else "0 dB") for v in at),
    )


def time_axis(seconds: float) -> Axis:
    """Return time from 0 s on."""
    step = next(s for s in (0.05, 0.1, 0.25, 0.5, 1.0, 2.0, 5.0, 10.0) if seconds / s <= 5)
    at = np.arange(0, seconds + 1e-9, step)
    return Axis(low=0, high=seconds, marks=tuple((float(v), f"{v:g} s") for v in at))


def beat_axis(beats: float) -> Axis:
    """Return beats from the first on."""
    step = next(s for s in (1, 2, 4, 8, 16, 32, 64, 128) if beats / s <= 8)
    at = np.arange(0, beats - 1e-9, step)
    return Axis(
        low=0,
        high=beats,
        marks=tuple((float(v), f"beat {v + 1:.0f}" if v == 0 else f"{v + 1:.0f}") for v in at),
    )


def percent_axis(most: float = 100) -> Axis:
    """Return shares from nothing on."""
    return Axis(low=0, high=most, marks=tuple((v, f"{v:.0f} %") for v in (0, most / 2, most)))


def cents_axis(most: float) -> Axis:
    """Return pitches around one, at least 5 cents either way."""
    most = max(5.0, float(np.ceil(most / 5) * 5))
    marks = ((-most, f"−{most:.0f} cents"), (0.0, "0"), (most, f"+{most:.0f} cents"))
    return Axis(low=-most, high=most, marks=marks)


def beats_of(context: Context) -> float:
    """Return how many quarter notes the loop has here."""
    return context.loop_s * context.tempo / 60


def shown_beats(value: str | None, context: Context) -> float:
    """Return how many beats are shown of what comes every note value: some turns of it."""
    beats = beats_of(context)
    if value is None:
        return beats
    turn = beats / turns(value, context)
    return min(beats, max(BEATS_SHOWN, 2 * turn))


def over_beats(curve: NDArray[np.float32], beats: float, context: Context) -> tuple[Curve, Curve]:
    """Return beats and what a curve over the loop is there."""
    x = np.linspace(0, beats, POINTS, endpoint=False)
    at = (x / beats_of(context) * context.loop_frames).astype(int) % context.loop_frames
    return x, np.asarray(curve[at], float)


# --- curves that several share --------------------------------------------------------------------

Through = Callable[[Spectrum, int], Spectrum]  # spectrum, length of the transform


def response(through: Through, context: Context) -> Portrait:
    """Draw the level at each frequency."""
    length = 1 << 16
    level = np.abs(through(np.ones((2, length // 2 + 1), np.complex64), length)).max(axis=0)
    hz = np.geomspace(LOW_HZ, HIGH_HZ, POINTS)
    db = 20 * np.log10(np.interp(hz, np.fft.rfftfreq(length, 1 / context.rate), level) + 1e-6)
    top = max(12.0, float(np.ceil(db.max() / 6) * 6))
    return Portrait(
        title="level over frequency",
        x=hz,
        curves=(db,),
        x_axis=hz_axis(),
        y_axis=db_axis(-36, min(top, 30), 12),
    )


BANDS_HZ = (1000.0, 200.0, 5000.0)  # the middle is drawn through; low and high are dashed


def decay(through: Through, ring_s: float, context: Context) -> Portrait:
    """Draw how a click rings on in the middle, low and high: highs mostly go first."""
    seconds = float(np.clip(ring_s, 0.2, 24.0))
    length = sf.next_fast_len(int((seconds + 0.1) * context.rate))
    spectrum = through(np.ones((2, length // 2 + 1), np.complex64), length)
    octaves = np.log2(np.maximum(np.fft.rfftfreq(length, 1 / context.rate), 1.0))
    count = int(seconds * context.rate)
    edges = np.linspace(0, count, POINTS + 1).astype(int)
    curves = []
    for middle in BANDS_HZ:
        band = np.cos(np.clip(octaves - np.log2(middle), -1, 1) * np.pi / 2).astype(np.float32)
        power = np.square(sf.irfft(spectrum * band, length)).sum(axis=0)[:count]
        curves.append(10 * np.log10(np.maximum.reduceat(power.astype(float), edges[:-1]) + 1e-14))
    return Portrait(
        title="decay; low and high dashed",
        x=edges[:-1] / context.rate,
        curves=tuple(c - c.max() for c in curves),
        x_axis=time_axis(seconds),
        y_axis=db_axis(-60, 0, 20),
    )


def level_out(out_db: Callable[[Curve], Curve]) -> Portrait:
    """Draw the steady level that comes out for each that goes in (dB)."""
    x = np.linspace(-72, 0, POINTS)
    low, marks = -72.0, tuple((v, f"−{-v:.0f} dB") for v in (-60.0, -40.0, -20.0))
    return Portrait(
        title="level out over level in",
        x=x,
        curves=(np.asarray(out_db(x), float), x),
        x_axis=Axis(low=low, high=0, marks=marks),
        y_axis=Axis(low=low, high=6, marks=marks),
    )


def straying(strays: Sequence[NDArray[np.float32]], context: Context) -> Portrait:
    """Draw the cents over the loop of places that stray (frames)."""
    beats, curves = beats_of(context), []
    x = np.linspace(0, beats, POINTS, endpoint=False)
    for away in strays:
        speed = np.diff(away, append=away[:1])
        at = (x / beats * len(away)).astype(int)
        curves.append(1200 * np.log2(np.maximum(1 + speed[at].astype(float), 0.1)))
    most = max(float(np.abs(curve).max()) for curve in curves)
    return Portrait(
        title="pitch over time",
        x=x,
        curves=tuple(curves),
        x_axis=beat_axis(beats),
        y_axis=cents_axis(most),
    )


def moved(semitones: float) -> Portrait:
    """Draw what each pitch becomes."""
    x = np.array([110.0, 1760.0])
    axis = Axis(
        low=110,
        high=1760,
        log=True,
        marks=tuple((hz, hz_text(hz)) for hz in (110.0, 220.0, 440.0, 880.0)),
    )
    return Portrait(
        title="pitch out over pitch in",
        x=x,
        curves=(x * 2 ** (semitones / 12), x),
        x_axis=axis,
        y_axis=Axis(low=27.5, high=3520, log=True, marks=axis.marks),
    )


def moments(lines: Sequence[NDArray[np.generic]], beats: float, context: Context) -> Portrait:
    """Draw which moment of what came in (frames, one for each of the loop's) is heard at each."""
    n = context.loop_frames
    to_beats = beats_of(context) / n
    x = np.linspace(0, beats, POINTS, endpoint=False)
    at = np.minimum((x / to_beats).astype(int), n - 1)
    curves = tuple(np.asarray(line[at] * to_beats, float) for line in lines)
    axis = beat_axis(beats)
    return Portrait(
        title="beat that plays at each beat", x=x, curves=curves, x_axis=axis, y_axis=axis
    )
