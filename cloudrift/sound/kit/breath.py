"""Breath: noise that follows the note, as air does through a pipe or over a lip."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio.buffers import Stereo
from cloudrift.ground.draws import stream
from cloudrift.ground.lru import kept
from cloudrift.sound.instrument import Tone, ToneRequest
from cloudrift.sound.kit.noise import read_round
from cloudrift.theory.pitch import pitch_to_hz

LONG = 1 << 16
CHIFF_MS = 45.0


@kept
def _hiss(rate: int) -> tuple[NDArray[np.float32], NDArray[np.complex64]]:
    """What all notes share: a soft hiss by frequency, and drawn phases, (2, bins)."""
    hz = np.fft.rfftfreq(LONG, 1 / rate)
    gain = 0.08 / np.sqrt(1 + (hz / 5200) ** 4) * (hz < 0.45 * rate)
    drawn = stream(0, "breath").random((2, len(hz)))
    return gain.astype(np.float32), np.exp(2j * np.pi * drawn).astype(np.complex64)


@kept
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


def breath(request: ToneRequest, tone: Tone, level: float, *, steady: float, chiff: float) -> Tone:
    """Add breath to a tone: ``steady`` beside it all along, ``chiff`` at its start."""
    if level == 0:
        return tone
    start = int(stream(request.variant, "breath start", request.pitch).integers(LONG))
    noise = read_round(breath_noise(request.pitch, request.rate), start, request.frames)
    noise *= np.float32(level) * _course(request.frames, request.rate, steady, chiff)
    return Tone(tone.soft + np.float32(0.35) * noise, tone.hard + noise)


def _course(frames: int, rate: int, steady: float, chiff: float) -> NDArray[np.float32]:
    t = np.arange(frames, dtype=np.float32) / np.float32(rate * CHIFF_MS / 1e3)
    return np.float32(steady) + np.float32(chiff) * np.exp(-t)
