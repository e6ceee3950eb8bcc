"""Hall, room and plate: the response of a space, drawn from noise."""

import functools
from typing import NamedTuple

import numpy as np
import scipy.fft as sf
from numpy.typing import NDArray

from cloudrift.audio.wrap import Spectrum, fold
from cloudrift.ground.draws import stream
from cloudrift.ground.settings import Field, Full, SettingsSpec
from cloudrift.texture.kind import Context, Kind, Linear

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


class Walls(NamedTuple):
    """What tells one space from another: its early answers, how soon it thickens (s), its draw."""

    early: int
    soonest_s: float
    slowest_s: float
    name: str


@functools.lru_cache(maxsize=16)
def _impulse(
    walls: Walls, settings: tuple[tuple[str, float], ...], draw: int, rate: int
) -> NDArray[np.float32]:
    """The space's response, (2, frames), as loud on average as what goes in."""
    full = Full(dict(settings))
    frames = int(full.number("decay_s") * LENGTH_TIMES * rate)
    # Noise is drawn in a few lengths, so that dragging the decay keeps the same hall.
    size = 1 << max(15, int(np.ceil(np.log2(frames))))
    noise = _banded_noise(draw, size, rate)[:, :, :frames]
    t = np.arange(frames, dtype=np.float32) / rate
    out = np.zeros((2, frames), np.float32)
    for band, hz in enumerate(BAND_HZ):
        out += noise[band] * np.exp(np.float32(-6.908 / band_decay_s(full, hz)) * t)
    size_s = walls.soonest_s + walls.slowest_s * full.number("size") / 100
    out *= 1 - np.exp(-t / np.float32(size_s))  # a larger hall answers later and thickens slowly
    fall = frames // 8
    out[:, -fall:] *= np.linspace(1, 0, fall, dtype=np.float32)
    rng = stream(draw, f"{walls.name} early")
    for _ in range(walls.early):
        at = int(rng.uniform(0.15, 1.0) * size_s * 1.6 * rate) + 8
        if at < frames:
            out[:, at] += (rng.uniform(-1, 1, 2) * 6.0).astype(np.float32)
    out /= np.sqrt((out**2).sum() / 2)
    delay = int(full.number("pre_delay_ms") * 1e-3 * rate)
    return np.pad(out, ((0, 0), (delay, 0)))


@functools.lru_cache(maxsize=12)
def _sides(
    walls: Walls, settings: tuple[tuple[str, float], ...], draw: int, rate: int, length: int
) -> NDArray[np.complex64]:
    """The hall's left and right as spectra, (2, bins)."""
    full = Full(dict(settings))
    h = sf.rfft(fold(_impulse(walls, settings, draw, rate), length), workers=2)
    hz = np.fft.rfftfreq(length, 1 / rate).astype(np.float32)
    under = np.square(np.float32(full.number("low_cut_hz")) / np.maximum(hz, np.float32(0.1)))
    h /= np.sqrt(1 + under * under)
    mid, side = (h[0] + h[1]) / 2, (h[0] - h[1]) / 2 * np.float32(full.number("width") / 100)
    return np.stack([mid + side, mid - side])


def _through(
    walls: Walls, spectrum: Spectrum, full: Full, draw: int, context: Context, length: int
) -> Spectrum:
    """Each side of the hall hears both sides of the input, its own more."""
    settings = tuple(sorted((k, float(v)) for k, v in full.items()))  # numbers only
    left, right = _sides(walls, settings, draw, context.rate, length)
    near, far = np.float32(NEAR), np.float32(FAR)
    out = np.empty_like(spectrum)
    np.multiply(near * spectrum[0] + far * spectrum[1], left, out=out[0])
    np.multiply(far * spectrum[0] + near * spectrum[1], right, out=out[1])
    return out


def _ring_s(full: Full, _where: object) -> float:
    return full.number("decay_s") * LENGTH_TIMES + full.number("pre_delay_ms") * 1e-3


def _says(full: Full) -> str:
    high = band_decay_s(full, 8000)
    return f"rings {full.number('decay_s'):.1f} s in the middle, {high:.1f} s at 8 kHz"


def _space(
    walls: Walls, about: str, *, decay: tuple[float, float, float], size: float, pre_delay: float,
    low_cut: float, damping: float,
) -> Kind:  # fmt: skip
    """Return a kind of space; ``decay`` is its default, least and most, in seconds."""
    usual, least, most = decay
    return Kind(
        name=walls.name,
        label=walls.name.capitalize(),
        family="Space",
        about=about,
        spec=SettingsSpec((
            Field(name="decay_s", label="Decay", default=usual, unit="s", low=least, high=most,
                  step=0.1 if least >= 0.3 else 0.01, log=True),
            Field(name="low_cut_hz", label="Low cut", default=low_cut, unit="Hz", low=20,
                  high=2000, step=1, log=True, off_low=True),
            Field(name="damping", label="Damping", default=damping, unit="%", low=0, high=100),
            Field(name="pre_delay_ms", label="Pre-delay", default=pre_delay, unit="ms", low=0,
                  high=250),
            Field(name="size", label="Size", default=size, unit="%", low=0, high=100),
            Field(name="width", label="Width", default=100, unit="%", low=0, high=100),
        )),
        says=_says,
        linear=Linear(through=functools.partial(_through, walls), ring_s=_ring_s),
        tail_s=_ring_s,
        blend=0.35,
        draws=True,
    )  # fmt: skip


HALL = _space(Walls(14, 0.004, 0.05, "hall"), "Sets the sound in a large room.",
              decay=(3.2, 0.3, 12), size=50, pre_delay=18, low_cut=280, damping=45)  # fmt: skip
ROOM = _space(Walls(36, 0.001, 0.012, "room"), "Sets the sound in a small room with near walls.",
              decay=(0.5, 0.1, 2), size=40, pre_delay=2, low_cut=160, damping=60)  # fmt: skip
PLATE = _space(Walls(0, 0.0005, 0.004, "plate"), "A sheet of metal: dense at once, bright.",
               decay=(1.8, 0.3, 8), size=20, pre_delay=0, low_cut=350, damping=15)  # fmt: skip
