"""Edits of the groove bed: lanes, patterns, hits, MIDI."""
