"""Short noises: hammers, picks, keys. Each is one draw of shaped noise."""

import numpy as np
import scipy.fft as sf

from cloudrift.audio.buffers import Stereo, raised_cosine


def burst(
    rng: np.random.Generator,
    *,
    rate: int,
    seconds: float,
    decay_ms: float,
    low_hz: float,
    high_hz: float,
    width: float = 0.4,
    rise_ms: float = 1.0,
) -> Stereo:
    """Return a decaying band of noise, (2, frames), with an RMS of about 1 at its start.

    ``width`` is the share of side signal (0 = mono). It rises over ``rise_ms``, so there is no
    step at its first sample.
    """
    frames = int(seconds * rate)
    length = sf.next_fast_len(2 * frames, real=True)
    hz = np.fft.rfftfreq(length, 1 / rate)
    with np.errstate(divide="ignore"):
        shape = 1 / np.sqrt((1 + (low_hz / np.maximum(hz, 1)) ** 4) * (1 + (hz / high_hz) ** 6))
    noise = sf.irfft(sf.rfft(rng.standard_normal((2, length))) * shape, length)[:, :frames]
    noise /= max(float(noise.std()), 1e-9)
    mid, side = noise
    envelope = np.exp(-np.arange(frames) / (decay_ms * 1e-3 * rate))
    rise = max(2, int(rise_ms * 1e-3 * rate))
    envelope[:rise] *= raised_cosine(rise)
    fall = frames // 4
    envelope[-fall:] *= raised_cosine(fall)[::-1]
    out = np.stack([mid + width * side, mid - width * side]) * envelope
    return out.astype(np.float32)


def add_at_start(tone: Stereo, noise: Stereo, gain: float) -> None:
    """Add a noise to the first frames of a tone, in place."""
    count = min(tone.shape[1], noise.shape[1])
    tone[:, :count] += np.float32(gain) * noise[:, :count]
