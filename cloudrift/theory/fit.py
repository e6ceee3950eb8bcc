"""Which key some notes are in, and how well they fit others."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cloudrift.theory.key import SCALES, Key
from cloudrift.theory.pitch import FLAT_NAMES, SHARP_NAMES

# How well each note of the chromatic scale was heard to fit a key: the probe-tone ratings of
# Krumhansl and Kessler, Psychological Review 89 (1982), from the tonic up.
PROFILES = {
    "major": (6.35, 2.23, 3.48, 2.33, 4.38, 4.09, 2.52, 5.19, 2.39, 3.66, 2.29, 2.88),
    "minor": (6.33, 2.68, 3.52, 5.38, 2.60, 3.53, 2.54, 4.75, 3.98, 2.69, 3.34, 3.17),
}
# For a key whose home note is the root that the music starts on, and for one that it ends on: a
# loop begins at home more often than it ends there, for its end leads back.
HOME_BONUSES = (0.18, 0.08)
OUTSIDE_COST = 0.5  # for all of the sound being outside the scale
SHARPNESS = 14.0  # turns differences of fit into a confidence


@dataclass(frozen=True)
class KeyGuess:
    """A key and how sure the guess is, 0 to 1: the weight of this key among all 24."""

    key: Key
    confidence: float


def plain_key(pc: int, mode: str) -> Key:
    """Return the key on a pitch class, spelled with the fewest accidentals."""
    names = (SHARP_NAMES[pc % 12], FLAT_NAMES[pc % 12])
    return min((Key(n, mode) for n in names), key=lambda k: (abs(k.signature), k.tonic))


def guess_keys(
    weights: Sequence[float] | NDArray[np.float64], homes: Sequence[int] = ()
) -> list[KeyGuess]:
    """Return all 24 major and minor keys, the likeliest first.

    Parameters
    ----------
    weights : how much each of the 12 pitch classes sounds (any unit, C first).
    homes : the roots that the music starts and ends on; none if it is not known.
    """
    heard = np.asarray(weights, np.float64)
    total = heard.sum()
    if total <= 0:
        return [KeyGuess(plain_key(0, "minor"), 0.0)]
    keys, scores = [], []
    for mode, profile in PROFILES.items():
        for pc in range(12):
            rotated = np.roll(np.array(profile), pc)
            fit = float(np.corrcoef(rotated, heard)[0, 1]) if heard.std() > 0 else 0.0
            inside = [(pc + i) % 12 for i in SCALES[mode]]
            if mode == "minor":
                inside.append((pc + 11) % 12)  # the leading note belongs to minor as it is used
            outside = 1 - heard[inside].sum() / total
            home = sum(b for b, root in zip(HOME_BONUSES, homes, strict=False) if root == pc)
            scores.append(fit - OUTSIDE_COST * outside + home)
            keys.append(plain_key(pc, mode))
    weight = np.exp(SHARPNESS * (np.array(scores) - max(scores)))
    share = weight / weight.sum()
    order = np.argsort(-share, kind="stable")
    return [KeyGuess(keys[i], float(share[i])) for i in order]


def weights_of(voicings: Sequence[tuple[int, ...]], lengths: Sequence[float]) -> list[float]:
    """Return how much each pitch class sounds in chords that last as long as given."""
    out = [0.0] * 12
    for voices, length in zip(voicings, lengths, strict=True):
        for voice in set(voices):
            out[voice % 12] += length
    return out


def fit(weights: Sequence[float], key: Key) -> float:
    """Return which share of what sounds lies in a key's scale, 0 to 1."""
    total = sum(weights)
    return sum(weights[pc] for pc in set(key.scale)) / total if total > 0 else 1.0


def relative_of(key: Key) -> Key:
    """Return the key with the same notes and the other mode: A major for F♯ minor."""
    minor = (key.pc + 3) % 12 in key.scale
    pc, mode = (key.pc + 3, "major") if minor else (key.pc + 9, "minor")
    return plain_key(pc, mode)


def parallel_of(key: Key) -> Key:
    """Return the key with the same tonic and the other mode: F♯ major for F♯ minor."""
    minor = (key.pc + 3) % 12 in key.scale
    return plain_key(key.pc, "major" if minor else "minor")


def other_fits(weights: Sequence[float], key: Key, most: int = 4) -> list[tuple[Key, float]]:
    """Return the other major and minor keys that hold most of what sounds, the best first.

    Where two hold as much, the one with fewer accidentals between it and ``key`` comes first.
    """
    others = [plain_key(pc, mode) for mode in ("minor", "major") for pc in range(12)]
    found = [(k, fit(weights, k)) for k in others if (k.pc, k.mode) != (key.pc, key.mode)]
    found.sort(key=lambda item: (-item[1], abs(item[0].signature - key.signature)))
    return found[:most]
