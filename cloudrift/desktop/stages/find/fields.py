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
    hint="what comes into the key within so many semitones, either way",
)


WITHIN_PERCENT = Field(
    name="stretch",
    label="Stretch",
    default=12,
    unit="%",
    low=0,
    high=100,
    hint="what comes to the tempo within so much, either way",
)


@dataclass(frozen=True)
class Fetched:
    """A recording that is here and was listened to."""

    clip: str
    facts: Facts
