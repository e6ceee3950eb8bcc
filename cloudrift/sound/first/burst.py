"""Short noises of one spectrum and fall, drawn anew for each: as the first designs have them."""

import numpy as np

from cloudrift.audio import fft as sf
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
    length = sf.next_fast_len(2 * frames)
    hz = np.fft.rfftfreq(length, 1 / rate)
    with np.errstate(divide="ignore"):
        shape = 1 / np.sqrt((1 + (low_hz / np.maximum(hz, 1)) ** 4) * (1 + (hz / high_hz) ** 6))
    white = rng.standard_normal((2, length)).astype(np.float32)
    noise = sf.irfft(sf.rfft(white) * shape.astype(np.float32), length)[:, :frames]
    noise /= max(float(noise.std()), 1e-9)
    mid, side = noise
    falling = np.float32(-1 / (decay_ms * 1e-3 * rate))
    envelope = np.exp(np.arange(frames, dtype=np.float32) * falling)
    rise = max(2, int(rise_ms * 1e-3 * rate))
    envelope[:rise] *= raised_cosine(rise)
    fall = frames // 4
    envelope[-fall:] *= raised_cosine(fall)[::-1]
    side *= np.float32(width)
    return np.asarray(np.stack([mid + side, mid - side]) * envelope)
