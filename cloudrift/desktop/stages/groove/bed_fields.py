"""Fields of the groove bed, and its grids."""

from cloudrift.ground.draws import MAX_VARIATION
from cloudrift.ground.settings import Field
from cloudrift.loop.model.bed import MOST_SWING, STRAIGHT
from cloudrift.loop.model.layer import LEVEL

GRIDS = ("1/4", "1/8", "1/8 triplet", "1/16", "1/16 triplet", "1/32")


ROLLS = {"1/16": 240, "1/16 triplet": 160, "1/32": 120, "1/32 triplet": 80, "1/64": 60}


FIELDS = {
    f.name: f
    for f in (
        LEVEL,
        Field(
            name="swing",
            label="Swing",
            default=STRAIGHT,
            unit="%",
            low=STRAIGHT,
            high=MOST_SWING,
            hint="position of the second step in each pair; 50: straight",
        ),
        Field(
            name="late_ms",
            label="Feel",
            default=0,
            unit="ms",
            low=-100,
            high=100,
            hint="plays the whole bed late; below 0: early",
        ),
        Field(
            name="busy",
            label="Busy",
            default=50,
            unit="%",
            low=0,
            high=100,
            hint="how many of the free steps are played; moving it suggests another variation",
        ),
        Field(name="variation", label="№", default=1, low=1, high=MAX_VARIATION),
    )
}
