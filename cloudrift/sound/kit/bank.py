"""A bank of decaying partials, computed as a matrix product.

A partial is ``Re(a * exp((2 pi i f - d) t))``. Written with ``t = (row * B + column) / rate`` the
exponential splits into a factor of the row and a factor of the column, so hundreds of partials
become one product of a (rows, 2P) with a (2P, B) matrix: additive synthesis by
multiplying matrices.
"""

import numpy as np
from numpy.typing import NDArray

BLOCK = 256
FLOOR = 1e-5  # a partial that has decayed below -100 dB of the loudest is left out
FIRST_ROWS = 24  # stretches between two looks at who is still sounding: 0.14 s, then doubling


def decaying_partials(
    hz: NDArray[np.float64],
    decay: NDArray[np.float64],
    amplitude: NDArray[np.complex128],
    frames: int,
    rate: int,
) -> NDArray[np.float32]:
    """Return the sum of decaying partials, (channels, frames).

    Parameters
    ----------
    hz : (P,) frequencies; those at or above half the rate are left out, so nothing aliases.
    decay : (P,) decay rates in nepers per second (6.908 / T60).
    amplitude : (channels, P) complex amplitudes; tones that share their partials (soft and hard,
        left and right) are channels of one call.
    """
    use = hz < 0.49 * rate
    hz, decay, amplitude = hz[use], decay[use], amplitude[:, use]
    size = np.abs(amplitude).max(axis=0)
    with np.errstate(divide="ignore"):
        lasts = np.log(np.maximum(size, 1e-30) / (FLOOR * size.max(initial=1e-30))) / np.maximum(
            decay, 1e-9
        )
    order = np.argsort(-lasts)
    hz, decay, amplitude, lasts = hz[order], decay[order], amplitude[:, order], lasts[order]

    rows = -(-frames // BLOCK)
    out = np.zeros((len(amplitude), rows, BLOCK), np.float32)
    column = _rotation(hz, decay, np.arange(BLOCK), rate).T
    column_parts = np.concatenate([column.real, -column.imag]).reshape(2, len(hz), BLOCK)
    row, stretch = 0, FIRST_ROWS
    while row < rows:
        end = min(rows, row + stretch)
        alive = int(np.searchsorted(-lasts, -row * BLOCK / rate))
        if alive == 0:
            break
        turn = _rotation(hz[:alive], decay[:alive], np.arange(row, end) * BLOCK, rate)
        right = column_parts[:, :alive].reshape(2 * alive, BLOCK)
        for channel in range(len(amplitude)):
            weighted = turn * amplitude[channel, :alive].astype(np.complex64)
            out[channel, row:end] = np.concatenate([weighted.real, weighted.imag], axis=1) @ right
        row, stretch = end, stretch * 2
    return out.reshape(len(amplitude), rows * BLOCK)[:, :frames]


def _rotation(
    hz: NDArray[np.float64], decay: NDArray[np.float64], at: NDArray[np.int64], rate: int
) -> NDArray[np.complex64]:
    """``exp((2 pi i f - d) t)`` as (len(at), P): turns are reduced in double precision first."""
    turns = np.outer(at, hz / rate)
    angle = ((turns - np.floor(turns)) * (2 * np.pi)).astype(np.float32)
    level = np.exp(np.outer(at, -decay / rate).astype(np.float32))
    out = np.empty(angle.shape, np.complex64)
    np.multiply(np.cos(angle), level, out=out.real)
    np.multiply(np.sin(angle), level, out=out.imag)
    return out
