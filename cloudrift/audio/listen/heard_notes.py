"""Which notes sound when in a recording."""

import functools
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio.buffers import Stereo

LONG_S = 0.3715  # semitones are apart from C2 up
LOWEST_HZ, HIGHEST_HZ, BASS_TO_HZ = 55.0, 2100.0, 210.0
AT_ONCE = 64  # spectra


def note_weights(
    audio: Stereo, rate: int, edges_s: NDArray[np.float64]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return how much each of the 12 pitch classes sounds between edges, in all and in the bass.

    Both are (edges - 1, 12), C first. Peaks of a long spectrum are taken, not its floor, so that
    hiss and drums weigh little; overtones count less than what they belong to.
    """
    mono = np.asarray(audio.mean(axis=0), np.float32)
    long = 1 << round(np.log2(LONG_S * rate))
    owners: list[int] = []
    starts: list[int] = []
    for i, (start, end) in enumerate(pairwise(edges_s)):
        first, last = int(start * rate), int(end * rate)
        for at in range(first, max(first + 1, last - long // 4), long // 2):
            if len(mono) - at >= long // 4:
                owners.append(i)
                starts.append(at)
    every = np.zeros((len(edges_s) - 1, 12))
    bass = np.zeros_like(every)
    if not starts:
        return every, bass
    padded = np.pad(mono, (0, long))
    window = np.hanning(long).astype(np.float32)
    to_every, to_bass = _classes(long, rate)
    for at in range(0, len(starts), AT_ONCE):
        parts = np.stack([padded[start : start + long] for start in starts[at : at + AT_ONCE]])
        power = np.abs(sf.rfft(parts * window))
        floor = 0.01 * np.maximum(power.max(axis=1, keepdims=True), 1e-9)
        low = power[:, : len(to_every) + 1]
        inner = low[:, 1:-1]
        stands = (inner > low[:, :-2]) & (inner >= low[:, 2:]) & (inner >= floor)
        tops = np.where(stands, inner, 0)
        where = owners[at : at + AT_ONCE]
        np.add.at(every, where, tops @ to_every[1:])
        np.add.at(bass, where, tops @ to_bass[1:])
    return every, bass


@functools.cache
def _classes(long: int, rate: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """How much each line of a spectrum counts for each pitch class, in all and in the bass.

    Up to the highest line that counts: (lines, 12).
    """
    hz = np.fft.rfftfreq(long, 1 / rate)
    hz = hz[hz <= HIGHEST_HZ]
    pitch = np.round(69 + 12 * np.log2(np.maximum(hz, 1e-9) / 440)).astype(int)
    fall = np.where(hz >= LOWEST_HZ, (np.maximum(hz, LOWEST_HZ) / LOWEST_HZ) ** -0.6, 0.0)
    every = fall[:, None] * (pitch[:, None] % 12 == np.arange(12))
    return every, every * (hz < BASS_TO_HZ)[:, None]
