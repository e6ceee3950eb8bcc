"""The document: the loop as a value, edits from one to the next, history, and files.

Nothing here makes sound and nothing knows of windows.
"""

from cloudrift.loop.files.storage import load, save
from cloudrift.loop.model.history import History
from cloudrift.loop.model.loop import Chord, Layer, Loop
from cloudrift.loop.model.sound_use import SoundUse

__all__ = ["Chord", "History", "Layer", "Loop", "SoundUse", "load", "save"]
