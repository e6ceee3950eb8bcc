"""Edits of chords: voices, time, the progression, metre; what could come next."""
