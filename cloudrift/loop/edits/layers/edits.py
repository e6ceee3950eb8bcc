"""Edits: pure functions from one loop to the next. Whoever changes a loop does it with these."""

import re
from collections.abc import Iterable
from itertools import pairwise
from typing import Any

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import free_name
from cloudrift.loop.edits.chords.chord_edits import with_voices
from cloudrift.loop.edits.layers import recordings
from cloudrift.loop.edits.layers.new_layer import fitted_level, usual_layer
from cloudrift.loop.edits.layers.own_notes import fitted
from cloudrift.loop.model import spec
from cloudrift.loop.model.chord import lasting
from cloudrift.loop.model.loop import LEVEL, Chord, Group, Layer, LineAt, Loop, new_id
from cloudrift.loop.model.sound_use import SoundUse
from cloudrift.loop.model.source import OtherSound
from cloudrift.notes.lens import folded
from cloudrift.notes.note import HIGHEST, LOWEST, in_order
from cloudrift.notes.time import bar_ticks
from cloudrift.sound.catalogue import find_sound
from cloudrift.sound.own import OwnSound
from cloudrift.texture.catalogue import find_kind
from cloudrift.texture.kinds.resonances import Harsh
from cloudrift.texture.ride import Ride, RidePoint, fitted_points
from cloudrift.texture.treatment import Line, Treatment, time_ratio
from cloudrift.theory.key import Key


def set_key(loop: Loop, key: Key, *, shift: int | None = None) -> Loop:
    """Change the key with every voice following; degrees stay.

    In another mode each scale note becomes the note of the same degree; notes outside the scale
    move with the tonic. ``shift`` says how far the voices go (semitones; the tonic's distance but
    for octaves). Without it they go the shorter way, and by a tritone up from C to F sharp but down
    from F sharp to C, so that there and back is always where they were.
    """
    if shift is None:
        distance = key.pc - loop.key.pc
        shift = distance if abs(distance) == 6 else (distance + 6) % 12 - 6
    return replace(
        loop,
        key=key,
        chords=tuple(_in_key(chord, loop.key, key, shift) for chord in loop.chords),
        layers=tuple(_own_in_key(layer, loop.key, key, shift) for layer in loop.layers),
    )


def shift_key(loop: Loop, semitones: int) -> Loop:
    """Move everything by semitones, the key with it."""
    moved = [v + semitones for chord in loop.chords for v in chord.voices]
    if moved and not (min(moved) >= spec.VOICE_LOW and max(moved) <= spec.VOICE_HIGH):
        raise CloudriftError(
            f"{semitones:+d} semitones would take a voice out of reach; move the chords by an "
            "octave the other way first"
        )
    return set_key(loop, loop.key.shifted(semitones), shift=semitones)


def rename_key(loop: Loop, key: Key) -> Loop:
    """Call the same notes another key: only names, degrees and what counts as outside change."""
    return replace(loop, key=key)


def _in_key(chord: Chord, old: Key, new: Key, shift: int) -> Chord:
    where = {voice: _moved(voice, old, new, shift) for voice in chord.voices}
    root = _moved(chord.root + 60, old, new, shift) % 12
    return replace(with_voices(chord, where), root=root)


def _own_in_key(layer: Layer, old: Key, new: Key, shift: int) -> Layer:
    """Own notes go along; one that would leave the reach of notes goes by an octave less."""
    if layer.recorded is not None:
        return recordings.moved(layer, layer.recorded, shift)
    if not layer.own or not layer.played.sound.of.tuned:  # a drum has no key to go along with
        return layer
    own = (replace(n, pitch=folded(_moved(n.pitch, old, new, shift), LOWEST, HIGHEST))
           for n in layer.own)  # fmt: skip
    return layer.with_source(notes=in_order(own))


def _moved(pitch: int, old: Key, new: Key, shift: int) -> int:
    there = pitch + shift
    if not old.has(pitch):
        return there
    wanted = new.scale[old.scale.index(pitch % 12)]
    return there + (wanted - there + 6) % 12 - 6


def set_tempo(loop: Loop, tempo: float) -> Loop:
    """Change the written tempo (BPM)."""
    return replace(loop, tempo=round(float(tempo), 2))


def set_bars(loop: Loop, bars: int) -> Loop:
    """Change the length: a shorter loop is cut, a longer one repeats what is there."""
    ticks, have = bars * bar_ticks(loop.metre), loop.ticks
    chords: list[Chord] = []
    for turn in range(-(-ticks // have)):
        for chord in loop.chords:
            start = chord.start_tick + turn * have
            if start >= ticks:
                break
            taken = (c.id for c in (*loop.chords, *chords))
            chords.append(
                replace(
                    lasting(chord, start, min(start + chord.length_ticks, ticks)),
                    id=chord.id if turn == 0 else new_id("c", taken),
                )
            )
    return replace(loop, bars=bars, chords=tuple(chords), layers=fitted(loop, bars))


def set_title(loop: Loop, title: str) -> Loop:
    """Rename the loop; an empty name is refused."""
    if not title.strip():
        raise CloudriftError("a loop needs a name; type at least one letter")
    return replace(loop, title=title.strip())


def set_style(loop: Loop, style: str) -> Loop:
    """Name another style card (empty: none); what is there stays as it is."""
    return replace(loop, style=style)


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
        raise CloudriftError("a layer has to play somewhere; turn it off or park it instead")
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
        raise CloudriftError(f"{layer.name} has no second sound; keep one beside it first")
    use, other = layer.played.other.use, replace(layer.played.other, use=layer.played.sound)
    name = _following_name(loop, layer, use)
    return set_layer(set_source(loop, layer_id, sound=use, other=other), layer_id, name=name)


def take_turns(loop: Loop, layer_id: str, every_bars: int) -> Loop:
    """Let a layer's two sounds take turns every so many bars; 0: the second one rests."""
    layer = loop.layer(layer_id)
    if layer.played.other is None:
        raise CloudriftError(f"{layer.name} has no second sound; keep one beside it first")
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
    """Put a copy of a layer behind it; a ``twin`` plays the same notes without its treatments."""
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
        raise CloudriftError("choose at least one layer to put into a group")
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
            "this line makes its sound longer (tape), so there is nothing as long to blend it "
            "with; let the shift hold the length, or take it out"
        )
    return loop.with_owner(line_of, line_blend=round(blend, 3))


def add_treatment(loop: Loop, line_of: LineAt, kind: str, at: int | None = None) -> Loop:
    """Add a treatment with its defaults, at the end or at a place."""
    line = loop.line_of(line_of)
    made = find_kind(kind)
    treatment = Treatment(id=new_id("t", (t.id for t in line)), kind=kind, version=made.version,
                          blend=made.blend)  # fmt: skip
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
    """Change ``on``, ``blend``, ``draw`` or ``note`` of a treatment."""
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


def ride_again(
    loop: Loop, line_of: LineAt, treatment_id: str, name: str, every_ticks: int
) -> Loop:  # fmt: skip
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
    loop: Loop, line_of: LineAt, treatment_id: str, name: str, points: tuple[RidePoint, ...],
    every_ticks: int = 0,
) -> Loop:  # fmt: skip
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


# --- cards and lines on their way from one place to another --------------------------------------


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
    for name, value in (("notch_hz", round(found.hz)), ("notch_q", round(found.q, 1)),
                        ("notch_db", -depth)):  # fmt: skip
        loop = set_treatment_setting(loop, line_of, added, name, value)
    return loop


def swap_treatments(loop: Loop, line_of: LineAt, one: str, other: str) -> Loop:
    """Let two treatments of a line change places."""
    line = {t.id: t for t in loop.line_of(line_of)}
    if one not in line or other not in line:
        raise CloudriftError(f"there are no treatments {one} and {other} in this line to swap")
    places = {one: other, other: one}
    return set_line(loop, line_of, tuple(line[places.get(id_, id_)] for id_ in line))
