"""Edits of treatment lines: of a layer, of a group, or of the whole loop (None)."""

from typing import Any

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.layers.layer_edits import set_layer
from cloudrift.loop.model.loop import LEVEL, LineAt, Loop, new_id
from cloudrift.texture.catalogue import find_kind
from cloudrift.texture.kinds.resonances import Harsh
from cloudrift.texture.ride import Ride, RidePoint, fitted_points
from cloudrift.texture.treatment import Line, Treatment, time_ratio


def set_line(loop: Loop, line_of: LineAt, line: Line) -> Loop:
    """Put another line on a layer or on the whole loop."""
    return loop.with_owner(line_of, line=line)


def bare_of(loop: Loop) -> Loop:
    """Return the loop without any treatment, on layers or on the whole."""
    layers = tuple(replace(layer, line=()) for layer in loop.layers)
    groups = tuple(replace(group, line=()) for group in loop.groups)
    return replace(loop, layers=layers, groups=groups, line=())


def set_line_blend(loop: Loop, line_of: LineAt, blend: float) -> Loop:
    """Blend what a whole line makes (0-1) into what goes into it.

    Refused where the line changes the length: there is nothing as long to blend it with.
    """
    if time_ratio(loop.line_of(line_of)) != 1:
        raise CloudriftError(
            "this line changes the length (like tape), so it has no dry/wet; set the shift to "
            "keep length, or remove it"
        )
    return loop.with_owner(line_of, line_blend=round(blend, 3))


def add_treatment(loop: Loop, line_of: LineAt, kind: str, at: int | None = None) -> Loop:
    """Add a treatment with its defaults, at the end or at a place."""
    line = loop.line_of(line_of)
    made = find_kind(kind)
    treatment = Treatment(
        id=new_id("t", (t.id for t in line)), kind=kind, version=made.version, blend=made.blend
    )
    place = len(line) if at is None else at
    return set_line(loop, line_of, (*line[:place], treatment, *line[place:]))


def remove_treatment(loop: Loop, line_of: LineAt, treatment_id: str) -> Loop:
    """Take a treatment out of its line."""
    line = tuple(t for t in loop.line_of(line_of) if t.id != treatment_id)
    return set_line(loop, line_of, line)


def move_treatment(loop: Loop, line_of: LineAt, treatment_id: str, by: int) -> Loop:
    """Move a treatment up (negative) or down its line."""
    line = list(loop.line_of(line_of))
    at = next(i for i, t in enumerate(line) if t.id == treatment_id)
    treatment = line.pop(at)
    line.insert(min(max(at + by, 0), len(line)), treatment)
    return set_line(loop, line_of, tuple(line))


def set_treatment(loop: Loop, line_of: LineAt, treatment_id: str, **changes: Any) -> Loop:
    """Change ``on``, ``blend``, ``variation`` or ``note`` of a treatment."""
    line = tuple(
        replace(t, **changes) if t.id == treatment_id else t for t in loop.line_of(line_of)
    )
    return set_line(loop, line_of, line)


def set_treatment_setting(
    loop: Loop, line_of: LineAt, treatment_id: str, name: str, value: object
) -> Loop:
    """Change one setting of a treatment."""
    line = tuple(t.set(name, value) if t.id == treatment_id else t for t in loop.line_of(line_of))
    return set_line(loop, line_of, line)


def ride_again(loop: Loop, line_of: LineAt, treatment_id: str, name: str, every_ticks: int) -> Loop:
    """Let a ride come again every so many ticks (0: once a loop); the same way in that time."""
    ride = _treatment(loop, line_of, treatment_id).ride_of(name)
    if ride is None:
        return loop
    points = fitted_points(ride, every_ticks, loop.ticks)
    return set_ride(loop, line_of, treatment_id, name, points, every_ticks)


def level_ride_again(loop: Loop, layer_id: str, every_ticks: int) -> Loop:
    """The same for a layer's level."""
    ride = loop.layer(layer_id).level_ride
    if ride is None:
        return loop
    return set_level_ride(loop, layer_id, fitted_points(ride, every_ticks, loop.ticks), every_ticks)


def _treatment(loop: Loop, line_of: LineAt, treatment_id: str) -> Treatment:
    found = [t for t in loop.line_of(line_of) if t.id == treatment_id]
    if not found:
        raise CloudriftError(f"there is no treatment {treatment_id!r} in this line")
    return found[0]


def set_ride(
    loop: Loop,
    line_of: LineAt,
    treatment_id: str,
    name: str,
    points: tuple[RidePoint, ...],
    every_ticks: int = 0,
) -> Loop:
    """Let a value of a treatment ride through points, or (with none) stand again."""
    line = tuple(
        t.with_ride(name, points, every_ticks) if t.id == treatment_id else t
        for t in loop.line_of(line_of)
    )
    return set_line(loop, line_of, line)


def set_level_ride(
    loop: Loop, layer_id: str, points: tuple[RidePoint, ...], every_ticks: int = 0
) -> Loop:
    """Let a layer's level ride through points (dB), or (with none) stand again."""
    ride = Ride(of=LEVEL.name, points=points, every_ticks=every_ticks) if points else None
    return set_layer(loop, layer_id, level_ride=ride)


def insert_treatments(
    loop: Loop, line_of: LineAt, treatments: Line, at: int | None = None
) -> tuple[Loop, tuple[str, ...]]:
    """Put copies of treatments into a line, at its end or at a place; return their new ids too."""
    line = loop.line_of(line_of)
    place = len(line) if at is None else at
    ids = [t.id for t in line]
    copies = []
    for treatment in treatments:
        copies.append(replace(treatment, id=new_id("t", ids)))
        ids.append(copies[-1].id)
    line = (*line[:place], *copies, *line[place:])
    return set_line(loop, line_of, line), tuple(t.id for t in copies)


def add_notch(loop: Loop, line_of: LineAt, found: Harsh) -> Loop:
    """Put an equaliser with a notch at a resonance at a line's end, as deep as that sticks out."""
    loop = add_treatment(loop, line_of, "equaliser")
    added = loop.line_of(line_of)[-1].id
    depth = min(24.0, round(found.over_db * 2) / 2)
    for name, value in (
        ("notch_hz", round(found.hz)),
        ("notch_q", round(found.q, 1)),
        ("notch_db", -depth),
    ):
        loop = set_treatment_setting(loop, line_of, added, name, value)
    return loop


def swap_treatments(loop: Loop, line_of: LineAt, one: str, other: str) -> Loop:
    """Let two treatments of a line change places."""
    line = {t.id: t for t in loop.line_of(line_of)}
    if one not in line or other not in line:
        raise CloudriftError(f"there are no treatments {one} and {other} in this line to swap")
    places = {one: other, other: one}
    return set_line(loop, line_of, tuple(line[places.get(id_, id_)] for id_ in line))
