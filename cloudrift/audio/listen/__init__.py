"""Listening to recordings: where things begin in them, which notes sound when, how fast they go."""

from cloudrift.audio.listen.heard_notes import note_weights

__all__ = ["note_weights"]
