"""Resonances: finding one that sticks out, and taming those that come and go."""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio.buffers import Stereo
from cloudrift.audio.looped import slice_wrapped
from cloudrift.ground.settings import Field, ResolvedSettings, SettingsSpec, hz_text, percent
from cloudrift.texture.context import Context
from cloudrift.texture.frames import FRAME, HOP, Gain, Spectra, filtered, hz_of, smoothed
from cloudrift.texture.kind import Kind
from cloudrift.texture.picture import POINTS, Axis, Curve, Portrait, db_axis
from cloudrift.texture.process import rough_of

# --- find harsh -----------------------------------------------------------------------------------

HARSH_FROM_HZ, HARSH_TO_HZ = 1000.0, 9000.0  # where an ear is hurt
FINE = 16_384  # frames of a window: 2.7 Hz a bin
OCTAVES_ROUND = 1.0  # what a resonance is held against: so much to either side of it
STICKS_OUT_DB = 6.0
QUIET_DB = -50.0  # so far below the loudest place, nothing is harsh
BANDS_AN_OCTAVE = 48


class Harsh(NamedTuple):
    """A narrow resonance: where (Hz), how far it sticks out (dB), how narrow (Q)."""

    hz: float
    over_db: float
    q: float

    @property
    def says(self) -> str:
        """What was found, in words."""
        return f"{hz_text(self.hz)} sticks out by {self.over_db:.1f} dB"


def find_harsh(audio: Stereo, rate: int) -> Harsh | None:
    """Return the strongest narrow resonance of a loop between 1 and 9 kHz; None if none is.

    The loop's power is read in bands a 48th of an octave wide, each over the loudest fifth of the
    time. Smoothed to a sixth of an octave, so that one note's partial does not count, it is held
    against the median of what lies within an octave.
    """
    from scipy.ndimage import median_filter, uniform_filter1d  # noqa: PLC0415 - slow to import

    n = audio.shape[1]
    count = max(4, n // (FINE // 2))
    starts = np.arange(count) * n // count
    padded = slice_wrapped(audio.mean(axis=0, keepdims=True), 0, n + FINE)[0]
    window = np.hanning(FINE).astype(np.float32)
    power = np.abs(sf.rfft(padded[starts[:, None] + np.arange(FINE)] * window)) ** 2
    hz = np.fft.rfftfreq(FINE, 1 / rate)
    octaves = np.log2(HARSH_TO_HZ / HARSH_FROM_HZ) + 2
    centres = HARSH_FROM_HZ / 2 * 2 ** (np.arange(int(octaves * BANDS_AN_OCTAVE)) / BANDS_AN_OCTAVE)
    half = 2 ** (0.5 / BANDS_AN_OCTAVE)
    low = np.searchsorted(hz, centres / half)
    high = np.maximum(np.searchsorted(hz, centres * half), low + 1)
    total = np.concatenate([np.zeros((count, 1)), np.cumsum(power, axis=1)], axis=1)
    bands = total[:, high] - total[:, low]
    loud = np.sort(bands, axis=0)[-max(1, count // 5) :].mean(axis=0)
    near = uniform_filter1d(loud, BANDS_AN_OCTAVE // 6)
    level = 10 * np.log10(np.maximum(near, 0) + 1e-20)
    around = median_filter(level, int(2 * OCTAVES_ROUND * BANDS_AN_OCTAVE) | 1)
    sticks = level - around
    sticks[(centres < HARSH_FROM_HZ) | (centres > HARSH_TO_HZ)] = -np.inf
    sticks[level < level.max() + QUIET_DB] = -np.inf
    best = int(sticks.argmax())
    if sticks[best] < STICKS_OUT_DB:
        return None
    # How wide: down to half its power either side.
    first, last = best, best
    while first > 0 and level[first - 1] > level[best] - 3:
        first -= 1
    while last < len(level) - 1 and level[last + 1] > level[best] - 3:
        last += 1
    at = slice(low[first], high[last])
    mean = power.mean(axis=0)[at]
    middle = float((hz[at] * mean).sum() / mean.sum())
    width = centres[last] * half - centres[first] / half
    return Harsh(middle, float(sticks[best]), float(np.clip(middle / width, 2, 30)))


# --- moving tamer ---------------------------------------------------------------------------------


def _tamer(audio: Stereo, full: ResolvedSettings, _variation: int, context: Context) -> Stereo:
    """Each moment's spectrum against its own smooth shape: what sticks out is turned down."""
    hz = hz_of(context.rate)
    amount, allowed = full.number("amount") / 100, full.number("above_db")
    inside = _fade_in(hz, full.number("from_hz"), full.number("to_hz"))
    falls = max(1, round(full.number("hold_ms") * 1e-3 * context.rate / HOP))

    def gain_of(spectra: Spectra) -> Gain:
        power = (np.abs(spectra) ** 2).sum(axis=0)
        level = 10 * np.log10(smoothed(power, 3, 1) + 1e-12)
        # The shape is smoothed in dB, wider above: about half an octave at the tamer's heart.
        shape = smoothed(smoothed(level, 33, 1), 33, 1)
        over = np.maximum(0, level - shape - allowed) * inside
        over = smoothed(over, falls, 0, round_the_loop=True)
        return np.asarray(10 ** (-amount * over / 20), np.float32)

    return filtered(audio, context, gain_of)


def _fade_in(hz: NDArray[np.float32], low: float, high: float) -> NDArray[np.float32]:
    """One between two edges, nothing an octave-third outside them."""
    octave = np.log2(np.maximum(hz, 1.0))
    rise = np.clip((octave - np.log2(low)) * 3 + 1, 0, 1)
    fall = np.clip((np.log2(high) - octave) * 3 + 1, 0, 1)
    return np.asarray(rise * fall, np.float32)


def _tamer_picture(full: ResolvedSettings, _variation: int, _context: Context) -> Portrait:
    """How far something still sticks out."""
    x = np.linspace(0, 24, POINTS)
    y = x - full.number("amount") / 100 * np.maximum(0, x - full.number("above_db"))
    axis = db_axis(0, 24, 6)
    return Portrait(
        title="sticks out by, over by how much it did", x=x, curves=(y, x), x_axis=axis, y_axis=axis
    )


TAMER = Kind(
    name="resonance tamer",
    label="Resonance tamer",
    family="Tone",
    about="Turns down resonances as they appear, leaves the rest.",
    spec=SettingsSpec(
        (
            percent("amount", "Amount", 60),
            Field(
                name="above_db",
                label="Threshold",
                default=6,
                unit="dB",
                low=1,
                high=18,
                step=0.5,
                hint="how far a peak may stick out",
            ),
            Field(
                name="from_hz",
                label="From",
                default=900,
                unit="Hz",
                low=200,
                high=6000,
                step=10,
                log=True,
            ),
            Field(
                name="to_hz",
                label="To",
                default=9000,
                unit="Hz",
                low=1000,
                high=16_000,
                step=10,
                log=True,
            ),
            Field(name="hold_ms", label="Hold", default=60, unit="ms", low=12, high=500, log=True),
        )
    ),
    says=lambda full: (
        f"holds down what sticks out by over {full.number('above_db'):.0f} dB, "
        f"{hz_text(full.number('from_hz'))} to {hz_text(full.number('to_hz'))}"
    ),
    process=_tamer,
    rough=rough_of(_tamer, FRAME / 44_100 + 0.25),
    picture=_tamer_picture,
)


# --- noise cleaner --------------------------------------------------------------------------------

QUIETEST = 0.15  # of all moments: what is heard in them is taken for noise


def _cleaner(audio: Stereo, full: ResolvedSettings, _variation: int, context: Context) -> Stereo:
    """What each band never falls below is noise; moments near it are turned down, band by band."""
    most = full.number("reduction_db")
    margin = full.number("above_db")
    falls = max(1, round(full.number("hold_ms") * 1e-3 * context.rate / HOP))
    gate_db = full.number("gate_db")

    def gain_of(spectra: Spectra) -> Gain:
        power = smoothed((np.abs(spectra) ** 2).sum(axis=0), 5, 1)
        calm = smoothed(power, 5, 0, round_the_loop=True)
        floor = np.quantile(calm, QUIETEST, axis=0)
        over = 10 * np.log10((calm + 1e-14) / (floor + 1e-14))
        kept = np.clip((over - margin / 2) / max(margin, 1), 0, 1).astype(np.float32)
        share = smoothed(kept, falls, 0, round_the_loop=True)
        less = most * (1 - smoothed(share, 3, 1))
        if gate_db > GATE_OFF_DB:
            loud = 10 * np.log10(power.sum(axis=1) / FRAME**2 * 8 / 3 * 2 + 1e-14)
            shut = np.clip((gate_db - loud) / 6, 0, 1).astype(np.float32)
            less = less + 40 * smoothed(shut, falls, 0, round_the_loop=True)[:, None]
        return np.asarray(10 ** (-less / 20), np.float32)

    return filtered(audio, context, gain_of)


def _cleaner_picture(full: ResolvedSettings, _variation: int, _context: Context) -> Portrait:
    """How much is taken of what is so far above the noise."""
    x = np.linspace(-6, 30, POINTS)
    margin = full.number("above_db")
    kept = np.clip((x - margin / 2) / max(margin, 1), 0, 1)
    y = -full.number("reduction_db") * (1 - kept)
    return Portrait(
        title="gain over level above the noise",
        x=x,
        curves=(y,),
        x_axis=db_axis(-6, 30, 6),
        y_axis=db_axis(-36, 3, 12),
    )


GATE_OFF_DB = -90.0
CLEANER = Kind(
    name="noise reduction",
    label="Noise reduction",
    family="Level",
    about="Removes steady noise from a recording, and closes in the gaps.",
    spec=SettingsSpec(
        (
            Field(name="reduction_db", label="Reduction", default=14, unit="dB", low=0, high=36),
            Field(
                name="above_db",
                label="Margin",
                default=8,
                unit="dB",
                low=2,
                high=24,
                step=0.5,
                hint="parts this far above the noise are kept whole",
            ),
            Field(name="hold_ms", label="Hold", default=50, unit="ms", low=12, high=500, log=True),
            Field(
                name="gate_db",
                label="Gate below",
                default=GATE_OFF_DB,
                unit="dB",
                low=GATE_OFF_DB,
                high=-20,
                off_low=True,
            ),
        )
    ),
    says=lambda full: f"up to {full.number('reduction_db'):.0f} dB less of what is always there",
    process=_cleaner,
    rough=rough_of(_cleaner, 1.0),
    picture=_cleaner_picture,
)


# --- formant --------------------------------------------------------------------------------------


def _formant(audio: Stereo, full: ResolvedSettings, _variation: int, context: Context) -> Stereo:
    """Each moment's smooth shape, moved along the frequencies; its partials stay where they are."""
    from scipy.ndimage import maximum_filter1d  # noqa: PLC0415 - slow to import, rarely needed

    ratio = 2 ** (full.number("shift_st") / 12)
    bins = np.arange(FRAME // 2 + 1)
    reach = max(3, round(full.number("fine_hz") * FRAME / context.rate)) | 1
    moved = np.minimum(bins / ratio, bins[-1])
    low = moved.astype(int)
    share = (moved - low).astype(np.float32)
    high = np.minimum(low + 1, bins[-1])

    def gain_of(spectra: Spectra) -> Gain:
        level = np.log(np.abs(spectra).mean(axis=0) + 1e-7)
        # The tops of the partials, joined: not the gaps between them.
        shape = maximum_filter1d(level, reach, axis=1, mode="nearest")
        shape = smoothed(smoothed(shape, reach, 1), reach // 2, 1)
        shape = smoothed(shape, 3, 0, round_the_loop=True)
        there = shape[:, low] * (1 - share) + shape[:, high] * share
        return np.asarray(np.exp(np.clip(there - shape, -5, 4)), np.float32)

    return filtered(audio, context, gain_of)


SUNG = ((700, 0, 130), (1150, -4, 150), (2600, -16, 260), (3500, -24, 300))  # Hz, dB, Hz wide


def _formant_picture(full: ResolvedSettings, _variation: int, _context: Context) -> Portrait:
    """A vowel's shape before and after."""
    hz = np.geomspace(80, 9000, POINTS)

    def body(at: Curve) -> Curve:
        power = sum(10 ** (db / 10) / (1 + ((at - f) / w) ** 2) for f, db, w in SUNG)
        return np.asarray(10 * np.log10(power))

    ratio = 2 ** (full.number("shift_st") / 12)
    marks = ((100.0, "100 Hz"), (1000.0, "1 kHz"))
    return Portrait(
        title="formants of a sung ah: now, and before",
        x=hz,
        curves=(body(hz / ratio), body(hz)),
        x_axis=Axis(low=80, high=9000, log=True, marks=marks),
        y_axis=db_axis(-40, 6, 20),
    )


FORMANT = Kind(
    name="formant",
    label="Formant",
    family="Time",
    about="Moves the formants: a larger or smaller body; the pitch stays.",
    spec=SettingsSpec(
        (
            Field(
                name="shift_st", label="Shift", default=-3, unit="st", low=-12, high=12, step=0.1
            ),
            Field(
                name="fine_hz",
                label="Resolution",
                default=260,
                unit="Hz",
                low=80,
                high=900,
                step=10,
                log=True,
                hint="above the spacing of the partials",
            ),
        )
    ),
    says=lambda full: (
        f"a body {abs(full.number('shift_st')):.1f} semitones "
        f"{'smaller' if full.number('shift_st') > 0 else 'larger'}, same pitch"
        if full.number("shift_st")
        else "unchanged"
    ),
    process=_formant,
    rough=rough_of(_formant, FRAME / 44_100 + 0.1),
    picture=_formant_picture,
)
