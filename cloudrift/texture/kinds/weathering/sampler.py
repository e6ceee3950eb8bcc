"""An early sampler: fewer samples a second, fewer bits each, with its filters or without."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.looped import slice_wrapped

FULL_RATE_HZ = 44_100.0
MOST_BITS = 16.0  # from here on bits are not counted
FILTERED, RAW = "with", "without"


def _waited(rate_hz: float, frames: int, rate: int) -> NDArray[np.float32]:
    """How many frames ago the slower clock last ticked; a whole number of ticks fills the loop."""
    count = max(1, round(frames / rate * rate_hz))
    at = np.arange(frames)
    return (at - -(-(at * count // frames) * frames // count)).astype(np.float32)


def hold(audio: Stereo, rate_hz: float, rate: int, *, frames: int, start: int = 0) -> Stereo:
    """Hold each sample until the next of a slower clock: images and all.

    ``audio`` is any stretch from ``start`` on of a loop of ``frames``, or turns of all of it.
    """
    count = audio.shape[1]
    back = slice_wrapped(_waited(rate_hz, frames, rate), start, count).astype(np.int64)
    return audio[:, np.maximum(np.arange(count) - back, 0)]


def quantised(audio: Stereo, bits: float, share: float = 1.0) -> Stereo:
    """Round to that many bits of full scale: an SNR of 6.02 bits + 1.76 dB for a full-scale sine.

    ``share`` is how much of the band is kept afterwards: the noise of a converter that ran at the
    lower rate would lie in that band alone, so steps are as much larger as the filter takes away.
    """
    step = np.float32(2.0 ** (1 - bits) / np.sqrt(share))
    return np.asarray(np.round(audio / step) * step, np.float32)
