"""Level: loudness and width, by hand and by what is there."""

import numpy as np
import scipy.fft as sf
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo, to_gain
from cloudrift.audio.loudness import true_peak_db
from cloudrift.audio.wrap import Spectrum
from cloudrift.ground.settings import Field, Full, SettingsSpec
from cloudrift.texture.kind import Context, Kind, Linear, rough_of

QUIET = 1e-9
OVER = 4  # times the rate at which the peaks between samples are looked for


def _place(spectrum: Spectrum, full: Full, _draw: int, context: Context, length: int) -> Spectrum:
    """Gain, width, a middle below a frequency, balance: all of it a matrix by frequency."""
    gain = np.float32(to_gain(full.number("gain_db")))
    width = np.full(spectrum.shape[-1], full.number("width") / 100, np.float32)
    mono = full.number("mono_hz")
    if mono > MONO_OFF_HZ:
        hz = np.fft.rfftfreq(length, 1 / context.rate).astype(np.float32)
        x = (hz / np.float32(mono)) ** 4
        width = width * (x / (1 + x))
    middle = (spectrum[0] + spectrum[1]) * (np.float32(0.5) * gain)
    side = (spectrum[0] - spectrum[1]) * (np.float32(0.5) * gain) * width
    pan = full.number("pan") / 100
    left = np.float32(np.cos(max(pan, 0.0) * np.pi / 2))
    right = np.float32(np.cos(max(-pan, 0.0) * np.pi / 2))
    return np.stack([(middle + side) * left, (middle - side) * right])


MONO_OFF_HZ = 20.0


def _place_says(full: Full) -> str:
    parts = []
    if full.number("gain_db"):
        parts.append(f"{full.number('gain_db'):+.1f} dB".replace("-", "−"))
    if full.number("width") != 100:
        parts.append(f"{full.number('width'):.0f} % wide")
    if full.number("mono_hz") > MONO_OFF_HZ:
        parts.append(f"mono below {full.number('mono_hz'):.0f} Hz")
    if full.number("pan"):
        side = "right" if full.number("pan") > 0 else "left"
        parts.append(f"{abs(full.number('pan')):.0f} % {side}")
    return ", ".join(parts) or "as it was"


TRIM = Kind(
    name="trim", label="Trim", family="Level",
    about="Gain, width, balance, and the low end in the middle.",
    spec=SettingsSpec((
        Field(name="gain_db", label="Gain", default=0, unit="dB", low=-36, high=24, step=0.1),
        Field(name="width", label="Width", default=100, unit="%", low=0, high=200),
        Field(name="mono_hz", label="Mono below", default=MONO_OFF_HZ, unit="Hz", low=MONO_OFF_HZ,
              high=500, step=1, log=True, off_low=True),
        Field(name="pan", label="Balance", default=0, unit="%", low=-100, high=100),
    )),
    says=_place_says,
    linear=Linear(through=_place, ring_s=lambda full, _context: (
        0.3 if full.number("mono_hz") > MONO_OFF_HZ else 0.0)),
)  # fmt: skip


# --- compressor -----------------------------------------------------------------------------------


def _round_the_loop(values: NDArray[np.float64], kernel: NDArray[np.float64]
                    ) -> NDArray[np.float64]:  # fmt: skip
    """A circular convolution with a kernel that is no longer than the loop."""
    n = len(values)
    padded = np.zeros(n)
    for first in range(0, len(kernel), n):
        part = kernel[first : first + n]
        padded[: len(part)] += part
    return np.asarray(sf.irfft(sf.rfft(values) * sf.rfft(padded), n))


def _compressor(audio: Stereo, full: Full, _draw: int, context: Context) -> Stereo:
    """Gain from the power as it rises over the attack and falls over the release.

    The detector is a filter that goes round the loop, so that the gain does.
    """
    rate = context.rate
    power = (audio.astype(np.float64) ** 2).mean(axis=0)
    attack, release = full.number("attack_ms") * 1e-3, full.number("release_ms") * 1e-3
    t = np.arange(1, int(6 * release * rate) + 2) / rate
    kernel = np.exp(-t / release) * (1 - np.exp(-t / attack))
    level = _round_the_loop(power, kernel / kernel.sum())
    level_db = 10 * np.log10(np.maximum(level, QUIET)) + 3.0  # of a sine: its peak
    over = level_db - full.number("threshold_db")
    knee = full.number("knee_db")
    soft = np.clip(over + knee / 2, 0, knee) ** 2 / (2 * max(knee, 1e-6))
    over = np.where(over > knee / 2, over, soft)
    less = over * (1 - 1 / full.number("ratio"))
    gain = 10 ** ((full.number("gain_db") - less) / 20)
    return (audio * gain).astype(np.float32)


COMPRESSOR = Kind(
    name="compressor", label="Compressor", family="Drive",
    about="Turns down what is loud, evenly or with a push.",
    spec=SettingsSpec((
        Field(name="threshold_db", label="Above", default=-22, unit="dB", low=-60, high=0,
              step=0.5),
        Field(name="ratio", label="Ratio", default=3, unit=": 1", low=1, high=20, step=0.1,
              log=True),
        Field(name="attack_ms", label="Attack", default=12, unit="ms", low=0.5, high=200, step=0.5,
              log=True),
        Field(name="release_ms", label="Release", default=140, unit="ms", low=10, high=1500,
              log=True),
        Field(name="knee_db", label="Knee", default=6, unit="dB", low=0, high=24, step=0.5),
        Field(name="gain_db", label="Make-up", default=3, unit="dB", low=-12, high=24, step=0.5),
    )),
    says=lambda full: (f"{full.number('ratio'):.1f} to 1 above {full.number('threshold_db'):.0f} dB"
                       ).replace("-", "−"),
    process=_compressor, rough=rough_of(_compressor, 1.0),
)  # fmt: skip


# --- limiter --------------------------------------------------------------------------------------


def _between(audio: Stereo) -> NDArray[np.float64]:
    """The highest of both sides at and behind each frame, up to the next: (frames,)."""
    n = audio.shape[1]
    spectrum = sf.rfft(audio)
    peak = np.zeros(n)
    for part in range(OVER):
        turn = np.exp(2j * np.pi * np.arange(spectrum.shape[1]) * part / (OVER * n))
        turn = turn.astype(np.complex64)
        peak = np.maximum(peak, np.abs(sf.irfft(spectrum * turn, n)).max(axis=0))
    return peak


def _limiter(audio: Stereo, full: Full, _draw: int, context: Context) -> Stereo:
    """Gain that is down before a peak comes: a smallest value over a window, then its mean.

    Peaks are looked for at four times the rate, so that none between samples is missed; going
    round the loop, the window sees over the seam.
    """
    from scipy.ndimage import minimum_filter1d, uniform_filter1d  # noqa: PLC0415 - slow to import

    ceiling = to_gain(full.number("ceiling_db"))
    pushed = audio * np.float32(to_gain(full.number("push_db")))
    n = pushed.shape[1]
    peak = _between(pushed)
    needed = np.minimum(1.0, MARGIN * ceiling / np.maximum(peak, QUIET))
    half = max(2, int(full.number("release_ms") * 1e-3 * context.rate / 4))
    half = min(half, max(2, (n - 1) // 4))
    lowest = minimum_filter1d(needed, 2 * half + 1, mode="wrap")
    gain = uniform_filter1d(uniform_filter1d(lowest, half | 1, mode="wrap"), half | 1, mode="wrap")
    out = (pushed * gain).astype(np.float32)
    # A gain that moves makes peaks a hair higher between samples: that much the whole is lowered.
    # Of two ways to look between samples the stricter counts: meters differ where it is bright.
    first = out[:, : context.loop_frames]
    over = max(float(_between(first).max()), 10 ** (true_peak_db(first, context.rate) / 20))
    over /= ceiling
    return out / np.float32(over * 1.0001) if over > 1 else out


MARGIN = 0.995  # of the ceiling: what is aimed at
LIMITER = Kind(
    name="limiter", label="Limiter", family="Drive",
    about="Nothing gets above the ceiling, between samples either.",
    spec=SettingsSpec((
        Field(name="push_db", label="Push", default=0, unit="dB", low=0, high=24, step=0.1),
        Field(name="ceiling_db", label="Ceiling", default=-1, unit="dBTP", low=-18, high=-0.1,
              step=0.1),
        Field(name="release_ms", label="Window", default=60, unit="ms", low=5, high=500, log=True),
    )),
    says=lambda full: (f"holds {full.number('push_db'):.1f} dB more under "
                       f"{full.number('ceiling_db'):.1f} dBTP").replace("-", "−"),
    process=_limiter, rough=rough_of(_limiter, 0.5),
)  # fmt: skip
KINDS = (TRIM, COMPRESSOR, LIMITER)
