"""The demo file: what of a loop is heard in which order, for somebody who hears it first."""

from collections.abc import Sequence

import msgspec
import numpy as np
from msgspec.structs import replace

from cloudrift.ground.draws import MAX_VARIATION, rng_for
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import named, together
from cloudrift.loop.model.checks import unique, within
from cloudrift.loop.model.layer import Layer, new_id
from cloudrift.loop.model.loop import Loop

MOST_PARTS, MOST_TURNS = 48, 16
CROSS_LOW_S, CROSS_HIGH_S, CROSS_S = 0.01, 8.0, 0.25
LONG_S = 14.0  # a turn that lasts longer is heard once
TAG_LOW_DB, TAG_HIGH_DB, TAG_DB = -40.0, 0.0, -14.0
NOT_ALL = 0.6  # how many of the layers a broken-down part keeps, about
EVERYTHING = "Everything"


class DemoPart(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """That many turns of the loop with some of its ``layers`` (none: all that are heard)."""

    id: str
    name: str
    layers: tuple[str, ...] = ()
    turns: int = 1

    def __post_init__(self) -> None:
        named(self, "a part of the demo file")
        within(f"passes of {self.name}", self.turns, 1, MOST_TURNS)


class DemoFile(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Parts one after another, each cross-faded into the next over ``cross_s``.

    ``tag`` is what tells whose it is: a house sound, or a layer that is a recording; it is heard at
    the beginning of every ``tag_every`` parts, at ``tag_db``. ``variation``: of the order.
    """

    parts: tuple[DemoPart, ...] = ()
    cross_s: float = CROSS_S
    tag: str = ""
    tag_every: int = 4
    tag_db: float = TAG_DB
    variation: int = 0

    def __post_init__(self) -> None:
        unique("parts of the demo file", (one.id for one in self.parts))
        within("number of parts of the demo file", len(self.parts), 0, MOST_PARTS)
        within("crossfade of the demo file", self.cross_s, CROSS_LOW_S, CROSS_HIGH_S, " s")
        within("parts between tags", self.tag_every, 1, MOST_PARTS)
        within("level of the tag", self.tag_db, TAG_LOW_DB, TAG_HIGH_DB, " dB")
        within("variation", self.variation, 0, MAX_VARIATION)
        named(self, "a tag", "tag", may_be_empty=True)


def part_loop(loop: Loop, part: DemoPart) -> Loop:
    """Return the loop as a part has it: the groove bed is no part of it."""
    keep = set(part.layers)
    layers = tuple(
        one if not keep or one.id in keep else replace(one, mute=True) for one in loop.layers
    )
    return replace(loop, layers=layers, bed=None)


def heard_in(loop: Loop, part: DemoPart) -> tuple[Layer, ...]:
    """Return the layers that sound in a part."""
    return part_loop(loop, part).heard()


def suggest_demo(loop: Loop, variation: int) -> DemoFile:
    """Draw an order: everything, then broken down, then what leads and what lies below, then each.

    Raises CloudriftError where nothing is heard.
    """
    heard = loop.heard()
    if not heard:
        raise CloudriftError(
            "no layer plays, so there is nothing to demonstrate; turn one on in Layers"
        )
    rng = rng_for(variation, "demo file")
    short = loop.sounding_frames / loop.rate < LONG_S
    parts: list[tuple[str, tuple[str, ...], int]] = [(EVERYTHING, (), 2 if short else 1)]
    if len(heard) > 2:
        for chosen in _broken_down(heard, rng):
            out = [one.name for one in heard if one.id not in chosen]
            kept = [one.name for one in heard if one.id in chosen]
            name = f"Without {together(out)}" if len(out) <= len(kept) else together(kept)
            parts.append((name, chosen, 1))
    if len(heard) > 1:
        order = rng.permutation(len(heard))
        first = [heard[int(at)] for at in order]
        first.sort(key=lambda one: one.role in ("bass", "grain"))  # what carries least comes last
        parts += [(one.name, (one.id,), 1) for one in first]
    made: list[DemoPart] = []
    for name, layers, turns in parts:
        made.append(
            DemoPart(
                id=new_id("d", (one.id for one in made)),
                name=name[:100],
                layers=layers,
                turns=turns,
            )
        )
    return DemoFile(parts=tuple(made), variation=variation)


def _broken_down(heard: Sequence[Layer], rng: np.random.Generator) -> list[tuple[str, ...]]:
    """Two or three choices of layers that differ: without the bass first, where there is one."""
    found: list[tuple[str, ...]] = []
    high = tuple(one.id for one in heard if one.role != "bass")
    if 0 < len(high) < len(heard):
        found.append(high)
    wanted = 2 if len(heard) < 5 else 3
    for _try in range(24):
        count = min(len(heard) - 1, max(2, round(NOT_ALL * len(heard))))
        places = sorted(int(at) for at in rng.permutation(len(heard))[:count])
        chosen = tuple(heard[at].id for at in places)
        if chosen not in found:
            found.append(chosen)
        if len(found) >= wanted:
            break
    return found


def fitted(demo: DemoFile, loop: Loop) -> DemoFile:
    """Return a demo file without layers that are gone, and without parts of nothing else."""
    there = {one.id for one in loop.layers}
    parts = []
    for part in demo.parts:
        kept = tuple(one for one in part.layers if one in there)
        if kept or not part.layers:
            parts.append(part if kept == part.layers else replace(part, layers=kept))
    return replace(demo, parts=tuple(parts))


# --- edits ----------------------------------------------------------------------------------------


def find_part(demo: DemoFile, part_id: str) -> DemoPart:
    """Return a part; raise CloudriftError where it is gone."""
    found = next((one for one in demo.parts if one.id == part_id), None)
    if found is None:
        raise CloudriftError("that part of the demo file no longer exists")
    return found


def set_part(demo: DemoFile, part_id: str, **changes: object) -> DemoFile:
    """Change a part: its ``name``, ``layers``, ``turns``."""
    made = replace(find_part(demo, part_id), **changes)
    return replace(demo, parts=tuple(made if one.id == part_id else one for one in demo.parts))


def add_part(demo: DemoFile, name: str = EVERYTHING, layers: tuple[str, ...] = ()) -> DemoFile:
    """Add a part at the end."""
    made = DemoPart(id=new_id("d", (one.id for one in demo.parts)), name=name, layers=layers)
    return replace(demo, parts=(*demo.parts, made))


def remove_part(demo: DemoFile, part_id: str) -> DemoFile:
    """Take a part out."""
    return replace(demo, parts=tuple(one for one in demo.parts if one.id != part_id))


def move_part(demo: DemoFile, part_id: str, by: int) -> DemoFile:
    """Move a part that many places later (or earlier)."""
    parts = list(demo.parts)
    at = parts.index(find_part(demo, part_id))
    to = min(max(at + by, 0), len(parts) - 1)
    parts.insert(to, parts.pop(at))
    return replace(demo, parts=tuple(parts))


def with_layer(demo: DemoFile, loop: Loop, part_id: str, layer_id: str, *, on: bool) -> DemoFile:
    """Let a layer be heard in a part, or not; the last one stays."""
    part = find_part(demo, part_id)
    heard = [one.id for one in heard_in(loop, part)]
    kept = [
        one.id
        for one in loop.heard()
        if (one.id in heard or one.id == layer_id) and (on or one.id != layer_id)
    ]
    if not kept:
        raise CloudriftError("a part of the demo file needs a layer that plays")
    every = len(kept) == len(loop.heard())
    return set_part(demo, part_id, layers=() if every else tuple(kept))
