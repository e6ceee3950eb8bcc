"""A reference recording: its tempo, its key, and the chords it seems to hold."""

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.files import read_audio
from cloudrift.audio.listen import note_weights, onsets
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.reading import reading
from cloudrift.notes.find_chords import chord_path, chord_tones_of
from cloudrift.notes.tempo import rank_tempos
from cloudrift.theory.fit import HeardChord, KeyGuess, guess_keys, weights_of
from cloudrift.theory.symbols import WrittenChord

LONGEST_S = 120.0  # more says no more about key and tempo, and takes longer
BEATS_A_BAR = 4
MOST_KEYS = 4  # that are shown to choose from


@dataclass(frozen=True, kw_only=True)
class Reference:
    """What was heard. ``tempos`` (BPM) and ``keys`` are the likeliest first.

    ``chords`` last whole beats. Which of its notes is lowest is not told: an overtone of a voice or
    a drum is as low as a bass, so that each chord is its root's.
    """

    tempos: tuple[float, ...]
    keys: tuple[KeyGuess, ...]
    chords: tuple[WrittenChord, ...]
    start_s: float


def read_reference(path: Path) -> Reference:
    """Listen to a recording; raise CloudriftError that says what is wrong with it."""
    audio, rate = read_audio(path, LONGEST_S)
    with reading(str(path), "recording to listen to"):
        return listen(audio, rate, str(path))


def listen(audio: Stereo, rate: int, where: str) -> Reference:
    """Listen to audio; ``where`` names it in errors."""
    times, weights = onsets(audio, rate)
    tempos = rank_tempos(times, weights)
    if not tempos:
        raise CloudriftError(
            f"{where} has too few beginnings of notes to tell a tempo; take a longer part"
        )
    beat = 60 / tempos[0]
    start = _first_beat(times, weights, beat)
    edges = np.arange(start, audio.shape[1] / rate, beat)
    if len(edges) < BEATS_A_BAR:
        raise CloudriftError(f"{where} is shorter than a bar; take a longer part")
    every, bass = note_weights(audio, rate, edges)
    chords = chords_heard(every, bass)
    # The chords have been cleared of overtones and noise: they say more about the key.
    lengths = [float(chord.bars or 1) for chord in chords]
    row = [HeardChord(frozenset(c.tones), c.tones[0], length)
           for c, length in zip(chords, lengths, strict=True)]  # fmt: skip
    keys = guess_keys(weights_of([c.tones for c in chords], lengths), row)[:MOST_KEYS]
    return Reference(tempos=tuple(tempos), keys=tuple(keys), chords=chords, start_s=start)


def _first_beat(times: NDArray[np.float64], weights: NDArray[np.float64], beat: float) -> float:
    """The first strong onset, moved onto the beat that all onsets together lie on."""
    turn = np.exp(2j * np.pi * times / beat)
    phase = (float(np.angle((weights * turn).sum())) / (2 * np.pi)) % 1 * beat
    strong = times[np.flatnonzero(weights > 0.3 * weights.max())[0]]
    return float(max(0.0, phase + round((strong - phase) / beat) * beat))


def chords_heard(every: NDArray[np.float64], bass: NDArray[np.float64]) -> tuple[WrittenChord, ...]:
    """Return the chords that seem to sound over beats, from ``note_weights``."""
    lows = [int(row.argmax()) if row.any() else -1 for row in bass]
    path = chord_path(every, lows, 0, BEATS_A_BAR)
    out: list[WrittenChord] = []
    start = 0
    for b in range(1, len(path) + 1):
        if b == len(path) or path[b] != path[start]:
            lasts = Fraction(b - start, BEATS_A_BAR)
            out.append(WrittenChord(tones=chord_tones_of(path[start]), bars=lasts))
            start = b
    return tuple(out)


def first_bars(chords: Sequence[WrittenChord], bars: int) -> tuple[WrittenChord, ...]:
    """Return the chords of the first bars, the last one cut where they end."""
    out: list[WrittenChord] = []
    left = Fraction(bars)
    for chord in chords:
        if left <= 0:
            break
        lasts = min(left, chord.bars or Fraction(1))
        out.append(WrittenChord(tones=chord.tones, bars=lasts))
        left -= lasts
    return tuple(out)
