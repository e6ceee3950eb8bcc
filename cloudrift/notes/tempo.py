"""How fast something is, from where its notes or hits begin."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

SLOWEST_BPM, FASTEST_BPM = 55.0, 200.0
LIKELY_BPM, LIKELY_WIDTH = 110.0, 0.6  # of beats people tap to, in octaves
STEP_BPM = 0.1
MOST_ONSETS = 4000  # more say no more, and take memory for each tempo that is tried
DEFAULT_BPM = 120.0
# Onsets fall on the beat and on its halves and quarters; each has less to say than the one above.
DIVISIONS = ((1, 1.0), (2, 0.8), (4, 0.5))


def guess_tempo(
    onsets_s: Sequence[float] | NDArray[np.float64],
    weights: Sequence[float] | NDArray[np.float64] | None = None,
) -> float:
    """Return the tempo (BPM) on whose grid onsets (seconds, with weights) lie best.

    For every tempo it is measured how well the onsets agree in phase on its beat, halves and
    quarters; between half and double time a tempo that people tap to is taken.
    """
    ranked = rank_tempos(onsets_s, weights)
    return ranked[0] if ranked else DEFAULT_BPM


def rank_tempos(
    onsets_s: Sequence[float] | NDArray[np.float64],
    weights: Sequence[float] | NDArray[np.float64] | None = None,
    most: int = 3,
) -> list[float]:
    """Return the likeliest tempos, the best first, none near another; empty without onsets."""
    times = np.asarray(onsets_s, np.float64)[:MOST_ONSETS]
    loud = np.ones(len(times)) if weights is None else np.asarray(weights, np.float64)[:MOST_ONSETS]
    if len(times) < 3 or np.ptp(times) <= 0:
        return []
    bpm = np.arange(SLOWEST_BPM, FASTEST_BPM + STEP_BPM / 2, STEP_BPM)
    score = np.zeros(len(bpm))
    for division, weight in DIVISIONS:
        turns = np.exp(2j * np.pi * np.outer(bpm / 60 * division, times))
        score += weight * np.abs(turns @ loud) / loud.sum()
    score *= np.exp(-0.5 * (np.log2(bpm / LIKELY_BPM) / LIKELY_WIDTH) ** 2)
    found: list[float] = []
    for i in np.argsort(-score):
        if all(abs(np.log2(bpm[i] / other)) > 0.05 for other in found):
            found.append(float(round(bpm[i], 1)))
        if len(found) == most:
            break
    return found
