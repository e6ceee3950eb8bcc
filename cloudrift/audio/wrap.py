"""Loop-true mathematics: what a process does to a sound that repeats for ever.

A linear process over a periodic input is a circular convolution. It is computed as a linear one
at a fast FFT length whose tail is folded back, because the loop's own length may be prime.
"""

from collections.abc import Callable

import numpy as np
import scipy.fft as sf
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo, raised_cosine
from cloudrift.audio.pair import both

Spectrum = NDArray[np.complex64]  # (2, bins) or (2, blocks, bins)
Through = Callable[[Spectrum, int], Spectrum]  # a spectrum and its FFT length -> what comes out
FFT_WORKERS = 2
BEFORE = 4096  # frames that a response may reach back: smooth phases ring a little both ways
BLOCK = 16_384  # a block and its spectrum stay in the processor's cache
AFTER = 1024  # frames that a response may reach back within a block
LONGEST_BLOCK_RING = BLOCK // 2


def fast_length(frames: int) -> int:
    """Return the next length at which a real FFT is quick."""
    return int(sf.next_fast_len(frames, real=True))


def fold(audio: NDArray[np.float32], frames: int) -> NDArray[np.float32]:
    """Add everything behind ``frames`` back to the start, wrapped; shape (channels, frames)."""
    length = audio.shape[-1]
    if length <= frames:
        padded = np.zeros((audio.shape[0], frames), np.float32)
        padded[:, :length] = audio
        return padded
    rounds = -(-length // frames)
    padded = np.zeros((audio.shape[0], rounds * frames), np.float32)
    padded[:, :length] = audio
    return padded.reshape(audio.shape[0], rounds, frames).sum(axis=1)


def filter_circular(audio: Stereo, through: Through, ring_frames: int) -> Stereo:
    """Apply a linear process to a loop in its steady state.

    A process that rings briefly is run over overlapping blocks that fit the processor's cache,
    which is three times quicker than one long transform.

    Parameters
    ----------
    audio : (2, n) the loop.
    through : given a real spectrum and its FFT length, the spectrum that comes out; it may
        change what it is given.
    ring_frames : how long the process rings; what rings on after the end is folded to the start.
    """
    n = audio.shape[1]
    if ring_frames <= LONGEST_BLOCK_RING and n > 2 * BLOCK:
        return _filter_blocks(audio, through, ring_frames)
    length = n if fast_length(n) == n else fast_length(n + ring_frames + 2 * BEFORE)
    spectrum = through(sf.rfft(audio, length, workers=FFT_WORKERS), length)
    out = sf.irfft(spectrum, length, workers=FFT_WORKERS, overwrite_x=True)
    if length == n:
        return np.ascontiguousarray(out)
    # The last frames of the transform are those before time zero.
    ordered = np.concatenate([out[:, -BEFORE:], out[:, :-BEFORE]], axis=1)
    return np.roll(fold(ordered, n), -BEFORE, axis=1)


def _blocks(padded: NDArray[np.float32], hop: int) -> NDArray[np.float32]:
    """View (…, frames) as overlapping blocks, (…, count, BLOCK), without copying."""
    return np.lib.stride_tricks.sliding_window_view(padded, BLOCK, axis=-1)[..., ::hop, :]


def _padded(audio: NDArray[np.float32], before: int, hop: int) -> NDArray[np.float32]:
    """Let a loop run on at both ends so that blocks of a hop cover all of it."""
    n = audio.shape[-1]
    count = -(-n // hop)
    after = (count - 1) * hop + BLOCK - before - n
    return np.concatenate([audio[..., n - before :], audio, audio[..., : max(after, 0)]], axis=-1)


def _filter_blocks(audio: Stereo, through: Through, ring_frames: int) -> Stereo:
    """Overlap-save: the first ``ring`` and the last ``AFTER`` frames of each block are not kept."""
    n = audio.shape[1]
    hop = BLOCK - ring_frames - AFTER
    spectrum = sf.rfft(_blocks(_padded(audio, ring_frames, hop), hop))
    out = sf.irfft(through(spectrum, BLOCK), BLOCK, overwrite_x=True)
    kept = out[:, :, ring_frames : ring_frames + hop]
    return np.ascontiguousarray(kept.reshape(2, -1)[:, :n])


def shaped_oversampled(
    audio: Stereo,
    shape: Callable[[NDArray[np.float32]], NDArray[np.float32]],
    response: NDArray[np.float32],
) -> Stereo:
    """Bend a loop's wave at twice its rate, then filter it (zero phase), in the steady state.

    Parameters
    ----------
    shape : a memoryless curve along the last axis; overtones it makes up to the doubled Nyquist
        frequency are taken away rather than folded back.
    response : a real response at the bins of a transform of BLOCK frames, for the way down.
    """
    n, edge = audio.shape[1], 2 * AFTER
    if n < BLOCK:  # a very short loop is bent as several of its turns
        turns = -(-BLOCK // n)
        return shaped_oversampled(np.tile(audio, turns), shape, response)[:, :n].copy()
    hop = BLOCK - 2 * edge
    fade = raised_cosine(edge // 2)
    window = np.ones(BLOCK, np.float32)
    window[: edge // 2], window[-(edge // 2) :] = fade, fade[::-1]
    out = np.empty_like(audio)

    def run(channel: int) -> None:
        blocks = _blocks(_padded(audio[channel], edge, hop), hop) * window
        high = sf.irfft(sf.rfft(blocks), 2 * BLOCK) * np.float32(2)
        bent = sf.rfft(shape(high))[:, : BLOCK // 2 + 1] * (response * np.float32(0.5))
        kept = sf.irfft(bent, BLOCK)[:, edge : edge + hop]
        out[channel] = kept.reshape(-1)[:n]

    both(run)
    return out


def read_displaced(audio: Stereo, away: NDArray[np.float32]) -> Stereo:
    """Read a loop with every frame displaced by ``away`` frames (cubic B-spline, wrapped).

    ``away`` is (n,), or one period of it. The weights are shared by both channels, and places
    that move steadily read memory nearly in order.
    """
    from scipy.ndimage import spline_filter1d  # noqa: PLC0415 - slow to import, rarely needed

    n = audio.shape[1]
    whole = np.floor(away)
    f = away - whole
    at = whole.astype(np.int64)
    at += np.arange(len(away))
    if len(away) < n:
        turns = n // len(away)
        at = (at + np.arange(turns)[:, None] * len(away)).reshape(-1)
        f = np.tile(f, turns)
    at %= n
    g = 1 - f
    third = np.float32(2 / 3)
    weights = (
        g * g * g / 6, third - f * f * (1 - f / 2), third - g * g * (1 - g / 2), f * f * f / 6,
    )  # fmt: skip
    out = np.empty((2, n), np.float32)

    def read(channel: int) -> None:
        spline = spline_filter1d(audio[channel], order=3, mode="grid-wrap", output=np.float32)
        padded = np.concatenate([spline[-1:], spline, spline[:2]])
        total = padded[at] * weights[0]
        for k in (1, 2, 3):
            total += padded[k:][at] * weights[k]
        out[channel] = total

    both(read)
    return out


def circular_noise(
    rng: np.random.Generator, frames: int, cycles_low: float, cycles_high: float
) -> NDArray[np.float64]:
    """Return a smooth random curve with period ``frames``, unit peak, between two cycle counts."""
    low, high = max(1, round(cycles_low)), max(2, round(cycles_high))
    length = fast_length(max(4 * high, 64))
    spectrum = np.zeros(length // 2 + 1, complex)
    count = high - low + 1
    spectrum[low : high + 1] = rng.standard_normal(count) + 1j * rng.standard_normal(count)
    coarse = sf.irfft(spectrum, length)
    from scipy.ndimage import map_coordinates  # noqa: PLC0415

    at = np.arange(frames) * (length / frames)
    curve = map_coordinates(coarse, at[None], order=3, mode="grid-wrap")
    return np.asarray(curve / np.max(np.abs(curve)))
