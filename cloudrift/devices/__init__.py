"""What is outside: the real thing and its stand-in behind one interface."""

from cloudrift.devices.speaker import SilentSpeaker, Speaker, open_speaker

__all__ = ["SilentSpeaker", "Speaker", "open_speaker"]
