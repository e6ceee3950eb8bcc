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

# (1, bins): the same for both channels; (2, 2, bins): [to, from], when channels feed each other.
Response = NDArray[np.complex64]
FFT_WORKERS = 2
BEFORE = 4096  # frames that a response may reach back: smooth phases ring a little both ways


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
    length = n if fast_length(n) == n else fast_length(n + ring_frames + 2 * BEFORE)
    spectrum = sf.rfft(audio, length, workers=FFT_WORKERS)
    response = response_at(length)
    if response.ndim == 3:
        spectrum = np.einsum("oib,ib->ob", response, spectrum)
    else:
        spectrum *= response
    out = sf.irfft(spectrum, length, workers=FFT_WORKERS, overwrite_x=True)
    if length == n:
        return np.ascontiguousarray(out)
    # The last frames of the transform are those before time zero.
    ordered = np.concatenate([out[:, -BEFORE:], out[:, :-BEFORE]], axis=1)
    return np.roll(fold(ordered, n), -BEFORE, axis=1)


def shaped_oversampled(
    audio: Stereo,
    shape: Callable[[NDArray[np.float32]], NDArray[np.float32]],
    response_at: Callable[[int], NDArray[np.float32]],
) -> Stereo:
    """Bend a loop's wave at twice its rate, then filter it (zero phase), in the steady state.

    Parameters
    ----------
    shape : a memoryless curve for one channel; overtones it makes up to the doubled Nyquist
        frequency are taken away rather than folded back.
    response_at : given an FFT length, a real response at its bins, applied on the way down.
    """
    n = audio.shape[1]
    length = fast_length(n + 2 * BEFORE)
    length += length % 2
    length = fast_length(length)
    at = np.arange(-BEFORE, length - BEFORE) % n
    fade = raised_cosine(BEFORE // 2)
    out = np.empty_like(audio)

    def run(channel: int) -> None:
        padded = audio[channel, at]  # the loop runs on at both ends; only far ends are faded
        padded[: len(fade)] *= fade
        padded[-len(fade) :] *= fade[::-1]
        high = sf.irfft(sf.rfft(padded), 2 * length) * np.float32(2)
        bent = sf.rfft(shape(high))[: length // 2 + 1] * response_at(length)
        out[channel] = sf.irfft(bent, length)[BEFORE : BEFORE + n] * np.float32(0.5)

    both(run)
    return out


def read_circular(audio: Stereo, positions: NDArray[np.float64]) -> Stereo:
    """Read a loop at fractional frame positions (cubic B-spline, wrapped): (2, len(positions)).

    Positions that move steadily read memory nearly in order, so this is quick; the weights are
    shared by both channels.
    """
    from scipy.ndimage import spline_filter1d  # noqa: PLC0415 - slow to import, rarely needed

    n = audio.shape[1]
    whole = np.floor(positions)
    f = (positions - whole).astype(np.float32)
    at = np.remainder(whole.astype(np.int64), n)
    g = 1 - f
    weights = (g**3 / 6, 2 / 3 - f * f * (1 - f / 2), 2 / 3 - g * g * (1 - g / 2), f**3 / 6)
    out = np.empty((2, len(positions)), np.float32)

    def read(channel: int) -> None:
        spline = spline_filter1d(audio[channel], order=3, mode="grid-wrap", output=np.float32)
        padded = np.concatenate([spline[-1:], spline, spline[:2]])
        total = padded[at] * weights[0]
        for k in (1, 2, 3):
            total += padded[at + k] * weights[k]
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
