"""What audio is here, and the smallest operations on it."""

import math

import numpy as np
from numpy.typing import NDArray

Stereo = NDArray[np.float32]  # (2, frames)
Mono = NDArray[np.float32]  # (frames,)

DEFAULT_RATE = 44_100
RATES = (44_100, 48_000)
QUIET_DB = -120.0  # what counts as nothing when a level is written in dB


def silence(frames: int) -> Stereo:
    """Return stereo silence."""
    return np.zeros((2, frames), np.float32)


def to_gain(db: float) -> float:
    """Return the linear gain of a level in dB."""
    return float(10.0 ** (db / 20.0))


def to_db(gain: float) -> float:
    """Return a linear gain in dB, never below QUIET_DB."""
    return max(QUIET_DB, 20.0 * math.log10(max(gain, 1e-12)))


def raised_cosine(frames: int) -> Mono:
    """Return a smooth rise from 0 to 1 over the frames."""
    return (0.5 - 0.5 * np.cos(np.pi * (np.arange(frames) + 0.5) / max(frames, 1))).astype(
        np.float32
    )


def add_wrapped(target: Stereo, part: Stereo, start: int) -> None:
    """Add a part into a loop from a start frame, wrapping round the seam as often as it takes."""
    n = target.shape[1]
    position, taken = start % n, 0
    while taken < part.shape[1]:
        count = min(n - position, part.shape[1] - taken)
        target[:, position : position + count] += part[:, taken : taken + count]
        taken += count
        position = 0
