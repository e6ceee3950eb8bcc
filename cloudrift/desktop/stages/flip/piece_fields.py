"""Fields of a flip: of all of it, of its scatter, of a piece; how a stretch is said."""

import math

from cloudrift.audio.stretch import CLEAN
from cloudrift.ground.draws import MAX_VARIATION
from cloudrift.ground.settings import Field
from cloudrift.loop.model import spec
from cloudrift.loop.model.flip import LONGEST_DECAY_MS, SlicePlacement
from cloudrift.loop.model.recorded import MOST_SEMITONES

FOLLOWS, STAYS = "follow", "preserve"


ON, OFF = "on", "off"


WHOLE = {
    f.name: f
    for f in (
        Field(
            name="semitones",
            label="Shift",
            default=0,
            unit="st",
            low=-MOST_SEMITONES,
            high=MOST_SEMITONES,
        ),
        Field(
            name="bars",
            label="Length",
            default=8,
            unit="bars",
            low=spec.MIN_BARS,
            high=spec.MAX_BARS,
            hint="stretches the slices to this many bars: slower, or faster",
        ),
        Field(name="hold_vowels", label="Formants", default=FOLLOWS, choices=(FOLLOWS, STAYS)),
    )
}


SCATTER = {
    f.name: f
    for f in (
        Field(name="amount", label="Amount", default=40, unit="%", low=0, high=100),
        Field(name="downbeats", label="Downbeats kept", default=ON, choices=(ON, OFF)),
        Field(name="order", label="Chords in order", default=OFF, choices=(OFF, ON)),
        Field(name="backward", label="Reversed", default=30, unit="%", low=0, high=100),
        Field(name="repeats", label="Repeat", default=15, unit="%", low=0, high=100),
        Field(name="octave", label="Octave jump", default=0, unit="%", low=0, high=100),
        Field(name="silence", label="Rest", default=0, unit="%", low=0, high=100),
        Field(name="familiar", label="From nearby", default=40, unit="%", low=0, high=100),
        Field(name="variation", label="Variation", default=1, low=0, high=MAX_VARIATION),
    )
}


PIECE = {
    f.name: f
    for f in (
        Field(name="semitones", label="Shift", default=0, unit="st", low=-24, high=24),
        Field(
            name="tape", label="Mode", default="keep length", choices=("keep length", "like tape")
        ),
        Field(name="level_db", label="Level", default=0, unit="dB", low=-60, high=12, step=0.5),
        Field(name="pan", label="Pan", default=0, unit="%", low=-100, high=100),
        Field(name="times", label="Repeats", default=1, unit="times", low=1, high=32),
        Field(
            name="level_step_db",
            label="Louder each time",
            default=0,
            unit="dB",
            low=-12,
            high=12,
            step=0.5,
        ),
        Field(name="step_st", label="Higher each time", default=0, unit="st", low=-12, high=12),
        Field(name="fills", label="If too short", default="rest", choices=("rest", "stretched")),
        Field(
            name="decay_ms",
            label="Decay",
            default=0,
            unit="ms",
            low=0,
            high=LONGEST_DECAY_MS,
            step=10,
            off_low=True,
        ),
        Field(name="fade_in_ms", label="Fade in", default=2, unit="ms", low=0, high=2000),
        Field(name="fade_out_ms", label="Fade out", default=8, unit="ms", low=0, high=2000),
    )
}


def clean_words(times: float) -> str:
    """Say where a stretch of that many times is heard as one, after the number."""
    least, most = CLEAN
    return "" if least <= times <= most else f": audible, clean from {least:g} to {most:g}"


def stretch_words(place: SlicePlacement) -> str:
    """Say that what plays in a place is stretched so far that it is heard; empty where not."""
    times = max(place.stretches, key=lambda one: abs(math.log(one)))
    heard = clean_words(times)
    how = (
        "like tape would be clean" if place.semitones or place.step_st else "a shorter place helps"
    )
    return f"stretched {times:.3g} times{heard}; {how}" if heard else ""


EVEN = Field(
    name="even",
    label="Equal",
    default=16,
    unit="pieces",
    low=1,
    high=128,
    hint="number of equal pieces",
)
