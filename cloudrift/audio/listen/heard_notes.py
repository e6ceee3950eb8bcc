"""Which notes sound when in a recording."""

from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio.buffers import Stereo

LONG_S = 0.3715  # semitones are apart from C2 up
LOWEST_HZ, HIGHEST_HZ, BASS_TO_HZ = 55.0, 2100.0, 210.0


def note_weights(
    audio: Stereo, rate: int, edges_s: NDArray[np.float64]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return how much each of the 12 pitch classes sounds between edges, in all and in the bass.

    Both are (edges - 1, 12), C first. Peaks of a long spectrum are taken, not its floor, so that
    hiss and drums weigh little; overtones count less than what they belong to.
    """
    from scipy.signal import find_peaks  # noqa: PLC0415 - a second to import, rarely needed

    mono = audio.mean(axis=0).astype(np.float64)
    long = 1 << round(np.log2(LONG_S * rate))
    hz = np.fft.rfftfreq(long, 1 / rate)
    inside = (hz >= LOWEST_HZ) & (hz <= HIGHEST_HZ)
    pitch = np.round(69 + 12 * np.log2(np.maximum(hz, 1e-9) / 440)).astype(int)
    fall = np.where(inside, (np.maximum(hz, LOWEST_HZ) / LOWEST_HZ) ** -0.6, 0)
    window = np.hanning(long)
    every = np.zeros((len(edges_s) - 1, 12))
    bass = np.zeros_like(every)
    for i, (start, end) in enumerate(pairwise(edges_s)):
        first, last = int(start * rate), int(end * rate)
        for at in range(first, max(first + 1, last - long // 4), long // 2):
            part = mono[at : at + long]
            if len(part) < long // 4:
                continue
            part = np.pad(part, (0, long - len(part))) * window
            power = np.abs(sf.rfft(part))
            tops, _ = find_peaks(power, height=0.01 * max(float(power.max()), 1e-9))
            weight = power[tops] * fall[tops]
            np.add.at(every[i], pitch[tops] % 12, weight)
            low = hz[tops] < BASS_TO_HZ
            np.add.at(bass[i], pitch[tops][low] % 12, weight[low])
    return every, bass
