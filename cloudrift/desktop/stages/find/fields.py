"""Fields of a search for recordings, and one that has been fetched."""

from dataclasses import dataclass

from cloudrift.ground.settings import Field
from cloudrift.loop.model.recorded import Facts

WITHIN_ST = Field(
    name="within",
    label="Shift",
    default=4,
    unit="st",
    low=0,
    high=6,
    hint="only what reaches the key with a shift of at most this many semitones",
)


WITHIN_PERCENT = Field(
    name="stretch",
    label="Stretch",
    default=12,
    unit="%",
    low=0,
    high=100,
    hint="only what reaches the tempo with a stretch of at most this much",
)


@dataclass(frozen=True)
class Fetched:
    """A recording that is here and was listened to."""

    clip: str
    facts: Facts
