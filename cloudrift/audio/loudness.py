"""Loudness and peaks of a loop in its steady state."""

import functools
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio import quick
from cloudrift.audio.buffers import QUIET_DB, Stereo, raised_cosine, to_db
from cloudrift.audio.wrap import AFTER, BLOCK, filter_circular
from cloudrift.ground.lru import memoize

BLOCK_S, HOP_S = 0.4, 0.1  # gating block and its hop, BS.1770-4
ABSOLUTE_GATE_LUFS, RELATIVE_GATE_LU = -70.0, -10.0
HEAD_HZ, HEAD_DB, HEAD_Q, HEAD_BEND = (
    1681.974450955533,
    3.999843853973347,
    0.7071752369554196,
    (0.4996667741545416),
)
LOW_HZ, LOW_Q = 38.13547087602444, 0.5003270373238773
K_RING_S = 0.07  # the high-pass has died away by -140 dB
OFFSET_LU = -0.691  # so that a full-scale 997 Hz sine in one channel reads -3.01 LUFS


def integrated_lufs(audio: Stereo, rate: int) -> float:
    """Return integrated loudness after ITU-R BS.1770-4, in LUFS; QUIET_DB for silence.

    A loop has no start, so its blocks wrap round the seam.
    """
    n = audio.shape[1]
    power = _weighted_power(audio, rate)
    block, hop = int(BLOCK_S * rate), int(HOP_S * rate)
    wrapped = np.zeros(n + block + 1)
    np.cumsum(np.resize(power, n + block), dtype=np.float64, out=wrapped[1:])
    starts = np.arange(0, n, hop)
    means = (wrapped[starts + block] - wrapped[starts]) / block
    with np.errstate(divide="ignore"):
        loud = OFFSET_LU + 10 * np.log10(means)
    memoize = means[loud > ABSOLUTE_GATE_LUFS]
    if not len(memoize):
        return QUIET_DB
    gate = OFFSET_LU + 10 * np.log10(memoize.mean()) + RELATIVE_GATE_LU
    memoize = means[loud > max(gate, ABSOLUTE_GATE_LUFS)]
    return float(OFFSET_LU + 10 * np.log10(memoize.mean()))


def _weighted_power(audio: Stereo, rate: int) -> NDArray[np.float32]:
    """The power of both sides after K-weighting, (frames,), round the seam."""
    ring = int(K_RING_S * rate)
    if quick.library:
        return quick.weighted_power(audio, _sections(rate), ring)
    weighted = filter_circular(audio, lambda s, length: s * _k_weighting(length, rate), ring)
    return np.einsum("cn,cn->n", weighted, weighted)


@memoize
def _k_weighting(length: int, rate: int) -> NDArray[np.complex64]:
    """The response of K-weighting at the bins of a transform."""
    delay = np.exp(-1j * np.linspace(0, np.pi, length // 2 + 1))
    out = np.ones(len(delay), complex)
    for section in _sections(rate):
        out *= np.polyval(section[2::-1], delay) / np.polyval(section[:2:-1], delay)
    return out.astype(np.complex64)


@functools.cache
def _sections(rate: int) -> NDArray[np.float64]:
    """K-weighting as two biquads: (2, 6), above and below, each from no delay to two frames.

    The standard lists them for 48 kHz. They are bilinear transforms of two prototypes, by which
    they are given at any rate: a shelf for the head, a high-pass for the low end.
    """
    k = np.tan(np.pi * HEAD_HZ / rate)
    high, middle = 10 ** (HEAD_DB / 20), 10 ** (HEAD_BEND * HEAD_DB / 20) * k / HEAD_Q
    head = [high + middle + k * k, 2 * (k * k - high), high - middle + k * k, *_poles(k, HEAD_Q)]
    # Above, the standard leaves the high-pass as it is, not divided by what it lets through.
    low = _poles(np.tan(np.pi * LOW_HZ / rate), LOW_Q)
    pass_high = [low[0], -2 * low[0], low[0], *low]
    return np.array([[x / one[3] for x in one] for one in (head, pass_high)])


def _poles(k: float, q: float) -> list[float]:
    """A biquad's denominator, the shortest delay first."""
    return [1 + k / q + k * k, 2 * (k * k - 1), 1 - k / q + k * k]


OVER = 4  # times the rate at which the peaks between samples are looked for
MOST_PEAKS = 96
REACH, NEAR = 64, 4  # frames that a peak is read from, and that it is looked for in
BEND = 9.0  # of the window: what it lets through is right to -90 dB


def intersample_peaks(
    audio: Stereo, *, above: float = 0.0, period: int | None = None
) -> NDArray[np.float32]:
    """Return the highest of both sides at and after each frame, up to the next: (frames,).

    The loop is looked at in blocks, at four times the rate; each turn of a ``period`` (frames) in
    blocks of its own, so that equal turns are equal. Where no sample of a block is ``above`` a
    level, the samples themselves are returned.
    """
    n = audio.shape[1]
    peak = np.abs(audio).max(axis=0)
    hop = BLOCK - 2 * AFTER
    padded = np.stack([np.resize(np.roll(side, AFTER), n + BLOCK) for side in audio])
    window = np.ones(BLOCK, np.float32)  # soft edges: they would ring into what is kept
    window[: AFTER // 2] = raised_cosine(AFTER // 2)
    window[-(AFTER // 2) :] = window[: AFTER // 2][::-1]
    period = period or n
    starts = [turn + at for turn in range(0, n, period) for at in range(0, period, hop)]
    for start, end in pairwise([*starts, n]):
        count = end - start
        if peak[start : start + count].max() <= above:
            continue
        spectrum = sf.rfft(padded[:, start : start + BLOCK] * window)
        for turned in _between():
            between = np.abs(sf.irfft(spectrum * turned, BLOCK)[:, AFTER : AFTER + count])
            np.maximum(peak[start:end], between.max(axis=0), out=peak[start:end])
    return peak


@functools.cache
def _between() -> tuple[NDArray[np.complex64], ...]:
    """What moves a block by a quarter, a half and three quarters of a frame."""
    bins = np.arange(BLOCK // 2 + 1)
    return tuple(
        np.exp(2j * np.pi * bins * part / (OVER * BLOCK)).astype(np.complex64)
        for part in range(1, OVER)
    )


def true_peak_db(audio: Stereo) -> float:
    """Return the true peak in dBTP, four times oversampled around the loudest samples."""
    n = audio.shape[1]
    level = np.max(np.abs(audio), axis=0)
    peak = float(level.max(initial=0.0))
    if peak <= 0:
        return QUIET_DB
    # Only the neighbourhoods of near-peak samples can hold the true peak: the highest of them.
    near = np.flatnonzero(level > 0.7 * peak)
    tops = (level[near] >= level[(near + 1) % n]) & (level[near] >= level[near - 1])
    near = near[tops]
    near = near[np.argsort(-level[near], kind="stable")[:MOST_PEAKS]]
    pieces = audio[:, (near[:, None] + np.arange(-REACH, REACH)) % n]
    return to_db(max(peak, float(np.abs(pieces @ _reading()).max())))


@functools.cache
def _reading() -> NDArray[np.float32]:
    """What reads a piece of 2 REACH frames about its middle: (frames, places), a sinc each."""
    places = np.arange(-NEAR * OVER, NEAR * OVER + 1) / OVER
    away = np.arange(-REACH, REACH)[:, None] - places
    inside = np.sqrt(np.maximum(1 - (away / (REACH - NEAR)) ** 2, 0))
    return (np.sinc(away) * np.i0(BEND * inside) / np.i0(BEND)).astype(np.float32)
