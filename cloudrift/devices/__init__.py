"""What is outside: the real thing and its stand-in after one interface."""

from cloudrift.devices.keyboard import Keyboard, MidiKeyboard, keyboards
from cloudrift.devices.speaker import SilentSpeaker, Speaker, open_speaker, speakers

__all__ = [
    "Keyboard",
    "MidiKeyboard",
    "SilentSpeaker",
    "Speaker",
    "keyboards",
    "open_speaker",
    "speakers",
]
