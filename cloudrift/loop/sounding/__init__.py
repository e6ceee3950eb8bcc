"""What really sounds: the score that is heard, worked out without any sound.

Whatever asks for the key, the chords, the roots or the notes that are heard asks here.
"""

from cloudrift.loop.sounding.bed import around_bed, notes_of
from cloudrift.loop.sounding.chords import chords_heard
from cloudrift.loop.sounding.heard import heard, key_entering, key_heard, key_of_layers
from cloudrift.loop.sounding.heard_time import HeardTime, heard_time
from cloudrift.loop.sounding.ruler import RulerSpan, ruler

__all__ = [
    "HeardTime",
    "RulerSpan",
    "around_bed",
    "chords_heard",
    "heard",
    "heard_time",
    "key_entering",
    "key_heard",
    "key_of_layers",
    "notes_of",
    "ruler",
]
