"""Boxes and boards: how evenly, and between which frequencies, they carry what rings on them."""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from cloudrift.ground.draws import rng_for
from cloudrift.ground.lru import memoize


def board(
    variation: int, low_hz: float, high_hz: float, uneven_db: float = 3.0
) -> Callable[[NDArray[np.float64]], NDArray[np.float64]]:
    """Return a gain by frequency: no support below, falling above, uneven between.

    ``variation`` decides where its bumps are; ``uneven_db`` is their standard deviation.
    """

    def gain(at: NDArray[np.float64]) -> NDArray[np.float64]:
        log_hz, bumps = _bumps(variation)
        db = uneven_db * np.interp(np.log(at), log_hz, bumps)
        db -= 10 * np.log10((1 + (low_hz / at) ** 4) * (1 + (at / high_hz) ** 2))
        return np.asarray(10 ** (db / 20))

    return gain


@memoize
def _bumps(variation: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    drawn = rng_for(variation, "board").standard_normal(170)
    log_hz = np.log(np.geomspace(25, 22_000, 160))
    return log_hz, np.convolve(drawn, np.hanning(11) / 2.2, "valid")


def lowpass(hz: NDArray[np.float64], edge_hz: float, power: float) -> NDArray[np.float64]:
    """Return the gain of a smooth low-pass: 1 / (1 + (f / edge) ** 4) ** power."""
    return np.asarray(1 / (1 + (hz / edge_hz) ** 4) ** power)
