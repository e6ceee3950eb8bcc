"""Air: noise that follows the note, through a pipe, over a lip or between voices."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio.buffers import Mono, Stereo
from cloudrift.ground.draws import rng_for
from cloudrift.ground.lru import memoize
from cloudrift.sound.instrument import Tone, ToneRequest
from cloudrift.sound.kit.noise import Shape, lasting, wandering
from cloudrift.theory.pitch import pitch_to_hz

LONG = 1 << 16


@memoize
def _hiss(rate: int) -> tuple[NDArray[np.float32], NDArray[np.complex64]]:
    """What all notes share: a soft hiss by frequency, and drawn phases, (2, bins)."""
    hz = np.fft.rfftfreq(LONG, 1 / rate)
    gain = 0.08 / np.sqrt(1 + (hz / 5200) ** 4) * (hz < 0.45 * rate)
    drawn = rng_for(0, "breath").random((2, len(hz)))
    return gain.astype(np.float32), np.exp(2j * np.pi * drawn).astype(np.complex64)


@memoize
def breath_noise(pitch: int, rate: int) -> Stereo:
    """Return noise round the first harmonics of a note over a soft hiss, (2, LONG), RMS 1."""
    hiss, turn = _hiss(rate)
    f0, bin_hz = pitch_to_hz(pitch), rate / LONG
    low = np.arange(len(hiss), dtype=np.float32) * np.float32(bin_hz / (0.8 * f0))
    np.square(low, out=low)
    gain = hiss * low / np.sqrt(1 + low * low)
    for k, level in ((1, 1.0), (2, 0.8), (3, 0.5), (4, 0.3)):
        bins = np.arange(int((k - 0.4) * f0 / bin_hz), int((k + 0.4) * f0 / bin_hz))
        bins = bins[bins < 0.9 * len(hiss)]
        gain[bins] += level * np.exp(-0.5 * ((bins * bin_hz / f0 - k) / 0.09) ** 2)
    mid, side = sf.irfft(gain * turn, LONG)
    out = np.stack([mid + 0.4 * side, mid - 0.4 * side])
    out /= out.std()
    return np.asarray(out, np.float32)


def aired(
    request: ToneRequest,
    tone: Tone,
    level: float,
    *,
    steady_db: float,
    chiff_db: float,
    chiff_ms: float = 45,
    soft_db: float = -5,
) -> Tone:
    """Add breath to a tone: beside it all along, and more at its start.

    Levels are in dB against the tone, at a ``level`` of 0.5; ``soft_db`` is how much weaker it is
    in the soft tone. It never repeats, and no two keys share it.
    """
    if level == 0:
        return tone
    rng = rng_for(request.variant, "air", request.pitch)
    noise = wandering(breath_noise(request.pitch, request.rate), rng, request.frames, request.rate)
    steady, chiff = (np.float32(2 * level * 10 ** (db / 20)) for db in (steady_db, chiff_db))
    noise *= steady + chiff * _dying(request.frames, request.rate, chiff_ms)
    return Tone(tone.soft + np.float32(10 ** (soft_db / 20)) * noise, tone.hard + noise)


def beside(
    request: ToneRequest, tone: Tone, name: str, shape: Shape, level: float, soft_db: float = -6
) -> Tone:
    """Lay a steady noise of a spectrum beside a tone: rosin, hiss, dust; it never repeats."""
    if level == 0:
        return tone
    rng = rng_for(request.variant, name, request.pitch)
    noise = wandering(lasting(name, request.rate, shape), rng, request.frames, request.rate)
    noise *= np.float32(level)
    return Tone(tone.soft + np.float32(10 ** (soft_db / 20)) * noise, tone.hard + noise)


@memoize
def _dying(frames: int, rate: int, ms: float) -> Mono:
    t = np.arange(frames, dtype=np.float32)
    return np.asarray(np.exp(t * np.float32(-1e3 / (ms * rate))))
