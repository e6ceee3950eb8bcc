"""Vowels: the resonances of a mouth, as a gain by frequency."""

import numpy as np
from numpy.typing import NDArray

# Centre in Hz, bandwidth in Hz, level in dB; averages of sung vowels, mixed choir.
VOWELS: dict[str, tuple[tuple[float, float, float], ...]] = {
    "ah": ((700, 110, 0), (1150, 120, -5), (2700, 160, -18), (3500, 220, -22), (4950, 300, -34)),
    "eh": ((530, 90, 0), (1750, 130, -10), (2500, 160, -16), (3550, 220, -24), (4950, 300, -36)),
    "oo": ((330, 70, 0), (760, 90, -12), (2500, 170, -32), (3300, 220, -38), (4950, 300, -48)),
    "mm": ((260, 70, 0), (1050, 180, -24), (2200, 220, -36), (3000, 260, -42), (4600, 320, -54)),
}
FLOOR = 0.003  # between resonances a voice is quiet, not silent


def vowel(name: str, hz: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return a vowel's gain at frequencies: a sum of resonances over a low floor."""
    gain = np.full(len(hz), FLOOR)
    for centre, width, db in VOWELS[name]:
        gain += 10 ** (db / 20) / np.sqrt(1 + ((hz - centre) / (width / 2)) ** 2)
    return gain


def between(low: str, high: str, share: float, hz: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return a gain between two vowels, in dB: 0 is the first, 1 the second."""
    return np.asarray(vowel(low, hz) ** (1 - share) * vowel(high, hz) ** share)
