"""A bank of decaying partials, computed as a matrix product.

A partial is ``Re(a * exp((2 pi i f - d) t))``. Written with ``t = (row * B + column) / rate`` the
exponential splits into a factor of the row and a factor of the column, so hundreds of partials
become one product of a (rows, 2P) with a (2P, B) matrix: additive synthesis by
multiplying matrices.
"""

import numpy as np
from numpy.typing import NDArray

BLOCK = 256
STRIDE = 16
FLOOR = 1e-5  # -100 dB
FIRST_ROWS = 24  # stretches between two looks at who is still sounding: 0.14 s, then doubling


def decaying_partials(
    hz: NDArray[np.float64],
    decay: NDArray[np.float64],
    amplitude: NDArray[np.complex128],
    frames: int,
    rate: int,
    floor: float = FLOOR,
) -> NDArray[np.float32]:
    """Return the sum of decaying partials, (channels, frames).

    Parameters
    ----------
    hz : (P,) frequencies; those at or above half the rate are left out, so nothing aliases.
    decay : (P,) decay rates in nepers per second (6.908 / T60).
    amplitude : (channels, P) complex amplitudes; tones that share their partials (soft and hard,
        left and right) are channels of one call.
    floor : a partial is left out when it is this far below the loudest one's start.
    """
    use = hz < 0.49 * rate
    hz, decay, amplitude = hz[use], decay[use], amplitude[:, use]
    size = np.abs(amplitude).max(axis=0)
    with np.errstate(divide="ignore"):
        lasts = np.log(np.maximum(size, 1e-30) / (floor * size.max(initial=1e-30))) / np.maximum(
            decay, 1e-9
        )
    order = np.argsort(-lasts)
    hz, decay, amplitude, lasts = hz[order], decay[order], amplitude[:, order], lasts[order]

    rows = -(-frames // BLOCK)
    out = np.zeros((len(amplitude), rows, BLOCK), np.float32)
    column = _rotation(hz, decay, 0, 1, BLOCK, rate).T
    # Real and imaginary parts in turn, as a complex row lies in memory.
    right = np.stack([column.real, -column.imag], axis=1).reshape(2 * len(hz), BLOCK)
    amplitude = amplitude.astype(np.complex64)
    row, stretch = 0, FIRST_ROWS
    while row < rows:
        end = min(rows, row + stretch)
        alive = int(np.searchsorted(-lasts, -row * BLOCK / rate))
        if alive == 0:
            break
        turn = _rotation(hz[:alive], decay[:alive], row * BLOCK, BLOCK, end - row, rate)
        weighted = np.multiply(turn, amplitude[:, None, :alive], order="C")
        left = weighted.view(np.float32).reshape(-1, 2 * alive)
        out[:, row:end] = (left @ right[: 2 * alive]).reshape(len(amplitude), -1, BLOCK)
        row, stretch = end, stretch * 2
    return out.reshape(len(amplitude), rows * BLOCK)[:, :frames]


def _rotation(
    hz: NDArray[np.float64],
    decay: NDArray[np.float64],
    first: int,
    step: int,
    count: int,
    rate: int,
) -> NDArray[np.complex64]:
    """``exp((2 pi i f - d) t)`` as (count, P), for t from ``first`` frames on, ``step`` apart.

    The exponential splits once more, into long and short strides: a product of two small tables
    costs a tenth of the sines.
    """
    strides = -(-count // STRIDE)
    long = _exponential(hz, decay, (first + np.arange(strides) * STRIDE * step) / rate)
    short = _exponential(hz, decay, np.arange(min(STRIDE, count)) * step / rate)
    return (long[:, None] * short).reshape(-1, len(hz))[:count]


def _exponential(
    hz: NDArray[np.float64], decay: NDArray[np.float64], seconds: NDArray[np.float64]
) -> NDArray[np.complex64]:
    turns = np.outer(seconds, hz)  # reduced in double precision first
    angle = ((turns - np.floor(turns)) * (2 * np.pi)).astype(np.float32)
    level = np.exp(np.outer(seconds, -decay).astype(np.float32))
    out = np.empty(angle.shape, np.complex64)
    np.multiply(np.cos(angle), level, out=out.real)
    np.multiply(np.sin(angle), level, out=out.imag)
    return out
