"""Edits: pure functions from one loop to the next. Whoever changes a loop does it with these."""

import re
from collections.abc import Iterable
from itertools import pairwise
from typing import Any

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import free_name
from cloudrift.loop.edits.layers.new_layer import fitted_level, usual_layer
from cloudrift.loop.model.loop import Group, Layer, Loop, new_id
from cloudrift.loop.model.sound_use import SoundUse
from cloudrift.loop.model.source import OtherSound
from cloudrift.sound.catalogue import find_sound
from cloudrift.sound.own import OwnSound

# --- layers ---------------------------------------------------------------------------------


def set_layer(loop: Loop, layer_id: str, **changes: Any) -> Loop:
    """Change fields of a layer: ``level_db``, ``pan``, ``mute``, ``source``, …"""
    return loop.with_owner(layer_id, **changes)


def set_source(loop: Loop, layer_id: str, **changes: Any) -> Loop:
    """Change fields of what a layer comes from: ``sound``, ``other``, ``lens``, ``touch``, …"""
    return set_layer(loop, layer_id, source=loop.layer(layer_id).with_source(**changes).source)


def set_lens(loop: Loop, layer_id: str, **changes: Any) -> Loop:
    """Change fields of a layer's lens. To and from the top, the usual number of voices is taken."""
    lens = loop.layer(layer_id).played.lens
    if "top" in (lens.kind, changes.get("kind")) and changes.get("kind", lens.kind) != lens.kind:
        changes = {"voices": 0, **changes}
    return set_source(loop, layer_id, lens=replace(lens, **changes))


def set_places(loop: Loop, layer_id: str, first: int, last: int, *, plays: bool) -> Loop:
    """Let a layer's lens play in a stretch of ticks, or not; no places at all is everywhere."""
    where = loop.layer(layer_id).played.lens.where or ((0, loop.ticks),)
    cuts = sorted({first, last, *(tick for pair in where for tick in pair)})
    kept: list[tuple[int, int]] = []
    for a, b in pairwise(cuts):
        inside = any(x <= a and b <= y for x, y in where)
        if plays if first <= a < last else inside:
            if kept and kept[-1][1] == a:
                kept[-1] = (kept[-1][0], b)
            else:
                kept.append((a, b))
    if not kept:
        raise CloudriftError("a layer has to play somewhere; mute it or turn it off instead")
    whole = kept == [(0, loop.ticks)]
    return set_lens(loop, layer_id, where=() if whole else tuple(kept))


def set_touch(loop: Loop, layer_id: str, **changes: Any) -> Loop:
    """Change fields of a layer's touch."""
    return set_source(loop, layer_id, touch=replace(loop.layer(layer_id).played.touch, **changes))


def sound_use(sound: str | OwnSound) -> SoundUse:
    """Return the use of a house sound, by name and in its newest design, or of an own one."""
    if isinstance(sound, OwnSound):
        return SoundUse(name=sound.name, own=sound)
    found = find_sound(sound)
    return SoundUse(name=found.name, version=found.version)


def set_sound(loop: Loop, layer_id: str, sound: str | OwnSound) -> Loop:
    """Give a layer another sound, with that sound's own settings and role.

    A name that nobody typed, the sound's own, goes with it.
    """
    use = sound_use(sound)
    name = _following_name(loop, loop.layer(layer_id), use)
    return set_layer(set_source(loop, layer_id, sound=use), layer_id, role=use.of.role, name=name)


def _following_name(loop: Loop, layer: Layer, use: SoundUse) -> str:
    """A layer's name with another sound: that of the sound, where it was so before."""
    label = re.escape(layer.played.sound.of.label)
    if not re.fullmatch(rf"{label}( [1-9]\d?)?", layer.name, re.IGNORECASE):
        return layer.name
    return free_name(use.of.label, (one.name for one in loop.layers if one.id != layer.id))


def set_aside(loop: Loop, layer_id: str, sound: str | OwnSound) -> Loop:
    """Keep a second sound beside a layer's first, to swap with it or to take turns."""
    other = loop.layer(layer_id).played.other
    turns = other.every_bars if other else 0
    return set_source(loop, layer_id, other=OtherSound(use=sound_use(sound), every_bars=turns))


def swap_sounds(loop: Loop, layer_id: str) -> Loop:
    """Swap a layer's two sounds."""
    layer = loop.layer(layer_id)
    if layer.played.other is None:
        raise CloudriftError(f"{layer.name} has no second sound; choose one with Compare first")
    use, other = layer.played.other.use, replace(layer.played.other, use=layer.played.sound)
    name = _following_name(loop, layer, use)
    return set_layer(set_source(loop, layer_id, sound=use, other=other), layer_id, name=name)


def take_turns(loop: Loop, layer_id: str, every_bars: int) -> Loop:
    """Let a layer's two sounds take turns every so many bars; 0: the second one rests."""
    layer = loop.layer(layer_id)
    if layer.played.other is None:
        raise CloudriftError(f"{layer.name} has no second sound; choose one with Compare first")
    return set_source(loop, layer_id, other=replace(layer.played.other, every_bars=every_bars))


def use_newest_design(loop: Loop, layer_id: str) -> Loop:
    """Let a layer play the newest design of its sound; settings that it still has are kept."""
    use = loop.layer(layer_id).played.sound
    if use.own:
        return loop  # it has one design
    newest = find_sound(use.name)
    there = {f.name for f in newest.spec}
    settings = newest.spec.check(
        tuple(pair for pair in use.settings if pair[0] in there), f"sound {use.name}"
    )
    sound = SoundUse(name=use.name, version=newest.version, settings=settings)
    return set_source(loop, layer_id, sound=sound)


def set_sound_setting(loop: Loop, layer_id: str, name: str, value: object) -> Loop:
    """Change one setting of a layer's sound."""
    use = loop.layer(layer_id).played.sound
    full = {**use.of.spec.full(use.settings), name: value}
    settings = use.of.spec.check(full, f"sound {use.name}")
    return set_source(loop, layer_id, sound=replace(use, settings=settings))


def add_layer(loop: Loop, sound_name: str | OwnSound, name: str = "") -> Loop:
    """Add a layer with a sound as its family is usually played, at a level that fits the others."""
    layer = usual_layer(loop, sound_use(sound_name), name)
    name = free_name(layer.name, (one.name for one in loop.layers))
    layer = replace(layer, id=new_id("l", (one.id for one in loop.layers)), name=name)
    return replace(loop, layers=(*loop.layers, layer))


def add_note_layer(loop: Loop, like: str = "") -> Loop:
    """Add a layer without notes, to draw or play in, with the sound of another if it is named."""
    like = like if like and loop.layer(like).recorded is None else ""
    sound = loop.layer(like).played.sound if like else sound_use("felt upright")
    layer = usual_layer(loop, sound, free_name("Notes", (one.name for one in loop.layers)))
    layer = replace(layer.with_notes(()), id=new_id("l", (one.id for one in loop.layers)))
    level = fitted_level(loop, layer)
    layer = replace(layer, level_db=min(level, loop.layer(like).level_db) if like else level)
    return replace(loop, layers=(*loop.layers, layer))


def copy_layer(loop: Loop, layer_id: str, *, twin: bool = False) -> Loop:
    """Put a copy of a layer after it; a ``twin`` plays the same notes without its treatments."""
    layer = loop.layer(layer_id)
    names = {one.name for one in loop.layers}
    name = free_name(f"{layer.name} twin" if twin else layer.name, names)
    copy = replace(layer, id=new_id("l", (one.id for one in loop.layers)), name=name)
    if twin:
        copy = replace(copy, line=(), pan=-layer.pan)
    at = loop.layers.index(layer) + 1
    return replace(loop, layers=(*loop.layers[:at], copy, *loop.layers[at:]))


def move_layer(loop: Loop, layer_id: str, by: int) -> Loop:
    """Move a layer up (negative) or down the list; at an end it stays."""
    layer = loop.layer(layer_id)
    rest = [one for one in loop.layers if one is not layer]
    at = min(max(loop.layers.index(layer) + by, 0), len(rest))
    return replace(loop, layers=(*rest[:at], layer, *rest[at:]))


def remove_layer(loop: Loop, layer_id: str) -> Loop:
    """Take a layer out."""
    rest = tuple(one for one in loop.layers if one.id != layer_id)
    return _without_empty(replace(loop, layers=rest))


# --- groups: layers that share a line -------------------------------------------------------------


def group_layers(loop: Loop, layer_ids: Iterable[str], name: str = "") -> Loop:
    """Put layers into a new group, out of those that they were in; groups left empty go."""
    ids = set(layer_ids)
    chosen = [layer for layer in loop.layers if layer.id in ids]
    if not chosen:
        raise CloudriftError("select at least one layer for the group")
    new = new_id("g", (group.id for group in loop.groups))
    group = Group(id=new, name=name or " and ".join(layer.name for layer in chosen[:2]))
    layers = tuple(replace(x, group=new) if x.id in ids else x for x in loop.layers)
    return _without_empty(replace(loop, layers=layers, groups=(*loop.groups, group)))


def put_in_group(loop: Loop, layer_id: str, group_id: str) -> Loop:
    """Put a layer into a group, or take it out of any (empty)."""
    return _without_empty(set_layer(loop, layer_id, group=group_id))


def _without_empty(loop: Loop) -> Loop:
    there = {layer.group for layer in loop.layers}
    return replace(loop, groups=tuple(group for group in loop.groups if group.id in there))


def set_group(loop: Loop, group_id: str, **changes: Any) -> Loop:
    """Change fields of a group: ``name``, ``line``, ``level_db``, ``pan``, ``mute``."""
    loop.group(group_id)
    return loop.with_owner(group_id, **changes)


# --- treatment lines: of a layer or a group, or of the whole loop (None) -------------------------


# --- cards and lines on their way from one place to another --------------------------------------
