"""The groove bed: the drums and the long bass that a loop is tried against.

Its lanes are layers whose source is the hits of a drum, and its group has the line, the level and
the pan of all of it; so whatever can be done to a layer or a group can be done here. It is played
beside the loop, in the key and the tempo that are heard, and is no part of what is delivered.
"""

import msgspec

from cloudrift.ground.draws import MAX_VARIATION
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.model.around import Swing
from cloudrift.loop.model.checks import unique, within
from cloudrift.loop.model.hits import Hits
from cloudrift.loop.model.layer import Group, Layer

BED = "bed"  # the id of its group, which all lanes are in
MOST_LANES = 24
STRAIGHT, MOST_SWING = 50.0, 75.0
SWING_STEPS = (240, 480)  # ticks: sixteenths, eighths
MOST_DUCK_DB = 24.0


class Duck(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """How the loop makes room for some lanes: by so much, for so long, and how it comes back.

    ``bass``: so do the lanes that play roots, where they are not what it makes room for.
    """

    lanes: tuple[str, ...] = ()
    depth_db: float = 6.0
    hold_ms: float = 40.0
    back_ms: float = 160.0
    bass: bool = True

    def __post_init__(self) -> None:
        within("ducking: depth", self.depth_db, 0, MOST_DUCK_DB, " dB")
        within("ducking: hold", self.hold_ms, 0, 1000, " ms")
        within("ducking: release", self.back_ms, 10, 2000, " ms")


class Bed(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """The lanes and what they share. Muted with its group, it is kept and not heard.

    ``swing`` (50: straight) puts every second step of ``swing_ticks`` late, ``late_ms`` all of it.
    It was drawn in a ``manner``, as ``busy`` as that (0 to 1), but for lanes that are ``locked``.
    """

    lanes: tuple[Layer, ...] = ()
    group: Group = Group(id=BED, name="Groove bed")
    swing: float = STRAIGHT
    swing_ticks: int = 240
    late_ms: float = 0.0
    duck: Duck | None = None
    manner: str = ""
    variation: int = 1
    busy: float = 0.5
    locked: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        within("groove bed: number of lanes", len(self.lanes), 0, MOST_LANES)
        within("groove bed: swing", self.swing, STRAIGHT, MOST_SWING, " %")
        within("groove bed: feel", self.late_ms, -100, 100, " ms")
        within("groove bed: variation", self.variation, 0, MAX_VARIATION)
        within("groove bed: busy", self.busy, 0, 1)
        if self.swing_ticks not in SWING_STEPS:
            raise CloudriftError("groove bed: it swings in sixteenths (240 ticks) or eighths (480)")
        if self.group.id != BED:
            raise CloudriftError(f"groove bed: its group is called {self.group.id!r}, not {BED!r}")
        unique("groove bed", (lane.id for lane in self.lanes))
        for lane in self.lanes:
            if lane.group != BED or not isinstance(lane.source, Hits):
                raise CloudriftError(f"groove bed: {lane.name} is not a lane of hits")

    @property
    def swings(self) -> Swing:
        """How it lies in time."""
        return Swing(self.swing, self.swing_ticks, self.late_ms)

    @property
    def heard(self) -> tuple[Layer, ...]:
        """The lanes that are heard."""
        if self.group.mute:
            return ()
        return tuple(x for x in self.lanes if not (x.mute or x.parked))

    @property
    def patterns(self) -> tuple[str, ...]:
        """The names of the patterns that its lanes have."""
        names = [pattern.name for x in self.lanes for pattern in hits_of(x).patterns]
        return tuple(dict.fromkeys(names))


def hits_of(lane: Layer) -> Hits:
    """Return what a lane plays; raise CloudriftError for a layer that is none."""
    if not isinstance(lane.source, Hits):
        raise CloudriftError(f"{lane.name} is not a lane of the groove bed")
    return lane.source
