"""The document: the loop as a value, edits from one to the next, history, and files.

Nothing here makes sound and nothing knows of windows.
"""

from cloudrift.loop.history import History
from cloudrift.loop.model import Chord, Layer, Loop
from cloudrift.loop.sound_use import SoundUse
from cloudrift.loop.storage import load, save

__all__ = ["Chord", "History", "Layer", "Loop", "SoundUse", "load", "save"]
