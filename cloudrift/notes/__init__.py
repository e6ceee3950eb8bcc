"""Notes: musical time, written and played notes, lenses onto chords, touch, MIDI files.

Knows chords as spans of voices. Knows nothing of sounds, layers or documents.
"""

from cloudrift.notes.lens import Lens, look
from cloudrift.notes.note import Note
from cloudrift.notes.span import Span
from cloudrift.notes.time import TICKS_PER_QUARTER, Clock
from cloudrift.notes.touch import ChordTouch, Touch, play

__all__ = [
    "TICKS_PER_QUARTER", "ChordTouch", "Clock", "Lens", "Note", "Span", "Touch", "look", "play",
]  # fmt: skip
