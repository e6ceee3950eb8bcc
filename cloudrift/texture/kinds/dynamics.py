"""Dynamics: gain that follows the level, round the loop: compressor, squash, limiter."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio.buffers import Stereo, to_gain
from cloudrift.audio.loudness import intersample_peaks, true_peak_db
from cloudrift.audio.wrap import LONGEST_BLOCK_RING, Spectrum, filter_circular, fold
from cloudrift.ground.settings import Field, ResolvedSettings, SettingsSpec, percent
from cloudrift.ground.words import number
from cloudrift.texture.context import Context
from cloudrift.texture.kind import Kind
from cloudrift.texture.picture import Portrait, level_out
from cloudrift.texture.process import rough_of

QUIET = 1e-12


def _round_the_loop(
    values: NDArray[np.float64], kernel: NDArray[np.float64]
) -> NDArray[np.float64]:
    """A circular convolution; a kernel that is longer than the loop goes round it."""
    n = len(values)
    return np.asarray(sf.irfft(sf.rfft(values) * sf.rfft(fold(kernel[None], n)[0]), n))


def _level_db(
    audio: Stereo, attack_ms: float, release_ms: float, context: Context
) -> NDArray[np.float32]:
    """The level as it rises over the attack and falls over the release; of a sine: its peak.

    The detector is a filter that goes round the loop, so that a gain made from it does. It runs at
    a rate that is low but far above its own speed, and is drawn out again.
    """
    n, rate = audio.shape[1], context.rate
    step = int(np.clip(attack_ms * 1e-3 * rate / 8, 1, 32))
    power = np.square(audio[0]) + np.square(audio[1])
    count = max(1, context.loop_frames // step) * context.passes
    edges = np.arange(count) * n // count
    slow = np.add.reduceat(power, edges) / np.diff(np.append(edges, n)) / 2
    slow_rate = rate * count / n
    attack, release = attack_ms * 1e-3, release_ms * 1e-3
    t = np.arange(1, int(6 * release * slow_rate) + 2) / slow_rate
    kernel = np.exp(-t / release) * (1 - np.exp(-t / attack))
    level = _round_the_loop(slow.astype(np.float64), kernel / kernel.sum())
    level_db = 10 * np.log10(np.maximum(level, QUIET)) + 3.0
    if count == n:
        return np.asarray(level_db, np.float32)
    at = (np.arange(n) + 0.5) * (count / n) - 0.5
    around = np.concatenate([level_db[-1:], level_db, level_db[:1]])
    return np.interp(at, np.arange(-1, count + 1), around).astype(np.float32)


def _compressor(audio: Stereo, full: ResolvedSettings, _variation: int, context: Context) -> Stereo:
    """Gain from the level: above the threshold it rises by a ratio only."""
    level_db = _level_db(audio, full.number("attack_ms"), full.number("release_ms"), context)
    less = reduction_db(level_db, full)
    return audio * _gain(np.float32(full.number("gain_db")) - less)


def _gain(db: NDArray[np.float32]) -> NDArray[np.float32]:
    return np.exp(db * np.float32(np.log(10) / 20))


def reduction_db(level_db: NDArray[np.float32], full: ResolvedSettings) -> NDArray[np.float32]:
    """Return by how many dB a compressor turns down what has such a level."""
    over = level_db - np.float32(full.number("threshold_db"))
    knee = np.float32(max(full.number("knee_db"), 1e-6))
    soft = np.square(np.clip(over + knee / 2, 0, knee)) / (2 * knee)
    return np.where(over > knee / 2, over, soft) * np.float32(1 - 1 / full.number("ratio"))


def _compressor_picture(full: ResolvedSettings, _variation: int, _context: Context) -> Portrait:
    gain = full.number("gain_db")
    return level_out(lambda x: x + gain - reduction_db(x.astype(np.float32), full))


COMPRESSOR = Kind(
    name="compressor",
    label="Compressor",
    family="Drive",
    about="Turns down loud parts, smoothly or with punch.",
    spec=SettingsSpec(
        (
            Field(
                name="threshold_db",
                label="Threshold",
                default=-22,
                unit="dB",
                low=-60,
                high=0,
                step=0.5,
            ),
            Field(
                name="ratio",
                label="Ratio",
                default=3,
                unit=": 1",
                low=1,
                high=20,
                step=0.1,
                log=True,
            ),
            Field(
                name="attack_ms",
                label="Attack",
                default=12,
                unit="ms",
                low=0.5,
                high=200,
                step=0.5,
                log=True,
            ),
            Field(
                name="release_ms",
                label="Release",
                default=140,
                unit="ms",
                low=10,
                high=1500,
                log=True,
            ),
            Field(name="knee_db", label="Knee", default=6, unit="dB", low=0, high=24, step=0.5),
            Field(
                name="gain_db", label="Make-up", default=3, unit="dB", low=-12, high=24, step=0.5
            ),
        )
    ),
    says=lambda full: (
        f"{full.number('ratio'):.1f} to 1 above {number(full.number('threshold_db'), '.0f')} dB"
    ),
    process=_compressor,
    picture=_compressor_picture,
    rough=rough_of(_compressor, 1.0),
)


# --- limiter --------------------------------------------------------------------------------------


def _limiter(audio: Stereo, full: ResolvedSettings, _variation: int, context: Context) -> Stereo:
    """Gain that is down before a peak comes: a smallest value over a window, then its mean.

    Peaks are looked for at four times the rate, so that none between samples is missed; going
    round the loop, the window sees over the seam.
    """
    from scipy.ndimage import minimum_filter1d, uniform_filter1d  # noqa: PLC0415 - slow to import

    ceiling = to_gain(full.number("ceiling_db"))
    pushed = audio * np.float32(to_gain(full.number("push_db")))
    n = pushed.shape[1]
    peak = intersample_peaks(pushed, above=0.4 * ceiling, period=context.loop_frames)
    needed = np.minimum(1.0, MARGIN * ceiling / np.maximum(peak, QUIET))
    half = max(2, int(full.number("release_ms") * 1e-3 * context.rate / 4))
    half = min(half, max(2, (n - 1) // 4))
    lowest = minimum_filter1d(needed, 2 * half + 1, mode="wrap")
    gain = uniform_filter1d(uniform_filter1d(lowest, half | 1, mode="wrap"), half | 1, mode="wrap")
    out = (pushed * gain).astype(np.float32)
    # A gain that moves makes peaks a hair higher between samples: that much the whole is lowered.
    # Of two ways to look between samples the stricter counts: meters differ where it is bright.
    first = slice(context.loop_frames)
    over = max(float((peak * gain)[first].max()), 10 ** (true_peak_db(out[:, first]) / 20))
    over /= ceiling
    return out / np.float32(over * 1.0001) if over > 1 else out


MARGIN = 0.995  # of the ceiling: what is aimed at


def _limiter_picture(full: ResolvedSettings, _variation: int, _context: Context) -> Portrait:
    push, ceiling = full.number("push_db"), full.number("ceiling_db")
    return level_out(lambda x: np.minimum(x + push, ceiling))


LIMITER = Kind(
    name="limiter",
    label="Limiter",
    family="Drive",
    about="Nothing exceeds the ceiling, not even between samples.",
    spec=SettingsSpec(
        (
            Field(name="push_db", label="Push", default=0, unit="dB", low=0, high=24, step=0.1),
            Field(
                name="ceiling_db",
                label="Ceiling",
                default=-1,
                unit="dBTP",
                low=-18,
                high=-0.1,
                step=0.1,
            ),
            Field(
                name="release_ms", label="Release", default=60, unit="ms", low=5, high=500, log=True
            ),
        )
    ),
    says=lambda full: (
        f"holds {full.number('push_db'):.1f} dB more under "
        f"{number(full.number('ceiling_db'), '.1f')} dBTP"
    ),
    process=_limiter,
    rough=rough_of(_limiter, 0.5),
    picture=_limiter_picture,
)


# --- squash ---------------------------------------------------------------------------------------

QUIETEST_DB = -66.0  # what is softer is not raised: it is noise, or nothing
BANDS = ("low", "middle", "high")


def _three(audio: Stereo, low_hz: float, high_hz: float, rate: int) -> tuple[Stereo, ...]:
    """Three bands that add up to what they were made of, without any phase."""

    def below(edge: float) -> Stereo:
        def through(spectrum: Spectrum, length: int) -> Spectrum:
            hz = np.fft.rfftfreq(length, 1 / rate).astype(np.float32)
            return np.asarray(spectrum / (1 + (hz / np.float32(edge)) ** 4), np.complex64)

        # A response without phase rings both ways: long blocks have room for that.
        return filter_circular(audio, through, LONGEST_BLOCK_RING + 1)

    low, rest = below(low_hz), below(high_hz)
    return low, rest - low, audio - rest


def _squash(audio: Stereo, full: ResolvedSettings, _variation: int, context: Context) -> Stereo:
    """Each band towards one level: what is louder is turned down, what is softer is raised."""
    speed = full.number("speed_ms")
    out = np.zeros_like(audio)
    for name, band in zip(
        BANDS,
        _three(audio, full.number("low_hz"), full.number("high_hz"), context.rate),
        strict=True,
    ):
        level_db = _level_db(band, max(1.0, speed / 8), speed, context)
        out += band * _gain(squash_db(level_db, full) + full.number(f"{name}_db"))
    return out


def squash_db(level_db: NDArray[np.float32], full: ResolvedSettings) -> NDArray[np.float32]:
    """Return by how many dB a band of such a level is raised (or lowered: negative)."""
    # A band holds less than the whole; the aim is that of a third of pink noise.
    away = np.float32(full.number("aim_db") - 4.8) - level_db
    up = np.clip(away, 0, full.number("most_db")) * np.clip((level_db - QUIETEST_DB) / 12, 0, 1)
    return np.float32(full.number("amount") / 100) * (up + np.minimum(away, 0))


def _band_gain(name: str) -> Field:
    return Field(
        name=f"{name}_db", label=name.capitalize(), default=0, unit="dB", low=-12, high=12, step=0.5
    )


def _squash_picture(full: ResolvedSettings, _variation: int, _context: Context) -> Portrait:
    return level_out(lambda x: x + squash_db(x.astype(np.float32), full))


SQUASH = Kind(
    name="squash",
    label="Squash",
    family="Drive",
    about="Loud parts down and quiet parts up, in three bands: dense and bright.",
    spec=SettingsSpec(
        (
            percent("amount", "Amount", 45),
            Field(
                name="aim_db", label="Target", default=-20, unit="dB", low=-40, high=-6, step=0.5
            ),
            Field(name="most_db", label="Most gain", default=18, unit="dB", low=0, high=36),
            Field(
                name="speed_ms", label="Speed", default=90, unit="ms", low=10, high=800, log=True
            ),
            *(_band_gain(name) for name in BANDS),
            Field(
                name="low_hz",
                label="Low crossover",
                default=180,
                unit="Hz",
                low=60,
                high=600,
                log=True,
            ),
            Field(
                name="high_hz",
                label="High crossover",
                default=2800,
                unit="Hz",
                low=1000,
                high=8000,
                step=10,
                log=True,
            ),
        )
    ),
    says=lambda full: (
        f"three bands {full.number('amount'):.0f} % of the way to "
        f"{number(full.number('aim_db'), '.0f')} dB"
    ),
    process=_squash,
    rough=rough_of(_squash, 0.6),
    picture=_squash_picture,
)
KINDS = (COMPRESSOR, SQUASH, LIMITER)
