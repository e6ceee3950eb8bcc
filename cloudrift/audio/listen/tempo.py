"""How fast a recording goes, where its beats are, and how sure that is."""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.listen.pulse import HOP, LISTEN_RATE, Pulse

SLOWEST_BPM, FASTEST_BPM = 50.0, 210.0
BEATS_A_BAR = 4
USUAL_BPM = 115.0
# What speaks for a tempo, in log odds: of each curve how much goes that many times a beat; how
# far the tempo lies from what people tap to; how many bars a whole loop would last. Fitted to 360
# loops of this program's own making (numbers 0 to 359 of the bench); others are what is measured.
BLOWS = SWELLS = (0.25, 0.5, 1.0, 2.0, 3.0, 4.0, 8.0)
NOTES = (1 / 16, 1 / 8, 0.25, 0.5, 1.0, 2.0)
FROM_BLOWS = (0.71, 1.34, -1.19, 1.42, -0.52, 0.35, 0.23)
FROM_SWELLS = (0.81, 0.98, -0.75, 1.54, -0.1, 0.48, 0.33)
FROM_NOTES = (-1.43, 1.6, 2.09, 0.88, -0.55, 3)
FROM_TEMPO = (-1.85, -0.16)  # square and first power of octaves from USUAL_BPM
FROM_BARS = {4: 1.97, 8: 2.41, 16: -1.03}
FROM_EVEN_BARS = 1.29  # 1, 2, 4, 8, …
STEP = 1 / 8  # of a turn more over the whole, from one tempo tried to the next
HARMONICS = ((1, 1.0), (2, 0.8), (4, 0.6), (8, 0.4))  # of the beat, to place it by
BEGINS_EARLY_S = 0.002  # a blow rises so much after its place
AT_THE_START = 0.2  # of the best place's agreement that a whole loop's own start needs
STRUCK = 0.12  # how much of what begins must agree for a loop to begin elsewhere than on a beat


class TempoGuess(NamedTuple):
    """A tempo in BPM, how sure it is (0 to 1), and over how many beats the recording goes.

    ``whole``: it lasts whole bars, so that the tempo follows from its length.
    """

    tempo: float
    confidence: float
    beats: float
    whole: bool


class _Turns:
    """How much of a pulse's curves goes round that many times over the whole of it."""

    def __init__(self, pulse: Pulse, pad: int) -> None:
        self._pad = pad
        curves = (*pulse.begins, pulse.changes)
        # Without its level: where a curve is padded, that would leak into the turns beside it.
        self._sizes = [
            np.abs(np.fft.rfft(curve - curve.mean(), len(curve) * pad))
            / max(float(curve.sum()), 1e-9)
            for curve in curves
        ]

    def at(self, curve: int, turns: NDArray[np.float64]) -> NDArray[np.float64]:
        size = self._sizes[curve]
        place = np.round(turns * self._pad).astype(int)
        inside = (place > 0) & (place < len(size))
        return np.where(inside, size[np.clip(place, 0, len(size) - 1)], 0.0)


def _score(
    turns: _Turns, beats: NDArray[np.float64], seconds: float, *, whole: bool
) -> NDArray[np.float64]:
    score = np.zeros(len(beats))
    for curve, (times, counts) in enumerate(
        ((BLOWS, FROM_BLOWS), (SWELLS, FROM_SWELLS), (NOTES, FROM_NOTES))
    ):
        for time, count in zip(times, counts, strict=True):
            score += count * turns.at(curve, beats * time)
    away = np.log2(60 * beats / seconds / USUAL_BPM)
    score += FROM_TEMPO[0] * away**2 + FROM_TEMPO[1] * away
    if whole:
        bars = beats / BEATS_A_BAR
        for count, speaks in FROM_BARS.items():
            score += speaks * (bars == count)
        score += FROM_EVEN_BARS * (np.log2(bars) % 1 == 0)
    return score


def rank_whole(pulse: Pulse) -> list[TempoGuess]:
    """Return the tempos at which a recording lasts whole bars, the likeliest first."""
    seconds = pulse.seconds
    beats = np.arange(BEATS_A_BAR, FASTEST_BPM * seconds / 60 + 1, BEATS_A_BAR, dtype=float)
    tempos = 60 * beats / seconds
    beats = beats[(tempos >= SLOWEST_BPM) & (tempos <= FASTEST_BPM)]
    return _ranked(_score(_Turns(pulse, 1), beats, seconds, whole=True), beats, seconds, True)


def rank_free(pulse: Pulse) -> list[TempoGuess]:
    """Return the tempos of a recording of any length, the likeliest first, none near another."""
    seconds = pulse.seconds
    beats = np.arange(SLOWEST_BPM, FASTEST_BPM, 60 / seconds * STEP) * seconds / 60
    if seconds < 1 or len(beats) < 3:
        return []
    turns = _Turns(pulse, round(1 / STEP))
    score = _score(turns, beats, seconds, whole=False)
    tops = np.flatnonzero((score[1:-1] > score[:-2]) & (score[1:-1] >= score[2:])) + 1
    if not len(tops):
        return []
    # The finest turns that are there tell the place of a top best.
    fine = [_finer(turns, beats[top]) for top in tops]
    return _ranked(score[tops], np.array(fine), seconds, False)


def _finer(turns: _Turns, beats: float) -> float:
    near = beats + np.linspace(-0.3, 0.3, 121)
    agree = sum(weight * turns.at(0, near * times) for times, weight in HARMONICS)
    return float(near[int(np.argmax(agree))])


def _ranked(
    score: NDArray[np.float64], beats: NDArray[np.float64], seconds: float, whole: bool
) -> list[TempoGuess]:
    if not len(beats):
        return []
    share = np.exp(score - score.max())
    share /= share.sum()
    out: list[TempoGuess] = []
    for i in np.argsort(-share, kind="stable"):
        tempo = 60 * float(beats[i]) / seconds
        if all(abs(np.log2(tempo / other.tempo)) > 0.03 for other in out):
            out.append(TempoGuess(tempo, float(share[i]), float(beats[i]), whole))
    return out


def first_beat_s(pulse: Pulse, tempo: float, *, whole: bool) -> float:
    """Return when the first beat is, in seconds; a whole loop begins with one if it may."""
    beat = 60 / tempo
    curve = pulse.begins[0]
    at_s = np.arange(len(curve)) * HOP / LISTEN_RATE
    shifts = np.arange(0, beat, 0.001)
    agree = np.zeros(len(shifts))
    for times, weight in HARMONICS:
        turning = (curve * np.exp(-2j * np.pi * times / beat * at_s)).sum()
        agree += weight * np.real(turning * np.exp(2j * np.pi * times / beat * shifts))
    best = int(np.argmax(agree))
    near = np.minimum(shifts, beat - shifts) < 0.02  # either side of the start
    strength = agree[best] / max(float(curve.sum()), 1e-9) / sum(weight for _, weight in HARMONICS)
    if whole and (strength < STRUCK or agree[near].max() >= AT_THE_START * agree[best]):
        return 0.0
    return float((shifts[best] + BEGINS_EARLY_S) % beat)
