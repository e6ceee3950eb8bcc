"""The colour of a voice moved by itself: the shape of a spectrum, not its lines."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio.buffers import Stereo

FRAME, HOP = 2048, 512
QUEFRENCY_S = 0.0022  # what is slower along the spectrum is its shape: vowels of voices up to A4
MOST_DB = 24.0
FLOOR_DB = -80.0  # under the loudest line: what lies between lines is not followed down
ROUNDS = 4


def vowels_moved(audio: Stereo, semitones: float, rate: int) -> Stereo:
    """Return sound (2, n) whose spectral shape lies that many semitones higher, notes as before.

    The shape is an envelope over the lines of each short frame, found by smoothing the logarithm
    of the spectrum again and again while it is raised to what stands out (true envelope).
    """
    n = audio.shape[1]
    count = -(-(n + FRAME) // HOP)
    padded = np.zeros((2, (count - 1) * HOP + FRAME), np.float32)
    padded[:, FRAME - HOP : FRAME - HOP + n] = audio
    window = np.hanning(FRAME + 1)[:-1].astype(np.float32)
    out, weight = np.zeros_like(padded), np.zeros(padded.shape[1], np.float32)
    for i in range(count):
        here = np.s_[i * HOP : i * HOP + FRAME]
        weight[here] += window * window
    for first in range(0, count, 64):  # what is worked on at once stays small
        some = range(first, min(first + 64, count))
        frames = np.stack([padded[:, i * HOP : i * HOP + FRAME] for i in some], axis=1) * window
        spectra = sf.rfft(frames)
        gain = _gain(np.abs(spectra).sum(axis=0), semitones, rate)
        frames = sf.irfft(spectra * gain, FRAME) * window
        for at, i in enumerate(some):
            out[:, i * HOP : i * HOP + FRAME] += frames[:, at]
    out = out / np.maximum(weight, 1e-3)
    return np.ascontiguousarray(out[:, FRAME - HOP : FRAME - HOP + n], np.float32)


def _gain(size: NDArray[np.float32], semitones: float, rate: int) -> NDArray[np.float32]:
    """By how much each bin of each frame is to be louder: (frames, bins)."""
    loudest = np.maximum(size.max(axis=1, keepdims=True), 1e-9)
    level = np.log(np.maximum(size, loudest * 10 ** (FLOOR_DB / 20)))
    shape = _envelope(level, rate)
    bins = np.arange(size.shape[1])
    there = np.minimum(bins * 2 ** (-semitones / 12), size.shape[1] - 1)
    below = there.astype(int)
    above, share = np.minimum(below + 1, size.shape[1] - 1), (there - below).astype(np.float32)
    moved = shape[:, below] * (1 - share) + shape[:, above] * share
    most = MOST_DB / 20 * np.log(10)
    return np.exp(np.clip(moved - shape, -most, most)).astype(np.float32)


def _envelope(level: NDArray[np.float32], rate: int) -> NDArray[np.float32]:
    """A smooth curve over a spectrum's lines: (frames, bins), natural logarithms."""
    keep = int(QUEFRENCY_S * rate)
    lifter = np.zeros(FRAME // 2 + 1, np.float32)
    lifter[:keep] = 1
    lifter[keep : 2 * keep] = 0.5 + 0.5 * np.cos(np.pi * np.arange(keep) / keep)

    def smooth(curve: NDArray[np.float32]) -> NDArray[np.float32]:
        full = np.concatenate([curve, curve[:, -2:0:-1]], axis=1)
        return sf.irfft(sf.rfft(full) * lifter, FRAME)[:, : FRAME // 2 + 1]

    shape = smooth(level)
    for _ in range(ROUNDS):
        shape = smooth(np.maximum(level, shape))
    return np.asarray(shape, np.float32)
