"""Pairs of sines, one bending the other's phase.

The index is held to what fits under half the rate: a pair's overtones reach about the carrier
plus (index + 5) modulators before they are 80 dB down, so nothing folds back.
"""

import numpy as np

from cloudrift.audio.buffers import Mono
from cloudrift.sound.kit.table import turns

REACH = 5.0


def index_limit(carrier_hz: float, modulator_hz: float, rate: int) -> float:
    """Return the largest index that leaves no overtone above half the rate."""
    return max(0.0, (0.49 * rate - carrier_hz) / modulator_hz - REACH)


def pair(
    carrier_hz: float,
    modulator_hz: float,
    index: Mono | float,
    frames: int,
    rate: int,
    *,
    phase: float = 0.0,
    modulator_phase: float = 0.0,
) -> Mono:
    """Return sin(carrier + index * sin(modulator)), (frames,), its index held to the limit."""
    most = index_limit(carrier_hz, modulator_hz, rate)
    if carrier_hz > 0.48 * rate:
        return np.zeros(frames, np.float32)
    bend = _sine(modulator_hz, frames, rate, modulator_phase)
    bend *= np.minimum(index, np.float32(most))
    angle = _angle(carrier_hz, frames, rate, phase)
    angle += bend
    return np.sin(angle)


def _angle(hz: float, frames: int, rate: int, phase: float) -> Mono:
    """The angle of each frame in radians, within half a turn of 0; exact however long it runs."""
    count = turns(hz, None, frames, rate, phase / (2 * np.pi))
    angle = count.view(np.int32).astype(np.float32)
    angle *= np.float32(np.pi / 2**31)
    return angle


def _sine(hz: float, frames: int, rate: int, phase: float) -> Mono:
    if hz > 0.48 * rate:
        return np.zeros(frames, np.float32)
    return np.sin(_angle(hz, frames, rate, phase))
