"""Pitch, key, chord, voicing and movement. Numbers and names only: no time, no sound, no files."""

from cloudrift.theory.chord import chord_tones
from cloudrift.theory.key import SCALES, Key, parse_key
from cloudrift.theory.naming import ChordReading, read_chord
from cloudrift.theory.pitch import pretty
from cloudrift.theory.symbols import parse_chord, parse_degree, parse_progression

__all__ = [
    "SCALES", "ChordReading", "Key", "chord_tones", "parse_chord", "parse_degree", "parse_key",
    "parse_progression", "pretty", "read_chord",
]  # fmt: skip
