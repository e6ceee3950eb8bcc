"""Curves that bend a wave sample by sample, and the steep edge that ends their overtones.

Each is averaged between neighbouring samples (first-order antiderivative antialiasing, Parker et
al. 2016), in a form in which nothing cancels where neighbours are equal.
"""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import quick
from cloudrift.audio.buffers import Mono, Stereo
from cloudrift.audio.wrap import BLOCK, shaped_oversampled

Wave = NDArray[np.float32]


def before(x: Wave) -> Wave:
    """Return the sample before each."""
    return np.concatenate([x[..., :1], x[..., :-1]], axis=-1)


def soft(x: Wave) -> Wave:
    """x / sqrt(1 + x^2), averaged: its area under the curve is sqrt(1 + x^2). May change ``x``."""
    if quick.library and x.flags.c_contiguous and x.flags.writeable and x.ndim == 2:
        return quick.soften(x)
    root = x * x
    root += 1
    np.sqrt(root, out=root)
    out = x.copy()
    out[..., 1:] += x[..., :-1]
    root[..., 1:] += root[..., :-1]  # NumPy sees that both are the same and reads the old ones
    out /= root
    return out


def hard(x: Wave) -> Wave:
    """Flat beyond one; where a step crosses the edge, the area under it over its length."""
    last = before(x)
    out = np.clip((x + last) * np.float32(0.5), -1, 1)
    crosses = (np.abs(x) > 1) != (np.abs(last) > 1)
    crosses |= (np.abs(x) > 1) & (x * last < 0)
    a, b = x[crosses], last[crosses]
    out[crosses] = (_area(a) - _area(b)) / (a - b)
    return out


def _area(x: Wave) -> Wave:
    size = np.abs(x)
    return np.where(size <= 1, np.float32(0.5) * x * x, size - np.float32(0.5))


def fold(x: Wave) -> Wave:
    """sin(pi x / 2), averaged: that of the middle, times how far the step smears it."""
    last = before(x)
    middle = np.sin((x + last) * np.float32(np.pi / 4))
    return middle * np.sinc((x - last) * np.float32(0.25)).astype(np.float32)


SHAPES: dict[str, Callable[[Wave], Wave]] = {"soft": soft, "hard": hard, "fold": fold}


def band_edge(edge_hz: float, rate: int, length: int) -> Mono:
    """Return the gain of a steep high cut, (length // 2 + 1,)."""
    hz = np.fft.rfftfreq(length, 1 / rate)
    over = np.clip((hz / edge_hz - 0.92) / 0.08, 0, 1)
    return (0.5 + 0.5 * np.cos(np.pi * over)).astype(np.float32)


def saturate(audio: Stereo, gain: float, edge_hz: float, rate: int) -> Stereo:
    """Round the peaks, unity gain for quiet sound, up to a band edge, loop-true."""

    def shape(wave: Wave) -> Wave:
        wave *= np.float32(gain)
        return soft(wave)

    return shaped_oversampled(audio, shape, band_edge(edge_hz, rate, BLOCK) / np.float32(gain))
