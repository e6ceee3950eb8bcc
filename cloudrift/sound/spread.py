"""Sustained ensembles as one long cycle: every partial is a narrow band, not a line.

The spectrum is written directly (a bell of lines around each harmonic, phases drawn) and turned
into one cycle of several seconds. It beats like many players, loops without a seam, has no alias,
and its mean pitch is exact because each bell is symmetric about its harmonic.
"""

import numpy as np
import scipy.fft as sf
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo

CYCLE = 1 << 17  # 3 s at 44 100 Hz: longer than a beat of its voices
SIDE_AT = 48_611  # the side signal is the same cycle read from here: other beats, no second one


def spread_cycle(
    rng: np.random.Generator,
    *,
    hz: NDArray[np.float64],
    amplitudes: NDArray[np.float64],
    spread_cents: float,
    rate: int,
) -> NDArray[np.float32]:
    """Return cycles, (tables, CYCLE), that share all phases and differ in their amplitudes.

    Parameters
    ----------
    hz : (P,) harmonic frequencies.
    amplitudes : (tables, P) RMS-like amplitudes of each harmonic.
    spread_cents : standard deviation of each harmonic's band.
    """
    bin_hz = rate / CYCLE
    spectrum = np.zeros((len(amplitudes), CYCLE // 2 + 1), np.complex64)
    loudest = amplitudes.max(axis=0)
    for k, centre in enumerate(hz):
        if centre >= 0.48 * rate or loudest[k] < 3e-4 * loudest.max():
            continue
        # Narrower than this, a bell on the grid of bins would pull the mean pitch.
        sigma = max(centre * (2 ** (spread_cents / 1200) - 1) / bin_hz, 0.8)
        place = centre / bin_hz
        bins = np.arange(max(1, int(place - 4 * sigma)), int(place + 4 * sigma) + 2)
        bell = np.exp(-0.5 * ((bins - place) / sigma) ** 2)
        bell /= np.sqrt((bell**2).sum())
        turn = np.exp(2j * np.pi * rng.random(len(bins))) * bell
        spectrum[:, bins[0] : bins[-1] + 1] += np.outer(amplitudes[:, k], turn).astype(np.complex64)
    out = sf.irfft(spectrum, CYCLE, overwrite_x=True)
    return np.asarray(out * np.float32(CYCLE / np.sqrt(2)), np.float32)


def read_cycle(cycle: NDArray[np.float32], start: int, frames: int, side: float) -> Stereo:
    """Read a cycle round and round from a start frame: (2, frames).

    ``side`` is how strong the side signal is beside the middle (0 = mono).
    """
    middle = np.resize(np.roll(cycle, -start), frames)
    apart = np.float32(side) * np.resize(np.roll(cycle, -start - SIDE_AT), frames)
    return np.stack([middle + apart, middle - apart])
