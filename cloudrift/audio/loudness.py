"""Loudness and peaks of a loop in its steady state."""

import functools

import numpy as np
import scipy.fft as sf
import soxr
from numpy.typing import NDArray

from cloudrift.audio.buffers import QUIET_DB, Stereo, to_db
from cloudrift.audio.wrap import fast_length

BLOCK_S, HOP_S = 0.4, 0.1  # gating block and its hop, BS.1770-4
ABSOLUTE_GATE_LUFS, RELATIVE_GATE_LU = -70.0, -10.0
OFFSET_LU = -0.691  # so that a full-scale 997 Hz sine in one channel reads -3.01 LUFS


def integrated_lufs(audio: Stereo, rate: int) -> float:
    """Return integrated loudness after ITU-R BS.1770-4, in LUFS; QUIET_DB for silence.

    A loop has no start, so its blocks wrap round the seam. The K-weighting filters are
    pyloudnorm's; they are applied as a response in one transform because a loop's loudness is
    wanted at every edit, and filtering sample by sample takes ten times as long.
    """
    n = audio.shape[1]
    length = fast_length(n)
    weighted = sf.irfft(sf.rfft(audio, length, workers=2) * _k_response(length, rate), length)
    power = (weighted[:, :n].astype(np.float32) ** 2).sum(axis=0, dtype=np.float64)
    block, hop = int(BLOCK_S * rate), int(HOP_S * rate)
    wrapped = np.concatenate([[0.0], np.cumsum(np.resize(power, n + block))])
    starts = np.arange(0, n, hop)
    means = (wrapped[starts + block] - wrapped[starts]) / block
    with np.errstate(divide="ignore"):
        loud = OFFSET_LU + 10 * np.log10(means)
    kept = means[loud > ABSOLUTE_GATE_LUFS]
    if not len(kept):
        return QUIET_DB
    gate = OFFSET_LU + 10 * np.log10(kept.mean()) + RELATIVE_GATE_LU
    kept = means[loud > max(gate, ABSOLUTE_GATE_LUFS)]
    return float(OFFSET_LU + 10 * np.log10(kept.mean()))


@functools.lru_cache(maxsize=4)
def _k_response(length: int, rate: int) -> NDArray[np.complex64]:
    import pyloudnorm  # noqa: PLC0415 - it brings half a second of imports

    z = np.exp(-1j * np.linspace(0, np.pi, length // 2 + 1))
    total = np.ones(len(z), complex)
    for stage in pyloudnorm.Meter(rate)._filters.values():
        total *= np.polyval(stage.b[::-1], z) / np.polyval(stage.a[::-1], z)
    return total.astype(np.complex64)


MOST_PEAKS = 96


def true_peak_db(audio: Stereo, rate: int) -> float:
    """Return the true peak in dBTP, four times oversampled around the loudest samples."""
    n = audio.shape[1]
    level = np.max(np.abs(audio), axis=0)
    peak = float(level.max(initial=0.0))
    if peak <= 0:
        return QUIET_DB
    # Only the neighbourhoods of near-peak samples can hold the true peak: the highest of them.
    tops = (level > 0.7 * peak) & (level >= np.roll(level, 1)) & (level >= np.roll(level, -1))
    near = np.flatnonzero(tops)
    near = near[np.argsort(-level[near], kind="stable")[:MOST_PEAKS]]
    for at in near:
        piece = audio[:, np.arange(at - 64, at + 64) % n]
        over = soxr.resample(np.ascontiguousarray(piece.T), rate, 4 * rate, quality="HQ")
        peak = max(peak, float(np.max(np.abs(over[128:-128]))))
    return to_db(peak)
