"""Which key plays which note: three rows of the scale, and its chords on the digits.

Nobody has to know which notes are in the key: neighbouring keys are neighbouring scale notes, and
the same column is the same degree in every row.
"""

from dataclasses import dataclass

from cloudrift.theory.chord import chord_tones
from cloudrift.theory.key import Key

ROWS = ("QWERTYUIO", "ASDFGHJKL", "ZXCVBNM,.")  # from the highest octave to the lowest
CHORD_KEYS = "1234567"
BASE_PITCH = 60  # the row in the middle begins with the tonic from here up
CHORD_LOW = 52


@dataclass(frozen=True)
class Cap:
    """A key on the screen: what is written on it, and its degree (1-7)."""

    letter: str
    degree: int
    pitch: int


def note_caps(key: Key, octave: int = 0) -> tuple[tuple[Cap, ...], ...]:
    """Return the rows of notes, the highest first; ``octave`` moves all of them."""
    tonic = BASE_PITCH + 12 * octave + (key.pc - BASE_PITCH) % 12
    if key.pc > 6:
        tonic -= 12
    rows = []
    for r, letters in enumerate(ROWS):
        start = tonic + 12 * (1 - r)
        rows.append(
            tuple(Cap(letter, i % 7 + 1, key.step(start, i)) for i, letter in enumerate(letters))
        )
    return tuple(rows)


def chord_caps(key: Key, octave: int = 0) -> tuple[tuple[str, tuple[int, ...]], ...]:
    """Return the digits and the key's own triads on them, in close position."""
    out = []
    for degree, letter in enumerate(CHORD_KEYS, 1):
        tones = chord_tones(key, degree)
        low = CHORD_LOW + 12 * octave
        first = low + (tones[0] - low) % 12
        voices = [first]
        for pc in tones[1:]:
            voices.append(voices[-1] + (pc - voices[-1]) % 12)
        out.append((letter, tuple(voices)))
    return tuple(out)


def pitches_of(letter: str, key: Key, octave: int, *, raised: bool = False) -> tuple[int, ...]:
    """Return what a key plays: a note, a semitone higher if raised, or a chord; else nothing."""
    for row in note_caps(key, octave):
        for cap in row:
            if cap.letter == letter:
                return (cap.pitch + raised,)
    return dict(chord_caps(key, octave)).get(letter, ())
