"""Loop-true mathematics: what a process does to a sound that repeats for ever.

A linear process over a periodic input is a circular convolution. It is computed as a linear one
at a fast FFT length whose tail is folded back, because the loop's own length may be prime.
"""

from collections.abc import Callable

import numpy as np
import scipy.fft as sf
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo

Response = NDArray[np.complex64]  # (2, bins) or (1, bins)
FFT_WORKERS = 2


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


def filter_circular(
    audio: Stereo, response_at: Callable[[int], Response], ring_frames: int
) -> Stereo:
    """Apply a linear process to a loop in its steady state.

    Parameters
    ----------
    audio : (2, n) the loop.
    response_at : given an FFT length, the complex response at its real-FFT bins.
    ring_frames : how long the process rings; what rings on after the end is folded to the start.
    """
    n = audio.shape[1]
    length = n if fast_length(n) == n else fast_length(n + ring_frames)
    spectrum = sf.rfft(audio, length, workers=FFT_WORKERS)
    spectrum *= response_at(length)
    out = sf.irfft(spectrum, length, workers=FFT_WORKERS, overwrite_x=True)
    return np.ascontiguousarray(out if length == n else fold(out, n))


def read_circular(audio: Stereo, positions: NDArray[np.float64]) -> Stereo:
    """Read a loop at fractional frame positions (cubic spline, wrapped): (2, len(positions))."""
    from scipy.ndimage import map_coordinates  # noqa: PLC0415 - half a second at import

    out = np.empty((2, len(positions)), np.float32)
    for channel in range(2):
        map_coordinates(
            audio[channel], positions[None], output=out[channel], order=3, mode="grid-wrap"
        )
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
