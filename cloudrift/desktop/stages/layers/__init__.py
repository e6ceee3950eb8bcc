"""The Layers stage: who looks at the chords, through which lens, with which sound."""
