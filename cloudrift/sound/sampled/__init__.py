"""Sampled instruments in open formats, read into own sounds: SF2 and SFZ.

What of a file is not understood is named, never guessed.
"""

from cloudrift.sound.sampled.read import SUFFIXES, is_sampled, names_in, read_sampled
from cloudrift.sound.sampled.zones import Sampled, Zone, own_from, said

__all__ = [
    "SUFFIXES", "Sampled", "Zone", "is_sampled", "names_in", "own_from", "read_sampled", "said",
]  # fmt: skip
