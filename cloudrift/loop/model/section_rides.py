"""Rides over a section: a value that is elsewhere at its end than at its beginning."""

from itertools import pairwise
from typing import NamedTuple

import msgspec
import numpy as np
from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError, did_you_mean
from cloudrift.ground.settings import Field
from cloudrift.ground.words import named
from cloudrift.loop.model.layer import LEVEL, Group, Layer
from cloudrift.loop.model.loop import Loop
from cloudrift.texture.ride import BLEND
from cloudrift.texture.treatment import Treatment

MOST_POINTS, MOST_KNOTS = 16, 13
ALL = ""  # the owner that is the section itself


class SectionPoint(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A value (in its field's unit) at a share of the section, 0 to 1."""

    at: float
    value: float


class SectionRide(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What rides over a section, evenly on its field's scale from point to point.

    ``owner`` is a layer, a lane or a group; without one it is the whole loop. ``treatment`` is one
    of its line, ``of`` a setting of that or its blend; without a treatment it is a level, of the
    owner or, where there is none, of all that is heard.
    """

    owner: str = ALL
    treatment: str = ""
    of: str = LEVEL.name
    points: tuple[SectionPoint, ...]

    def __post_init__(self) -> None:
        named(self, "a ride over a section", "of")
        places = [point.at for point in self.points]
        if not 2 <= len(places) <= MOST_POINTS:
            raise CloudriftError(
                f"the ride of {self.of} needs 2 to {MOST_POINTS} points, not {len(places)}"
            )
        if places[0] < 0 or places[-1] > 1 or any(b <= a for a, b in pairwise(places)):
            raise CloudriftError(f"the ride of {self.of}: points must rise from 0 to 1")

    @property
    def what(self) -> tuple[str, str, str]:
        """Which value it is: no two rides of a section are of one."""
        return self.owner, self.treatment, self.of


class Knot(NamedTuple):
    """A loop as it is at a share of a section."""

    at: float
    loop: Loop


def field_of(loop: Loop, ride: SectionRide) -> Field:
    """Return the field of what rides; raise CloudriftError for what is not there or stands."""
    if not ride.treatment:
        if ride.of != LEVEL.name:
            raise CloudriftError(f"{ride.of} is not a value of a layer that can ride; its level is")
        if ride.owner:
            loop.owner(ride.owner)
        return LEVEL
    line = loop.line_of(ride.owner or None)
    found = next((t for t in line if t.id == ride.treatment), None)
    whose = loop.name_of(ride.owner or None)
    if found is None:
        raise CloudriftError(f"there is no treatment {ride.treatment!r} in the line of {whose}")
    field = found.field(ride.of)
    if field.choices or not field.rides:
        able = [one.name for one in found.of.spec if one.rides and not one.choices]
        raise CloudriftError(
            f"{found.of.label} of {whose}: {field.label} cannot ride"
            f"{did_you_mean(ride.of, (*able, BLEND.name))}"
        )
    return field


def check_section_ride(loop: Loop, ride: SectionRide) -> None:
    """Raise CloudriftError for a ride of what is not there, or of values out of its range."""
    field = field_of(loop, ride)
    for point in ride.points:
        field.checked(point.value, f"the ride of {field.label.lower()} at {point.at:.0%}")


def value_at(ride: SectionRide, field: Field, at: float) -> float:
    """Return the value at a share of the section: before the first point it is as there."""
    shares = [field.to_share(point.value) for point in ride.points]
    share = float(np.interp(at, [point.at for point in ride.points], shares))
    return field.from_share(share)


def with_value(loop: Loop, ride: SectionRide, value: float) -> Loop:
    """Return a loop in which what rides has a value."""
    owner = ride.owner or None
    if ride.treatment:
        # What is bypassed in the loop acts where a value of it rides.
        line = tuple(
            _set(replace(t, on=True), ride.of, value) if t.id == ride.treatment else t
            for t in loop.line_of(owner)
        )
        return loop.with_owner(owner, line=line)
    if owner is None:
        return replace(loop, level_db=loop.level_db + value)
    old = loop.owner(owner)
    if isinstance(old, Layer):
        return loop.with_owner(owner, level_db=value, level_ride=None)
    assert isinstance(old, Group)
    return loop.with_owner(owner, level_db=value)


def value_now(loop: Loop, what: tuple[str, str, str]) -> float:
    """Return the value that stands in a loop where it does not ride: of all of it, 0 dB."""
    owner, treatment, of = what
    if not treatment:
        had = loop.owner(owner) if owner else None
        return had.level_db if isinstance(had, Layer | Group) else 0.0
    found = next(t for t in loop.line_of(owner or None) if t.id == treatment)
    return found.blend * BLEND.high if of == BLEND.name else found.full.number(of)


def can_ride(loop: Loop, owner: str) -> list[tuple[str, tuple[str, str, str]]]:
    """Return what of an owner can ride: in words, and which value it is.

    A treatment that is bypassed acts only where a value of it rides. Of one at 0 % only that can.
    """
    found = [(LEVEL.label, (owner, "", LEVEL.name))]
    for one in loop.line_of(owner or None):
        if not one.known:
            continue
        fields = [field for field in one.of.spec if field.rides and not field.choices]
        blends = one.blend > 0 or any(ride.of == BLEND.name for ride in one.rides)
        elsewhere = "" if one.on else ", bypassed elsewhere"
        elsewhere += "" if blends else ", at 0 % elsewhere"
        found += [
            (f"{one.of.label}: {field.label}{elsewhere}", (owner, one.id, field.name))
            for field in ((*fields, BLEND) if blends else (BLEND,))
        ]
    return found


def ride_words(loop: Loop, ride: SectionRide) -> str:
    """Return what rides, in words; that it is gone where it is."""
    try:
        field = field_of(loop, ride)
    except CloudriftError:
        return "something deleted"
    whose = loop.name_of(ride.owner) if ride.owner else "Whole section"
    if not ride.treatment:
        return f"{whose}: {field.label.lower()}"
    one = next(t for t in loop.line_of(ride.owner or None) if t.id == ride.treatment)
    return f"{whose}: {one.of.label.lower()}, {field.label.lower()}"


def knots_of(loop: Loop, rides: tuple[SectionRide, ...]) -> tuple[Knot, ...]:
    """Return loops along a section, so near each other that one may pass from each to the next.

    Between two knots no value goes further than its field's way is cut for a ride. What a ride is
    of and is gone does not ride. Nothing where nothing does.
    """
    there = []
    for ride in rides:
        try:
            there.append((ride, field_of(loop, ride)))
        except CloudriftError:
            continue  # its layer or treatment is gone
    if not there:
        return ()
    places = {0.0, 1.0}
    for ride, field in there:
        shares = [field.to_share(point.value) for point in ride.points]
        way = sum(abs(b - a) for a, b in pairwise(shares))
        count = min(max(1, round(way / field.ride_step)), MOST_KNOTS - 1)
        ends = ride.points[0].at, ride.points[-1].at
        places |= {float(one) for one in np.linspace(*ends, count + 1)}
        places |= {point.at for point in ride.points}
    out = []
    for at in sorted({round(one, 4) for one in places}):
        made = loop
        for ride, field in there:
            made = with_value(made, ride, value_at(ride, field, at))
        out.append(Knot(at, made))
    return tuple(out)


def _set(treatment: Treatment, of: str, value: float) -> Treatment:
    stands = treatment.with_ride(of, ())
    if of == BLEND.name:
        return replace(stands, blend=BLEND.to_share(value))
    return stands.set(of, value)
