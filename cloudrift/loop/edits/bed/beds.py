"""Edits of the groove bed: its lanes, what they share, their stacks and their patterns.

What is done to single hits is in ``loop.hitting``.
"""

from typing import Any, NamedTuple

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import NAME_TYPED, free_name
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.model.bed import BED, Bed, Duck, hits_of
from cloudrift.loop.model.hits import Hits, Pattern, Stacked
from cloudrift.loop.model.layer import Layer, new_id
from cloudrift.loop.model.loop import Loop
from cloudrift.notes.time import bar_ticks
from cloudrift.sound.instrument import Role
from cloudrift.sound.own import OwnSound
from cloudrift.texture.treatment import Treatment

FIRST, SECOND, BARE = "A", "B", "Bare"
HATS = "hats"


class Part(NamedTuple):
    """What a lane is in a groove: how it is called, what it plays with, how it is coloured."""

    name: str
    sounds: tuple[str, ...]
    role: Role
    on_roots: bool = False
    choke: str = ""
    level_db: float = 0.0
    pan: float = 0.0


# By what a manner calls them.
PARTS: dict[str, Part] = {
    "kick": Part("Kick", ("kick",), "bass"),
    "low drum": Part("Low drum", ("long drum",), "bass", on_roots=True, choke="low", level_db=-2.0),
    "low octave": Part(
        "Low drum, higher", ("long drum",), "bass", on_roots=True, choke="low", level_db=-9.0
    ),
    "sub": Part("Sub", ("round sub",), "bass", on_roots=True, choke="low", level_db=-3.0),
    "synth bass": Part(
        "Synth bass", ("synth bass",), "bass", on_roots=True, choke="low", level_db=-5.0
    ),
    "snare": Part("Snare", ("snare",), "lead", level_db=-2.0),
    "clap": Part("Clap", ("clap",), "voice", level_db=-4.0),
    "snap": Part("Snap", ("snap",), "voice", level_db=-4.0),
    "hats": Part("Hats", ("closed hat",), "bell", choke=HATS, level_db=-10.0),
    "open hat": Part("Open hat", ("open hat",), "bell", choke=HATS, level_db=-11.0),
    "low hats": Part("Low hats", ("closed hat",), "bell", choke=HATS, level_db=-12.0),
    "rim": Part("Rim", ("rim",), "strings", level_db=-9.0, pan=0.25),
    "shaker": Part("Shaker", ("shaker",), "pluck", level_db=-12.0, pan=-0.2),
    "crash": Part("Crash", ("crash",), "pad", level_db=-10.0),
    "ride": Part("Ride", ("ride",), "bell", level_db=-13.0, pan=0.2),
    "tambourine": Part("Tambourine", ("tambourine",), "bell", level_db=-13.0, pan=-0.15),
    "tom": Part("Tom", ("tom",), "bass", level_db=-5.0),
    "conga": Part("Conga", ("conga",), "pluck", level_db=-7.0, pan=0.15),
    "woodblock": Part("Woodblock", ("woodblock",), "pluck", level_db=-11.0, pan=-0.25),
    "zap": Part("Zap", ("zap",), "grain", level_db=-12.0),
}
USUAL = ("kick", "low drum", "snare", "hats", "open hat")


def bed_of(loop: Loop) -> Bed:
    """Return a loop's groove bed; raise CloudriftError where there is none."""
    if loop.bed is None:
        raise CloudriftError("there is no groove bed yet; suggest one, or add a lane")
    return loop.bed


def set_bed(loop: Loop, **changes: Any) -> Loop:
    """Return a loop with fields of its groove bed changed; there is one from then on."""
    return replace(loop, bed=replace(loop.bed or Bed(), **changes))


def remove_bed(loop: Loop) -> Loop:
    """Take the groove bed out."""
    return replace(loop, bed=None)


def set_heard(loop: Loop, *, on: bool) -> Loop:
    """Let the groove bed be heard, or not."""
    bed = bed_of(loop)
    return set_bed(loop, group=replace(bed.group, mute=not on))


def sounding(loop: Loop, lane_id: str) -> Loop:
    """Let a lane be heard, and the bed that it is in: what is drawn into it is to play."""
    if lane_of(loop, lane_id).mute:
        loop = loop.with_owner(lane_id, mute=False)
    return set_heard(loop, on=True) if bed_of(loop).group.mute else loop


def duck_under(loop: Loop, lanes: tuple[str, ...]) -> Loop:
    """Let the loop make room for some lanes; for none, it does not."""
    there = {x.id for x in loop.lanes}
    lanes = tuple(x for x in lanes if x in there)
    duck = bed_of(loop).duck or Duck()
    return set_bed(loop, duck=replace(duck, lanes=lanes) if lanes else None)


def set_duck(loop: Loop, **changes: Any) -> Loop:
    """Change how the loop makes room."""
    duck = bed_of(loop).duck
    if duck is None:
        raise CloudriftError("nothing ducks the loop yet; select a lane first")
    return set_bed(loop, duck=replace(duck, **changes))


# --- lanes ----------------------------------------------------------------------------------------


def lane_for(loop: Loop, part: str, patterns: tuple[Pattern, ...] = ()) -> Layer:
    """Return a lane that is not in the bed yet: what a part usually is."""
    of = PARTS[part]
    bed = loop.bed or Bed()
    settings = {"low hats": (("tune_st", -7.0),), "low octave": (("drop_st", 6.0),)}.get(part, ())
    stack = tuple(
        Stacked(
            use=replace(layer_edits.sound_use(sound), settings=settings),
            st=12 if part == "low octave" else 0,
        )
        for sound in of.sounds
    )
    plays = patterns[0].name if patterns else (bed.patterns or (FIRST,))[0]
    patterns = patterns or tuple(
        Pattern(name=name, bars=_bars_of(bed, name)) for name in bed.patterns or (FIRST,)
    )
    return Layer(
        id=new_id("b", loop.ids),
        name=free_name(of.name, [x.name for x in bed.lanes]),
        role=of.role,
        group=BED,
        level_db=of.level_db,
        pan=of.pan,
        source=Hits(
            stack=stack, patterns=patterns, plays=plays, on_roots=of.on_roots, choke=of.choke
        ),
    )


def _bars_of(bed: Bed, name: str) -> int:
    found = [one.bars for x in bed.lanes for one in hits_of(x).patterns if one.name == name]
    return max(found, default=2)


def add_lane(loop: Loop, part: str) -> Loop:
    """Put an empty lane at the end of the bed."""
    return set_bed(loop, lanes=(*loop.lanes, lane_for(loop, part)))


def lane_of(loop: Loop, lane_id: str) -> Layer:
    """Return a lane by id."""
    found = next((x for x in loop.lanes if x.id == lane_id), None)
    if found is None:
        raise CloudriftError("that lane no longer exists")
    return found


def remove_lane(loop: Loop, lane_id: str) -> Loop:
    """Take a lane out; nothing makes room for it any more."""
    bed = bed_of(loop)
    lane_of(loop, lane_id)
    loop = set_bed(
        loop,
        lanes=tuple(x for x in bed.lanes if x.id != lane_id),
        locked=tuple(x for x in bed.locked if x != lane_id),
    )
    left = bed_of(loop).duck
    return duck_under(loop, tuple(x for x in left.lanes if x != lane_id)) if left else loop


def copy_lane(loop: Loop, lane_id: str) -> Loop:
    """Put a copy of a lane after it."""
    bed, lane = bed_of(loop), lane_of(loop, lane_id)
    twin = replace(
        lane,
        id=new_id("b", loop.ids),
        name=free_name(lane.name[:NAME_TYPED], [x.name for x in bed.lanes]),
    )
    at = bed.lanes.index(lane) + 1
    return set_bed(loop, lanes=(*bed.lanes[:at], twin, *bed.lanes[at:]))


def move_lane(loop: Loop, lane_id: str, by: int) -> Loop:
    """Move a lane up or down the bed, as far as it goes."""
    lanes = list(bed_of(loop).lanes)
    at = lanes.index(lane_of(loop, lane_id))
    lanes.insert(min(max(at + by, 0), len(lanes) - 1), lanes.pop(at))
    return set_bed(loop, lanes=tuple(lanes))


def set_lane(loop: Loop, lane_id: str, **changes: Any) -> Loop:
    """Return a loop with fields of what a lane plays changed: ``choke``, ``late_ms``, …"""
    hits = replace(hits_of(lane_of(loop, lane_id)), **changes)
    return loop.with_owner(lane_id, source=hits)


def lock(loop: Loop, lane_id: str, *, on: bool) -> Loop:
    """Keep a lane as it is when a groove is drawn again, or no longer."""
    lane_of(loop, lane_id)
    others = tuple(x for x in bed_of(loop).locked if x != lane_id)
    return set_bed(loop, locked=(*others, lane_id) if on else others)


# --- stacks ---------------------------------------------------------------------------------------


def add_to_stack(loop: Loop, lane_id: str, sound: str | OwnSound) -> Loop:
    """Strike another sound together with those of a lane."""
    hits = hits_of(lane_of(loop, lane_id))
    return set_lane(loop, lane_id, stack=(*hits.stack, Stacked(use=layer_edits.sound_use(sound))))


def set_stacked(loop: Loop, lane_id: str, which: int, **changes: Any) -> Loop:
    """Change one sound of a lane's stack (from 0): its level, lateness, pitch, sound."""
    stack = list(hits_of(lane_of(loop, lane_id)).stack)
    stack[which] = replace(stack[which], **changes)
    return set_lane(loop, lane_id, stack=tuple(stack))


def take_from_stack(loop: Loop, lane_id: str, which: int) -> Loop:
    """Take one sound out of a lane's stack; hits that played it alone play all."""
    hits = hits_of(lane_of(loop, lane_id))
    if len(hits.stack) == 1:
        raise CloudriftError("a lane needs a sound; remove the lane instead")
    stack = hits.stack[:which] + hits.stack[which + 1 :]
    patterns = tuple(
        replace(
            one, hits=tuple(replace(hit, sound=_without(hit.sound, which + 1)) for hit in one.hits)
        )
        for one in hits.patterns
    )
    return set_lane(loop, lane_id, stack=stack, patterns=patterns)


def _without(sound: int, gone: int) -> int:
    return 0 if sound == gone else sound - (sound > gone)


# --- patterns -------------------------------------------------------------------------------------


def play_pattern(loop: Loop, name: str, lane_id: str = "") -> Loop:
    """Let all lanes, or one, play a pattern; a lane that has none of that name stays."""
    for lane in loop.lanes:
        hits = hits_of(lane)
        if lane_id in ("", lane.id) and any(one.name == name for one in hits.patterns):
            loop = set_lane(loop, lane.id, plays=name)
    return loop


def copy_pattern(loop: Loop, name: str) -> Loop:
    """Keep what all lanes play under another name too, and go on with that."""
    bed = bed_of(loop)
    if name in bed.patterns:
        raise CloudriftError(f"pattern {name} already exists; use it, or another name")
    for lane in bed.lanes:
        hits = hits_of(lane)
        copy = replace(hits.pattern, name=name)
        loop = set_lane(loop, lane.id, patterns=(*hits.patterns, copy), plays=name)
    return loop


def next_pattern_name(bed: Bed) -> str:
    """Return the first letter that no pattern has."""
    letters = (chr(code) for code in range(ord("A"), ord("Z") + 1))
    return next((x for x in letters if x not in bed.patterns), free_name("A", bed.patterns))


def remove_pattern(loop: Loop, name: str) -> Loop:
    """Take a pattern out of all lanes that have another."""
    bed = bed_of(loop)
    if len(bed.patterns) == 1:
        raise CloudriftError("it is the only pattern; delete its hits instead")
    for lane in bed.lanes:
        hits = hits_of(lane)
        left = tuple(one for one in hits.patterns if one.name != name)
        if left:
            plays = hits.plays if hits.plays != name else left[0].name
            loop = set_lane(loop, lane.id, patterns=left, plays=plays)
    return loop


def set_pattern(loop: Loop, lane_id: str, pattern: Pattern) -> Loop:
    """Put a pattern in the place of the one of its name; it is added where there is none."""
    hits = hits_of(lane_of(loop, lane_id))
    names = [one.name for one in hits.patterns]
    if pattern.name not in names:
        return set_lane(loop, lane_id, patterns=(*hits.patterns, pattern))
    patterns = tuple(pattern if one.name == pattern.name else one for one in hits.patterns)
    return set_lane(loop, lane_id, patterns=patterns)


def set_pattern_bars(loop: Loop, bars: int) -> Loop:
    """Give the pattern that is heard another length in all lanes: it comes round, or is cut."""
    bar = bar_ticks(loop.metre)
    for lane in bed_of(loop).lanes:
        pattern = hits_of(lane).pattern
        length = pattern.bars * bar
        kept = [hit for hit in pattern.hits if hit.tick < length]
        turns = range(-(-bars // pattern.bars))
        hits = [replace(hit, tick=hit.tick + turn * length) for turn in turns for hit in kept]
        hits = [hit for hit in hits if hit.tick < bars * bar]
        loop = set_pattern(loop, lane.id, replace(pattern, bars=bars, hits=tuple(hits)))
    return loop


# --- all of it ------------------------------------------------------------------------------------


def make_dirty(loop: Loop) -> Loop:
    """Drive all of the bed into a soft clip, blended, as much louder as it takes away."""
    return _added(loop, "overdrive", 0.4, drive_db=16.0, out_db=-8.0)


def give_air(loop: Loop) -> Loop:
    """Put all of the bed into a small room that rings above 400 Hz."""
    return _added(loop, "room", 0.22, decay_s=0.7, low_cut_hz=400.0)


def _added(loop: Loop, kind: str, blend: float, **settings: float) -> Loop:
    """Lay a treatment after the bed's line; where one of its kind is, that is switched."""
    there = [t for t in bed_of(loop).group.line if t.kind == kind]
    if there:
        return line_edits.set_treatment(loop, BED, there[-1].id, on=not there[-1].on)
    loop = line_edits.add_treatment(loop, BED, kind)
    made: Treatment = loop.line_of(BED)[-1]
    for name, value in settings.items():
        loop = line_edits.set_treatment_setting(loop, BED, made.id, name, value)
    return line_edits.set_treatment(loop, BED, made.id, blend=blend)
