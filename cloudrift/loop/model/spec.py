"""Limits of a loop and the reasons for them, said once."""

MIN_TEMPO_BPM, MAX_TEMPO_BPM = 40.0, 240.0  # below, a bar outlasts 6 s; above, beats blur
MIN_BARS, MAX_BARS = 1, 64
MAX_SOUNDING_S = 1200.0  # as long as the longest loop that can be written
MOST_TIMES = 16.0  # that a line makes what it treats longer or shorter
MIN_LEVEL_DB, MAX_LEVEL_DB = -60.0, 12.0  # the lowest is silence
MAX_VOICES = 10
LOWEST_VOICE, HIGHEST_VOICE = 12, 120  # what files may hold
VOICE_LOW, VOICE_HIGH = 24, 108  # what edits keep to: below and above, no sound has a pitch
MIN_CHORD_TICKS = 60  # 1/64
MIN_GATE = 0.05
MAX_STRIKES = 1024  # of one chord: 1/16 over 64 bars
MAX_LAYERS = 32
MAX_TREATMENTS = 16
BEATS = range(2, 13)
BEAT_UNITS = (4, 8)
AUTOSAVE_EVERY_S = 20


def in_reach(voice: int) -> int:
    """Return a pitch by octaves in the reach of voices."""
    while voice > HIGHEST_VOICE:
        voice -= 12
    while voice < LOWEST_VOICE:
        voice += 12
    return voice
