"""A reference recording: its tempo, its key, and the chords it seems to hold."""

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import NamedTuple

import numpy as np

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.files import read_audio
from cloudrift.audio.listen import note_weights
from cloudrift.audio.listen.labels import read_labels
from cloudrift.audio.listen.tempo import BEATS_A_BAR
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.reading import reading
from cloudrift.notes.listening import Heard, chords_heard, listen_to
from cloudrift.theory.fit import KeyGuess, guess_keys
from cloudrift.theory.symbols import WrittenChord

LONGEST_S = 120.0  # more says no more about key and tempo, and takes longer
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
    return read_with_sound(path).reference


class Listened(NamedTuple):
    """A recording's sound, (2, frames), the first two minutes of it; all that was heard in it."""

    audio: Stereo
    rate: int
    heard: Heard
    reference: Reference


def read_with_sound(path: Path) -> Listened:
    """Listen to a recording, and keep its sound; raise CloudriftError as ``read_reference``."""
    audio, rate = read_audio(path, LONGEST_S)
    with reading(str(path), "recording to analyse"):
        heard = listen_to(audio, rate, read_labels(path))
        return Listened(audio, rate, heard, _reference(audio, rate, heard, str(path)))


def listen(audio: Stereo, rate: int, where: str) -> Reference:
    """Listen to audio; ``where`` names it in errors."""
    return _reference(audio, rate, listen_to(audio, rate), where)


def _reference(audio: Stereo, rate: int, heard: Heard, where: str) -> Reference:
    if not heard.tempos:
        raise CloudriftError(f"{where} has too few onsets to estimate a tempo; use a longer part")
    beats = heard.beats_s[heard.downbeat :]
    if len(beats) < BEATS_A_BAR:
        raise CloudriftError(f"{where} is shorter than a bar; use a longer part")
    every, bass = note_weights(audio, rate, np.array([*beats, audio.shape[1] / rate]))
    keys = heard.keys or tuple(guess_keys(every.sum(axis=0)))
    return Reference(
        tempos=tuple(round(guess.tempo, 2) for guess in heard.ranked),
        keys=keys[:MOST_KEYS],
        chords=chords_heard(every, bass),
        start_s=beats[0],
    )


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
