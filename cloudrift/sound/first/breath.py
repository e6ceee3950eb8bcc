"""Breath beside a note, as the first designs have it."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.ground.draws import stream
from cloudrift.sound.instrument import Tone, ToneRequest
from cloudrift.sound.kit.air import LONG, breath_noise
from cloudrift.sound.kit.noise import read_round

CHIFF_MS = 45.0


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
