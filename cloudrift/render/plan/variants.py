"""Other loops to listen to: comparing is playing two values, so these are values."""

from collections.abc import Collection

from msgspec.structs import replace

from cloudrift.loop.edits.layers.line_edits import set_line, set_treatment
from cloudrift.loop.model.bed import Bed
from cloudrift.loop.model.loop import LineAt, Loop


def without_line(loop: Loop, line_of: LineAt) -> Loop:
    """Return the loop with one line bare: a layer's, or the whole loop's for None."""
    return set_line(loop, line_of, ())


def without_card(loop: Loop, line_of: LineAt, treatment_id: str) -> Loop:
    """Return the loop with one treatment of a line out."""
    return set_treatment(loop, line_of, treatment_id, on=False)


def up_to(loop: Loop, line_of: LineAt, count: int) -> Loop:
    """Return the loop with only the first ``count`` treatments of a line."""
    return set_line(loop, line_of, loop.line_of(line_of)[:count])


def alone(loop: Loop, ids: Collection[str]) -> Loop:
    """Return the loop with only some layers and groups (ids) heard, also where they are off.

    Without any of them there it is the loop as it is. Parked layers stay silent. Lanes of the
    groove bed, and all of it, are heard alone likewise; the loop is then silent.
    """
    owners = (*loop.layers, *loop.lanes)
    wanted = {x.id for x in owners if not x.parked and (x.id in ids or x.group in ids)}
    if not wanted:
        return loop
    layers = tuple(replace(x, mute=x.id not in wanted) for x in loop.layers)
    opened = {x.group for x in loop.layers if x.id in wanted}
    groups = tuple(replace(g, mute=g.mute and g.id not in opened) for g in loop.groups)
    return replace(loop, layers=layers, groups=groups, bed=loop.bed and _alone(loop.bed, wanted))


def _alone(bed: Bed, wanted: Collection[str]) -> Bed:
    """The groove bed with only some lanes heard; off where they are none."""
    lanes = tuple(replace(x, mute=x.id not in wanted) for x in bed.lanes)
    off = not any(x.id in wanted for x in bed.lanes)
    return replace(bed, lanes=lanes, group=replace(bed.group, mute=off))
