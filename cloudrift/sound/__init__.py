"""House sounds: notes in, audio out. Every sound is computed here, so every loop is free of rights.

A sound describes its settings and knows how to compute one undamped tone; playing notes with
envelopes, velocity and the seam is the same for all and lives in ``part``.
"""

from cloudrift.sound.catalogue import CATALOGUE, find_sound, look_up
from cloudrift.sound.instrument import Instrument
from cloudrift.sound.part import Part
from cloudrift.sound.tones import ToneCache

__all__ = ["CATALOGUE", "Instrument", "Part", "ToneCache", "find_sound", "look_up"]
