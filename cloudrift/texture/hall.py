"""Hall: a large room, as the response of one, drawn from noise."""

import functools

import numpy as np
import scipy.fft as sf
from numpy.typing import NDArray

from cloudrift.audio.wrap import Spectrum, fold
from cloudrift.ground.draws import stream
from cloudrift.ground.settings import Field, Full, SettingsSpec
from cloudrift.texture.kind import Kind, Linear

BAND_HZ = tuple(62.5 * 2**i for i in range(9))  # octave bands, 62.5 Hz to 16 kHz
NEAR, FAR = 0.85, 0.4  # how much each side of the input feeds each side of the hall
LENGTH_TIMES = 1.15  # the response is kept until -69 dB


def band_decay_s(full: Full, hz: float) -> float:
    """Return the decay time (T60) of an octave band: air and walls take the highs first."""
    damping = full.number("damping") / 100
    return full.number("decay_s") / (1 + damping * (hz / 3000) ** 0.8 * 1.4)


@functools.lru_cache(maxsize=2)
def _banded_noise(draw: int, frames: int, rate: int) -> NDArray[np.float32]:
    """Noise in octave bands whose sum is flat: (bands, 2, frames)."""
    rng = stream(draw, "hall", rate)
    spectrum = sf.rfft(rng.standard_normal((2, frames), np.float32))
    hz = np.maximum(np.fft.rfftfreq(frames, 1 / rate), 1.0)
    place = np.clip(np.log2(hz / BAND_HZ[0]), 0, len(BAND_HZ) - 1)
    out = np.empty((len(BAND_HZ), 2, frames), np.float32)
    for band in range(len(BAND_HZ)):
        share = np.cos(np.clip(np.abs(place - band), 0, 1) * np.pi / 2) ** 2
        out[band] = sf.irfft(spectrum * share.astype(np.float32), frames, workers=2)
    return out


@functools.lru_cache(maxsize=16)
def _impulse(settings: tuple[tuple[str, float], ...], draw: int, rate: int) -> NDArray[np.float32]:
    """The hall's response, (2, frames), as loud on average as what goes in."""
    full = Full(dict(settings))
    frames = int(full.number("decay_s") * LENGTH_TIMES * rate)
    # Noise is drawn in a few lengths, so that dragging the decay keeps the same hall.
    size = 1 << max(15, int(np.ceil(np.log2(frames))))
    noise = _banded_noise(draw, size, rate)[:, :, :frames]
    t = np.arange(frames, dtype=np.float32) / rate
    out = np.zeros((2, frames), np.float32)
    for band, hz in enumerate(BAND_HZ):
        out += noise[band] * np.exp(np.float32(-6.908 / band_decay_s(full, hz)) * t)
    size_s = 0.004 + 0.05 * full.number("size") / 100
    out *= 1 - np.exp(-t / np.float32(size_s))  # a larger hall answers later and thickens slowly
    fall = frames // 8
    out[:, -fall:] *= np.linspace(1, 0, fall, dtype=np.float32)
    rng = stream(draw, "hall early")
    for _ in range(14):
        at = int(rng.uniform(0.15, 1.0) * size_s * 1.6 * rate) + 8
        if at < frames:
            out[:, at] += (rng.uniform(-1, 1, 2) * 6.0).astype(np.float32)
    out /= np.sqrt((out**2).sum() / 2)
    delay = int(full.number("pre_delay_ms") * 1e-3 * rate)
    return np.pad(out, ((0, 0), (delay, 0)))


@functools.lru_cache(maxsize=12)
def _sides(
    settings: tuple[tuple[str, float], ...], draw: int, rate: int, length: int
) -> NDArray[np.complex64]:
    """The hall's left and right as spectra, (2, bins)."""
    full = Full(dict(settings))
    h = sf.rfft(fold(_impulse(settings, draw, rate), length), workers=2)
    hz = np.fft.rfftfreq(length, 1 / rate).astype(np.float32)
    under = np.square(np.float32(full.number("low_cut_hz")) / np.maximum(hz, np.float32(0.1)))
    h /= np.sqrt(1 + under * under)
    mid, side = (h[0] + h[1]) / 2, (h[0] - h[1]) / 2 * np.float32(full.number("width") / 100)
    return np.stack([mid + side, mid - side])


def _through(spectrum: Spectrum, full: Full, draw: int, rate: int, length: int) -> Spectrum:
    """Each side of the hall hears both sides of the input, its own more."""
    settings = tuple(sorted((k, float(v)) for k, v in full.items()))  # numbers only
    left, right = _sides(settings, draw, rate, length)
    near, far = np.float32(NEAR), np.float32(FAR)
    out = np.empty_like(spectrum)
    np.multiply(near * spectrum[0] + far * spectrum[1], left, out=out[0])
    np.multiply(far * spectrum[0] + near * spectrum[1], right, out=out[1])
    return out


def _ring_s(full: Full) -> float:
    return full.number("decay_s") * LENGTH_TIMES + full.number("pre_delay_ms") * 1e-3


def _says(full: Full) -> str:
    high = band_decay_s(full, 8000)
    return f"rings {full.number('decay_s'):.1f} s in the middle, {high:.1f} s at 8 kHz"


HALL = Kind(
    name="hall",
    label="Hall",
    family="Space",
    about="Sets the sound in a large room.",
    spec=SettingsSpec(
        (
            Field(name="decay_s", label="Decay", default=3.2, unit="s", low=0.3, high=12, step=0.1,
                  log=True),
            Field(name="low_cut_hz", label="Low cut", default=280, unit="Hz", low=20, high=2000,
                  step=1, log=True, off_low=True),
            Field(name="damping", label="Damping", default=45, unit="%", low=0, high=100),
            Field(name="pre_delay_ms", label="Pre-delay", default=18, unit="ms", low=0, high=250),
            Field(name="size", label="Size", default=50, unit="%", low=0, high=100),
            Field(name="width", label="Width", default=100, unit="%", low=0, high=100),
        )
    ),
    says=_says,
    linear=Linear(through=_through, ring_s=_ring_s),
    tail_s=_ring_s,
    draws=True,
)  # fmt: skip
