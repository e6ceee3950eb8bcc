"""The Chords stage: voicing seen as threads."""
