"""Pitch, key, chord, voicing and movement. Numbers and names only: no time, no sound, no files."""

from cloudrift.theory.chord import ChordReading, chord_tones, read_chord
from cloudrift.theory.key import SCALES, Key, parse_key
from cloudrift.theory.pitch import pretty

__all__ = ["SCALES", "ChordReading", "Key", "chord_tones", "parse_key", "pretty", "read_chord"]
