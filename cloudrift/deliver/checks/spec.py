"""Limits of the checks, each with its reason."""

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import number

MOST_PEAK_DBTP = -1.0  # what is made smaller (MP3, OGG) rises by up to 1 dB
FULL_PEAK_DBTP = 0.0  # 16 and 24 bits hold no more
TARGETS_LUFS = (-14.0, -16.0, -23.0)
TARGET_LOW_LUFS, TARGET_HIGH_LUFS = -40.0, -5.0
LOUDNESS_LU = 1.0  # nearer to a target than that is met

SEAM_DB = 12.0  # a bend at the seam above the usual ones nearby: from there it is heard as a click
SEAM_BROKEN_DB = 26.0
DC_DB = -60.0  # of full scale
MONO_DB = 6.0  # that a band loses on one speaker
MONO_BROKEN_DB = 12.0
BAND_HEARD_DB = 24.0  # below the loudest band: what is softer is not missed
LOW_HZ = 120.0
LOW_SIDES = 25.0  # % of the power below that lies at the sides
PHASE = -0.25  # correlation of left and right, on average
PHASE_SECOND = -0.5  # in the worst second that is loud enough to matter
START_MS = 40.0  # that nothing may be heard at the start
TAIL_DB = -30.0  # of the loop's mean: what rings on below that is not missed
CROWDED = 0.85  # severity (0 to 1) of two layers in one band
CROWDED_TIME = 0.5  # share of the loop
VOICE_DB = -4.0  # what lies between 1 and 4 kHz, against all of it: above, a voice has no room
OFF_KEY = 3.0  # % of the notes
SURE = 0.9  # that listening must be for its word to count against what is written
OUTSIDE = 55.0  # % of what sounds that a key may leave out, where another leaves out half of that
NOISE_DB = -36.0  # a recording's noise under its loud moments
NOISY = 0.2  # flatness of a spectrum from which on it is noise rather than notes
CLIPPED_RUN = 4  # frames in a row at the top of what a recording holds
CLIPPED_LEVEL = 0.985
STEMS_DB = -90.0  # what the stems leave of the sum
MARKS_MET = 75.0  # % of what the style card asks
LONG_TITLE = 80  # letters: with tempo, key and part a file's name holds no more


def check_target(lufs: float | None) -> None:
    """Raise CloudriftError for a loudness that no loop is brought to; None is none at all."""
    if lufs is not None and not TARGET_LOW_LUFS <= lufs <= TARGET_HIGH_LUFS:
        raise CloudriftError(
            f"the target loudness is {number(lufs)} LUFS, but must lie between "
            f"{number(TARGET_LOW_LUFS)} and {number(TARGET_HIGH_LUFS)}"
        )
