"""Filters that change from moment to moment: short overlapping frames of a loop, wrapped."""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio.buffers import Stereo, add_wrapped
from cloudrift.audio.looped import Looped, slice_wrapped
from cloudrift.audio.pair import per_channel
from cloudrift.texture.context import Context

FRAME, HOP = 2048, 512
Spectra = NDArray[np.complex64]  # (2, frames, bins)
Gain = NDArray[np.float32] | NDArray[np.complex64]  # (frames, bins), or (2, frames, bins)


def hz_of(rate: int) -> NDArray[np.float32]:
    """Return the frequency of each bin in Hz."""
    return np.fft.rfftfreq(FRAME, 1 / rate).astype(np.float32)


def count_of(context: Context) -> int:
    """Return how many frames one loop has: they begin evenly, about HOP apart."""
    return max(4, round(context.loop_frames / HOP))


def places(context: Context) -> NDArray[np.float64]:
    """Return where in the loop the middle of each frame lies: 0 to 1."""
    count = count_of(context)
    half = FRAME / 2 / context.loop_frames
    return np.asarray((np.arange(count) / count + half) % 1.0)


def _starts(context: Context) -> NDArray[np.int64]:
    n, count = context.loop_frames, count_of(context)
    return np.round(np.arange(count) * n / count).astype(np.int64)


WINDOW = np.hanning(FRAME + 1)[:-1].astype(np.float32)


def filtered(audio: Stereo, context: Context, gain_of: Callable[[Spectra], Gain]) -> Stereo:
    """Multiply each frame's spectrum by a gain of its own, in the steady state.

    ``gain_of`` sees the spectra of one whole loop; each turn of more is taken by itself.
    """
    n, starts = context.loop_frames, _starts(context)
    index = starts[:, None] + np.arange(FRAME)
    weight = np.zeros((1, n), np.float32)
    squared = np.square(WINDOW)[None]
    for start in starts:
        add_wrapped(weight, squared, int(start))
    out = np.zeros_like(audio)
    for turn in range(context.passes):
        source = slice_wrapped(audio, turn * n, n + FRAME)
        spectra = sf.rfft(source[:, index] * WINDOW)
        spectra = spectra * gain_of(spectra)

        def put(channel: int, spectra: Spectra = spectra, turn: int = turn) -> None:
            frames = sf.irfft(spectra[channel], FRAME, overwrite_x=True) * WINDOW
            target = out[channel : channel + 1]
            for frame, start in zip(frames, starts, strict=True):
                add_wrapped(target, frame[None], int(start) + turn * n)

        per_channel(put)
    return np.asarray(out / np.tile(weight, context.passes), np.float32)


def filtered_stretch(
    audio: Looped,
    context: Context,
    gain_at: Callable[[NDArray[np.float64]], Gain],
    start: int,
    count: int,
) -> Stereo:
    """Return some frames of what ``filtered`` makes with a gain that hears nothing: as if whole.

    ``gain_at`` is given where in the loop frames lie (0 to 1) and returns a gain for each.
    """
    n, starts = context.loop_frames, _starts(context)
    turns = np.arange((start - FRAME) // n, (start + count) // n + 1)
    at = (starts + turns[:, None] * n).reshape(-1)
    which = np.tile(np.arange(len(starts)), len(turns))
    near = (at > start - FRAME) & (at < start + count)
    at, which = at[near], which[near]
    source = slice_wrapped(audio, int(at[0]), int(at[-1] - at[0]) + FRAME)
    spectra = sf.rfft(source[:, (at - at[0])[:, None] + np.arange(FRAME)] * WINDOW)
    frames = sf.irfft(spectra * gain_at(places(context)[which]), FRAME, overwrite_x=True) * WINDOW
    out = np.zeros_like(source)
    weight = np.zeros(source.shape[1], np.float32)
    squared = np.square(WINDOW)
    for i, place in enumerate(at - at[0]):
        out[:, place : place + FRAME] += frames[:, i]
        weight[place : place + FRAME] += squared
    first = start - int(at[0])
    return out[:, first : first + count] / weight[first : first + count]


def smoothed(
    values: NDArray[np.float32], size: int, axis: int, *, round_the_loop: bool = False
) -> NDArray[np.float32]:
    """Return running means along an axis, round the seam or held at the ends.

    They are summed as they run, so that after something loud a little less than nothing may be
    left; no mean lies outside what it is the mean of.
    """
    from scipy.ndimage import uniform_filter1d  # noqa: PLC0415 - slow to import, rarely needed

    mode = "wrap" if round_the_loop else "nearest"
    means = uniform_filter1d(values, max(1, size), axis=axis, mode=mode)
    ends = (f(values, axis=axis, keepdims=True) for f in (np.min, np.max))
    return np.asarray(np.clip(means, *ends), np.float32)
