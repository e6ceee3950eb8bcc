"""Pitch classes (0-11, C = 0), letters and accidentals. MIDI number 60 is C4, 69 is A4 = 440 Hz."""

import functools
import re

LETTERS = "CDEFGAB"
NATURALS = {"C": 0, "D": 2, "E": 4, "F": 5, "G": 7, "A": 9, "B": 11}
SHARP_NAMES = ("C", "C#", "D", "D#", "E", "F", "F#", "G", "G#", "A", "A#", "B")
FLAT_NAMES = ("C", "Db", "D", "Eb", "E", "F", "Gb", "G", "Ab", "A", "Bb", "B")
LOWEST, HIGHEST = 21, 108  # the range of a full keyboard, in MIDI numbers
A4_HZ = 440.0


def name_to_pc(name: str) -> int:
    """Return the pitch class of a plain spelled name such as ``F#`` or ``Ebb``."""
    return (NATURALS[name[0]] + name.count("#") - name[1:].count("b")) % 12


def spell_as_letter(pc: int, letter: str) -> str:
    """Spell a pitch class on a given letter, with as many accidentals as that takes."""
    offset = (pc - NATURALS[letter] + 6) % 12 - 6
    return letter + ("#" * offset if offset > 0 else "b" * -offset)


def accidentals(name: str) -> int:
    """Count the accidentals of a plain name, sharps positive, flats negative."""
    return name.count("#") - name[1:].count("b")


@functools.lru_cache(maxsize=4096)
def pretty(text: str) -> str:
    """Write plain accidentals as the signs of music: ``F#`` -> ``F♯``, ``Bb`` -> ``B♭``.

    A ``b`` is a flat after a note letter or another flat, and before a numeral (``bII``) or a
    figure (``m7b5``); elsewhere it is a letter.
    """
    flats = re.sub(r"(?<=[A-G])b+", lambda m: "♭" * len(m[0]), text)
    return re.sub(r"b(?=[IViv\d])", "♭", flats).replace("#", "♯")


def pitch_to_hz(pitch: float) -> float:
    """Return the equal-tempered frequency of a MIDI number (may be fractional)."""
    return float(A4_HZ * 2.0 ** ((pitch - 69.0) / 12.0))
