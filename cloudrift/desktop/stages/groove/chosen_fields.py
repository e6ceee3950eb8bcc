"""Fields of what is chosen in the groove bed: a hit, a lane's ducking."""

from cloudrift.ground.settings import Field
from cloudrift.loop.model.bed import MOST_DUCK_DB
from cloudrift.loop.model.hits import MOST_LATE_MS, MOST_ST

LATE = Field(
    name="late_ms",
    label="Late",
    default=0,
    unit="ms",
    low=-MOST_LATE_MS,
    high=MOST_LATE_MS,
    hint="below 0: early",
)


PAN = Field(name="pan", label="Pan", default=0, unit="%", low=-100, high=100)


HIT = {
    f.name: f
    for f in (
        Field(name="velocity", label="Velocity", default=100, unit="vel", low=1, high=127),
        Field(
            name="st",
            label="Pitch",
            default=0,
            unit="st",
            low=-MOST_ST,
            high=MOST_ST,
            hint="of a low drum: from its root",
        ),
        Field(
            name="length_ticks",
            label="Length",
            default=0,
            unit="beats",
            low=0,
            high=16,
            step=0.05,
            off_low=True,
            hint="off: rings until choked",
        ),
        LATE,
        PAN,
        Field(
            name="glide_ms",
            label="Glide",
            default=0,
            unit="ms",
            low=0,
            high=1000,
            step=5,
            off_low=True,
            hint="time from the previous hit's pitch to its own",
        ),
        Field(
            name="sound",
            label="Sound",
            default=0,
            low=0,
            high=4,
            off_low=True,
            hint="the one sound of the stack that it plays; off: all",
        ),
    )
}


DUCK = {
    f.name: f
    for f in (
        Field(
            name="depth_db",
            label="Ducking",
            default=6,
            unit="dB",
            low=0,
            high=MOST_DUCK_DB,
            step=0.5,
        ),
        Field(name="hold_ms", label="Hold", default=40, unit="ms", low=0, high=1000),
        Field(
            name="back_ms",
            label="Release",
            default=160,
            unit="ms",
            low=10,
            high=2000,
            step=5,
            log=True,
        ),
    )
}
