"""Layers and groups: what sounds, its place, its treatments."""

from collections.abc import Iterable
from typing import Any

import msgspec
from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.settings import Field
from cloudrift.ground.words import named
from cloudrift.loop.model import spec
from cloudrift.loop.model.checks import unique, within
from cloudrift.loop.model.flip import Flipped
from cloudrift.loop.model.recorded import FromRecording
from cloudrift.loop.model.source import OwnNotes, PlayedSource, Source, with_notes
from cloudrift.notes.note import Note
from cloudrift.sound.instrument import Role
from cloudrift.texture.ride import Ride, check_ride
from cloudrift.texture.treatment import Line, time_ratio

LEVEL = Field(
    name="level_db",
    label="Level",
    default=0,
    unit="dB",
    low=spec.MIN_LEVEL_DB,
    high=spec.MAX_LEVEL_DB,
    step=0.5,
    off_low=True,
)

# Where a line is: the id of the layer or the group that has it; None for the whole loop's.
LineAt = str | None


class Layer(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Something that sounds: what it comes from, its place, and its treatments.

    ``level_db`` at its lowest is silence; ``pan`` goes from -1 (left) to 1 (right). A parked layer
    is kept, silent and out of the way. It may belong to a ``group``, which has a line of its own.
    A ``level_ride`` (dB) stands in for the level. ``line_blend`` (0-1) is how much of the treated
    sound is heard against the bare one.
    """

    id: str
    name: str
    role: Role
    source: Source
    level_db: float = 0.0
    pan: float = 0.0
    mute: bool = False
    parked: bool = False
    line: Line = ()
    line_blend: float = 1.0
    group: str = ""
    level_ride: Ride | None = None

    def __post_init__(self) -> None:
        where = f"layer {self.id}"
        if self.level_ride:
            check_ride(self.level_ride, LEVEL, where)
        named(self, "a layer")
        within(f"{where}: level", self.level_db, spec.MIN_LEVEL_DB, spec.MAX_LEVEL_DB, " dB")
        within(f"{where}: pan", self.pan, -1, 1)
        check_line(where, self.line, self.line_blend)
        self.source.check(where)

    @property
    def follows(self) -> bool:
        """Whether it follows the chords."""
        return self.source.follows

    @property
    def played(self) -> PlayedSource:
        """What it comes from, where that is notes played with a sound."""
        if not isinstance(self.source, PlayedSource):
            raise CloudriftError(f"{self.name} is a recording: it has no sound, lens or touch")
        return self.source

    @property
    def recorded(self) -> FromRecording | None:
        """The recording that it is, or that it is cut from."""
        source = self.source
        return (
            source.of
            if isinstance(source, Flipped)
            else (source if isinstance(source, FromRecording) else None)
        )

    @property
    def flipped(self) -> Flipped | None:
        """The flip that it is, if it is one."""
        return self.source if isinstance(self.source, Flipped) else None

    def with_recorded(self, recorded: FromRecording) -> "Layer":
        """Return it with its recording, or the one that it is cut from, in another's place."""
        flip = self.flipped
        return replace(self, source=recorded if flip is None else replace(flip, of=recorded))

    @property
    def own(self) -> tuple[Note, ...] | None:
        """Its own notes; None where it has none because it follows the chords."""
        return self.source.notes if isinstance(self.source, OwnNotes) else None

    def with_notes(self, notes: tuple[Note, ...] | None) -> "Layer":
        """Return it with notes of its own; for None following the chords again."""
        return replace(self, source=with_notes(self.played, notes))

    def with_source(self, **changes: Any) -> "Layer":
        """Return it with fields of its source changed: ``sound``, ``lens``, ``touch``, …"""
        return replace(self, source=replace(self.played, **changes))


def louder(of: "Layer | Group", by_db: float) -> dict[str, Any]:
    """Return what changes where a layer or a group is turned up or down by that many dB, as far as
    levels go: its level, and a layer's ride.
    """

    def turned(level: float) -> float:
        return min(max(level + by_db, spec.MIN_LEVEL_DB), spec.MAX_LEVEL_DB)

    changes: dict[str, Any] = {"level_db": turned(of.level_db)}
    if isinstance(of, Layer) and of.level_ride is not None:
        points = tuple(replace(one, value=turned(one.value)) for one in of.level_ride.points)
        changes["level_ride"] = replace(of.level_ride, points=points)
    return changes


def check_line(where: str, line: Line, blend: float) -> None:
    """Raise CloudriftError where a line is too long, or makes what it treats so."""
    within(f"{where}: number of treatments", len(line), 0, spec.MAX_TREATMENTS)
    within(f"{where}: dry/wet of its line", blend, 0, 1)
    unique(where, (t.id for t in line))
    times = time_ratio(line)
    if not 1 / spec.MOST_TIMES <= times <= spec.MOST_TIMES:
        raise CloudriftError(
            f"{where}: its line makes it {times:g} times as long, but {1 / spec.MOST_TIMES:g} to "
            f"{spec.MOST_TIMES:g} is possible; remove a shift like tape"
        )


class Group(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Layers that share a treatment line after their own, and a level and a pan after that."""

    id: str
    name: str
    line: Line = ()
    line_blend: float = 1.0
    level_db: float = 0.0
    pan: float = 0.0
    mute: bool = False

    def __post_init__(self) -> None:
        where = f"group {self.id}"
        named(self, "a group")
        within(f"{where}: level", self.level_db, spec.MIN_LEVEL_DB, spec.MAX_LEVEL_DB, " dB")
        within(f"{where}: pan", self.pan, -1, 1)
        check_line(where, self.line, self.line_blend)


def new_id(prefix: str, taken: Iterable[str]) -> str:
    """Return the first free id such as ``t3``: short, stable, the same for the same edit."""
    used = set(taken)
    number = 1
    while f"{prefix}{number}" in used:
        number += 1
    return f"{prefix}{number}"
