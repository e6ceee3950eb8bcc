"""Which key some notes are in, and how well they fit others."""

import functools
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from cloudrift.theory.key import SCALES, Key
from cloudrift.theory.pitch import FLAT_NAMES, SHARP_NAMES


def _swapped(profile: tuple[float, ...], one: int, other: int) -> tuple[float, ...]:
    places = {one: other, other: one}
    return tuple(profile[places.get(i, i)] for i in range(len(profile)))


# How well each note of the chromatic scale was heard to fit a key: the probe-tone ratings of
# Krumhansl and Kessler, Psychological Review 89 (1982), from the tonic up.
PROFILES: dict[str, tuple[float, ...]] = {
    "major": (6.35, 2.23, 3.48, 2.33, 4.38, 4.09, 2.52, 5.19, 2.39, 3.66, 2.29, 2.88),
    "minor": (6.33, 2.68, 3.52, 5.38, 2.60, 3.53, 2.54, 4.75, 3.98, 2.69, 3.34, 3.17),
}
# Minor with the degree that each mode has otherwise in its place.
PROFILES["dorian"] = _swapped(PROFILES["minor"], 8, 9)
PROFILES["phrygian"] = _swapped(PROFILES["minor"], 1, 2)
TWO: tuple[str, ...] = ("major", "minor")
MODES: tuple[str, ...] = (*TWO, "dorian", "phrygian")
# What speaks for a key, and how much (log odds): fitted to 68 pieces with written analyses, 292
# four-part chorales and sketches of the house's own cards, so that a confidence is the share of
# guesses that are right; for dorian and phrygian, to 400 rows of the bench. ``FROM_NOTES`` is for
# notes without chords, which tell major from minor alone.
FROM_CHORDS = {
    "fit": 1.30, "outside": -11.2, "first": 2.09, "last": 1.54, "cadences": 2.47, "home": 1.63,
    "dominants": 3.01, "minor": 1.18, "dorian": 0.4, "phrygian": 0.0, "modal cadences": 1.8,
    "modal dominants": 2.7,
}  # fmt: skip
# The same for a row that was heard, in sound: fitted to 360 loops of this program's own making (the
# first of the bench; others are what is measured).
FROM_SOUND = {
    "fit": 3.32, "outside": -4.06, "raw fit": 2.62, "raw outside": -4.59, "first": 1.59,
    "last": 0.64, "cadences": 8.6, "home": 2.58, "bass": 1.16, "opening": 1.93, "minor": 1.34,
}  # fmt: skip
FROM_NOTES = {"fit": 4.27, "outside": -19.94, "minor": 0.21}


@dataclass(frozen=True)
class KeyGuess:
    """A key and how sure the guess is, 0 to 1: the weight of this key among all that were asked."""

    key: Key
    confidence: float


def plain_key(pc: int, mode: str) -> Key:
    """Return the key on a pitch class, spelled with the fewest accidentals."""
    names = (SHARP_NAMES[pc % 12], FLAT_NAMES[pc % 12])
    return min((Key(n, mode) for n in names), key=lambda k: (abs(k.signature), k.tonic))


class HeardChord(NamedTuple):
    """A chord in a row: its pitch classes, its root as one, and how long it lasts (any unit)."""

    tones: frozenset[int]
    root: int
    length: float


def guess_keys(
    weights: Sequence[float] | NDArray[np.float64], chords: Sequence[HeardChord] = ()
) -> list[KeyGuess]:
    """Return all major and minor keys, the likeliest first; dorian and phrygian too, from chords.

    Beside what sounds, it counts which chord is first and last, how often a dominant goes home,
    and how long both last: where a row dwells on its dominant, notes alone name that.

    Parameters
    ----------
    weights : how much each of the 12 pitch classes sounds (any unit, C first).
    chords : the chords in order; none if they are not known.
    """
    heard = np.asarray(weights, np.float64)
    if heard.sum() <= 0:
        return [KeyGuess(plain_key(0, "minor"), 0.0)]
    counts = FROM_CHORDS if chords else FROM_NOTES
    notes = _Notes(heard)

    def marks(pc: int, mode: str) -> dict[str, float]:
        found = notes.marks(pc, mode)
        return found | _Row(chords, pc, mode).marks() if chords else found

    return _ranked(counts, marks, MODES if chords else TWO)


class HeardSound(NamedTuple):
    """What was heard of a recording's notes: how much each of the 12 pitch classes sounds in all,
    in the bass, and at its start (C first), and the chords that were made out in it.
    """

    every: NDArray[np.float64]
    bass: NDArray[np.float64]
    opening: NDArray[np.float64]
    chords: Sequence[HeardChord]


def guess_keys_of(sound: HeardSound, *, goes_round: bool) -> list[KeyGuess]:
    """Return all 24 major and minor keys of a recording, the likeliest first.

    Where it ``goes_round``, its last chord leads to its first.
    """
    if sound.every.sum() <= 0 or not sound.chords:
        return [KeyGuess(plain_key(0, "minor"), 0.0)]
    every, bass, opening = (x / max(float(x.sum()), 1e-9) for x in sound[:3])
    chords = list(sound.chords)
    lengths = [c.length for c in chords]
    tones = _Notes(np.array(weights_of([tuple(c.tones) for c in chords], lengths)))
    played = _Notes(every)

    def marks(pc: int, mode: str) -> dict[str, float]:
        written = tones.marks(pc, mode) | _Row(chords, pc, mode).marks(goes_round=goes_round)
        raw = played.marks(pc, mode)
        home = [pc, (pc + (3 if mode == "minor" else 4)) % 12, (pc + 7) % 12]
        return written | {
            "raw fit": raw["fit"],
            "raw outside": raw["outside"],
            "bass": float(bass[pc]),
            "opening": float(opening[home].sum()),
        }

    return _ranked(FROM_SOUND, marks, TWO)


def _ranked(
    counts: Mapping[str, float],
    marks_of: Callable[[int, str], Mapping[str, float]],
    modes: Sequence[str],
) -> list[KeyGuess]:
    """All keys of some modes by what speaks for each, with the share of it that each has."""
    keys, scores = [], []
    for mode in modes:
        for pc in range(12):
            marks = marks_of(pc, mode)
            scores.append(sum(counts[name] * marks.get(name, 0.0) for name in counts))
            keys.append(plain_key(pc, mode))
    weight = np.exp(np.array(scores) - max(scores))
    share = weight / weight.sum()
    order = np.argsort(-share, kind="stable")
    return [KeyGuess(keys[i], float(share[i])) for i in order]


class _Notes:
    """What speaks for a key in how much each pitch class sounds, each 0 to 1."""

    def __init__(self, heard: NDArray[np.float64]) -> None:
        self._share = heard / heard.sum()
        away = heard - heard.mean()
        self._away = away / max(float(np.linalg.norm(away)), 1e-12)

    def marks(self, pc: int, mode: str) -> dict[str, float]:
        """How it correlates with a key's profile (from -1), and what of it lies outside."""
        of = _OF_MODE[mode]
        return {
            "fit": float(self._away @ of.profiles[pc]),
            "outside": float(1 - self._share @ of.inside[pc]),
            mode: 1.0,
        }


class _Mode(NamedTuple):
    """A mode on each of the 12 tonics: its profile, without its mean and of length 1, and scale."""

    profiles: NDArray[np.float64]
    inside: NDArray[np.float64]


def _mode(name: str) -> _Mode:
    away = np.array(PROFILES[name]) - np.mean(PROFILES[name])
    away /= np.linalg.norm(away)
    # The leading note belongs to minor as it is used.
    scale = {*SCALES[name], 11} if name == "minor" else set(SCALES[name])
    inside = np.array([float(pc in scale) for pc in range(12)])
    return _Mode(
        np.stack([np.roll(away, pc) for pc in range(12)]),
        np.stack([np.roll(inside, pc) for pc in range(12)]),
    )


_OF_MODE = {name: _mode(name) for name in PROFILES}


class _Row:
    """What speaks for a key in a row of chords, each 0 to 1."""

    def __init__(self, chords: Sequence[HeardChord], pc: int, mode: str) -> None:
        self._chords, self._pc, self._mode = chords, pc, mode
        self._third, self._other = ((pc + i) % 12 for i in ((4, 3) if mode == "major" else (3, 4)))

    def marks(self, *, goes_round: bool = False) -> dict[str, float]:
        """Return all of them; where it ``goes_round``, its last chord leads to its first."""
        chords, pc = self._chords, self._pc
        first, last = chords[0], chords[-1]
        total = sum(chord.length for chord in chords) or 1.0
        around = [*chords, first] if goes_round else chords
        closes = sum(self._leads(one) and then.root == pc for one, then in pairwise(around))
        modal = "" if self._mode in TWO else "modal "
        return {
            "first": float(self._is_home(first)),
            # Minor may end in major.
            "last": float(self._is_home(last) or (self._mode == "minor" and last.root == pc)),
            f"{modal}cadences": closes / max(1, len(around) - 1),
            "home": sum(chord.length for chord in chords if self._is_home(chord)) / total,
            f"{modal}dominants": sum(c.length for c in chords if self._leads(c)) / total,
        }

    def _is_home(self, chord: HeardChord) -> bool:
        there = self._third in chord.tones or self._other not in chord.tones
        return chord.root == self._pc and there

    def _leads(self, chord: HeardChord) -> bool:
        """Whether a chord leads home: a dominant, and in modes what takes its place."""
        pc, leading, fifth = self._pc, (self._pc + 11) % 12, (self._pc + 7) % 12
        if self._mode == "dorian":  # major on the fourth
            return chord.root == (pc + 5) % 12 and (pc + 9) % 12 in chord.tones
        if self._mode == "phrygian":  # a half step above, or minor below
            below = chord.root == (pc + 10) % 12 and (pc + 1) % 12 in chord.tones
            return below or chord.root == (pc + 1) % 12
        if chord.root == leading:  # a fifth without its root
            return fifth not in chord.tones
        return chord.root == fifth and leading in chord.tones


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


@functools.lru_cache(maxsize=256)
def home_of(key: Key) -> int:
    """Return the tonic of the major scale with the same notes, as far as there is one."""
    notes = set(key.scale)
    for pc in range(12):
        if {(pc + step) % 12 for step in SCALES["major"]} == notes:
            return pc
    minor = (key.pc + 3) % 12 in notes and (key.pc + 4) % 12 not in notes
    return (key.pc + 3) % 12 if minor else key.pc


# The likeliest first: a minor key's dominant is of its own harmonic minor.
_TO_MINOR = ("minor", "harmonic minor", "major", "dorian", "phrygian", "melodic minor",
             "mixolydian", "lydian", "phrygian dominant", "locrian")  # fmt: skip
_TO_MAJOR = ("major", "minor", "mixolydian", "lydian", "harmonic minor", "dorian", "phrygian",
             "melodic minor", "phrygian dominant", "locrian")  # fmt: skip


def lender_of(pcs: Iterable[int], key: Key) -> Key | None:
    """Return the scale on a key's tonic that a chord with notes outside the key borrows from.

    The usual ones come first. None for a chord of the key, and for one that no such scale has.
    """
    notes = {pc % 12 for pc in pcs}
    if notes <= set(key.scale):
        return None
    lenders = _TO_MINOR if (key.pc + 3) % 12 in key.scale else _TO_MAJOR
    others = (Key(key.tonic, mode) for mode in lenders)
    return next((one for one in others if notes <= set(one.scale)), None)


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
