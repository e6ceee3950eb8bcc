"""The plan: a loop as a small graph of pure steps, each with a key made from all it depends on.

notes -> bare layer -> after its treatments -> mix -> after the whole loop's treatments. A step
whose key is in the cache is not run, so changing one thing runs only what follows from it.
"""

from typing import NamedTuple

import numpy as np
from msgspec.structs import replace

from cloudrift.audio.buffers import Stereo, to_gain
from cloudrift.audio.clips import ClipStore
from cloudrift.loop.model import spec
from cloudrift.loop.model.bed import BED, hits_of
from cloudrift.loop.model.flip import Flipped
from cloudrift.loop.model.hits import Hits
from cloudrift.loop.model.loop import Group, Layer, LineAt, Loop
from cloudrift.loop.model.recorded import FromRecording
from cloudrift.loop.model.sound_use import SoundUse
from cloudrift.loop.sounding import around_bed, key_entering, notes_of
from cloudrift.notes.note import Note, in_order
from cloudrift.notes.time import Clock, bar_ticks
from cloudrift.render.plan.laying import Laying, laid, laying_of
from cloudrift.render.plan.mixing import Ducked, LineBlended, Summed, Treated
from cloudrift.render.plan.mixing import GainAutomation as Riding
from cloudrift.render.plan.node import Node
from cloudrift.render.plan.nodes import CutUp, Played, Recorded, Repeated, Stack, Turns
from cloudrift.render.plan.slicing import cut_up, cuts_of, piece_of
from cloudrift.sound.own import in_tempo
from cloudrift.sound.part import Part
from cloudrift.sound.tones import ToneCache
from cloudrift.texture.context import Context
from cloudrift.texture.treatment import Line, acting, after, fused, tail_s, time_ratio
from cloudrift.theory.key import Key

ONCE_LONGEST_TAIL_S = 40.0


class Form(NamedTuple):
    """How a loop goes: in its steady state, ``once`` from silence, or round in passes.

    ``outs`` are the layers and groups that play no notes in each pass; what they have played
    before rings on.
    """

    once: bool = False
    outs: tuple[frozenset[str], ...] = ()


STEADY, ONCE = Form(), Form(once=True)


def passes_of(loop: Loop) -> int:
    """Return how many loop lengths a one-pass render needs until all has died away.

    Layers that are off count, so that loops which differ in that share what they are made of.
    """
    layers = [x for x in (*loop.layers, *loop.lanes) if not x.parked]
    tail = max(
        (
            layer.source.rings_s(loop.tempo)
            + tail_s(layer.line, loop.tempo)
            + tail_s(_group_line(loop, layer), loop.tempo)
            for layer in layers
        ),
        default=0.0,
    )
    tail += tail_s(loop.line, loop.tempo) + tail_s(loop.over, loop.tempo)
    tail = min(tail, ONCE_LONGEST_TAIL_S)
    return 1 + max(1, -(-int(tail * loop.rate) // loop.frames))


def _group_line(loop: Loop, layer: Layer) -> Line:
    return loop.group(layer.group).line if layer.group else ()


def loop_context(loop: Loop, form: Form = STEADY) -> Context:
    """Return the context in front of the whole loop's line."""
    return Context(
        rate=loop.rate,
        exact_frames=float(loop.exact_frames),
        tempo=loop.tempo,
        cuts=tuple(loop.clock.frames(c.start_tick) for c in loop.chords) or (0,),
        passes=passes_of(loop) if form.once else max(1, len(form.outs)),
        once=form.once,
        key=_key_at(loop, None, loop.line),
    )


def _key_at(loop: Loop, at: LineAt, line: Line) -> Key:
    """The key in front of a line: what sounds, where anything on it is tuned to that."""
    tuned = any(one.of.follows_key for one in acting(line))
    return key_entering(loop, at) if tuned else loop.key


def layer_context(loop: Loop, layer: Layer, form: Form = STEADY) -> Context:
    """Return the context in front of a layer's line.

    A line that makes its layer longer (tape), or its group's, is fed a layer that was played as
    much faster, so that it comes out on the loop's grid.
    """
    context = group_context(loop, layer.group, form).stretched(1 / time_ratio(layer.line))
    return context.in_key(_key_at(loop, layer.id, layer.line))


def group_context(loop: Loop, group_id: str, form: Form = STEADY) -> Context:
    """Return the context in front of a group's line; in front of the sum where there is none.

    The groove bed is played beside the loop as it is heard: after the whole loop's line.
    """
    line = loop.group(group_id).line if group_id else ()
    context = loop_context(loop, form)
    if group_id == BED:
        context = after(context, loop.line)
    key = _key_at(loop, group_id, line) if group_id else context.key
    return context.stretched(1 / time_ratio(line)).in_key(key)


def step_context(loop: Loop, line_of: LineAt, count: int) -> Context:
    """Return the context after the first ``count`` treatments of a line."""
    match loop.owner(line_of):
        case Layer() as layer:
            context = layer_context(loop, layer)
        case Group() as group:
            context = group_context(loop, group.id)
        case _:
            context = loop_context(loop)
    return after(context, loop.line_of(line_of)[:count])


def step_node(loop: Loop, line_of: LineAt, tones: ToneCache, count: int) -> Node:
    """Return the step after the first ``count`` treatments of a line."""
    match loop.owner(line_of):
        case Layer() as layer:
            return layer_node(loop, layer, tones, count=count)
        case Group() as group:
            return group_node(loop, group.id, tones, count=count)
        case _:
            return loop_node(loop, tones, count=count)


def layer_laying(loop: Loop, layer: Layer, form: Form = STEADY) -> Laying:
    """Return how a layer that is a recording is laid into its loop, in front of its line."""
    assert layer.recorded is not None
    context = layer_context(loop, layer, form)
    longer = layer.flipped.longer if layer.flipped else 1.0
    return laying_of(layer.recorded, context, loop.ticks, loop.metre, longer=longer)


def recorded_sound(loop: Loop, layer: Layer, clips: ClipStore) -> Stereo:
    """Return the sound of a layer that is a recording, or a flip of one, in front of its line."""
    if layer.flipped is not None:
        context = layer_context(loop, layer)
        return cut_up(cuts_of(layer.flipped, context, loop.ticks, loop.metre), clips)
    return laid(layer_laying(loop, layer), clips)


def heard_piece(loop: Loop, layer: Layer, at: int, clips: ClipStore) -> Stereo:
    """Return what plays at one place, by number, of a layer that is a flip, before its line."""
    assert layer.flipped is not None
    context = layer_context(loop, layer)
    return piece_of(cuts_of(layer.flipped, context, loop.ticks, loop.metre), at, clips)


def bare_layer(loop: Loop, layer: Layer, tones: ToneCache, form: Form = STEADY) -> Node:
    """Return the step that makes a layer's sound: its notes played, or its recording laid.

    Two sounds that take turns are added up.
    """
    if form.outs:
        turns = tuple(i for i, out in enumerate(form.outs) if not {layer.id, layer.group} & out)
        one = bare_layer(loop, layer, tones, STEADY if len(turns) == len(form.outs) else ONCE)
        context = layer_context(loop, layer, form)
        return Repeated(one, turns, context, ("passes", layer.id), f"{layer.name}: passes")
    if isinstance(layer.source, Flipped):
        context = layer_context(loop, layer, form)
        cuts = cuts_of(layer.source, context, loop.ticks, loop.metre)
        return CutUp(cuts, tones.clips, ("bare", layer.id), f"{layer.name}: pieces")
    if isinstance(layer.source, FromRecording):
        laying = layer_laying(loop, layer, form)
        return Recorded(laying, tones.clips, ("bare", layer.id), f"{layer.name}: recording")
    if isinstance(layer.source, Hits):
        return _struck(loop, layer, layer.source, tones, form)
    notes = notes_of(loop, layer)
    if layer.played.other is None or len(layer.source.sounds) == 1:
        return _played(loop, layer, layer.played.sound, notes, tones, 0, form)
    turn = layer.played.other.every_bars * bar_ticks(loop.metre)
    pieces = in_turns(notes, turn)
    one, other = (
        _played(loop, layer, sound, pieces[i], tones, i, form)
        for i, sound in enumerate(layer.source.sounds)
    )
    return Turns(one, other, ("turns", layer.id), f"{layer.name}: alternating sounds")


def _struck(loop: Loop, lane: Layer, hits: Hits, tones: ToneCache, form: Form) -> Node:
    """The hits of a lane: each sound of its stack played, and those added up."""
    around, stops = around_bed(loop), _stops(loop, hits)
    parts = [
        _played(loop, lane, one.use, hits.notes_of(i, around), tones, i, form, stops)
        for i, one in enumerate(hits.stack)
    ]
    gains = tuple(to_gain(one.level_db) for one in hits.stack)
    if len(parts) == 1 and gains == (1.0,):
        return parts[0]
    return Stack(parts, gains, ("stack", lane.id), f"{lane.name}: stack")


def _stops(loop: Loop, hits: Hits) -> tuple[tuple[int, float], ...]:
    """Where what a lane plays is stopped: at each hit of those that it shares a choke with."""
    if not hits.choke or loop.bed is None:
        return ()
    others = [hits_of(x) for x in loop.bed.heard]
    strokes = [
        stroke
        for one in others
        if one.choke == hits.choke
        for stroke in one.strokes(around_bed(loop))
    ]
    return tuple(sorted((stroke.tick, stroke.late_ms) for stroke in strokes))


def in_turns(notes: tuple[Note, ...], turn: int) -> tuple[tuple[Note, ...], tuple[Note, ...]]:
    """Part notes between two sounds that take turns every so many ticks.

    A note that goes on into the other's turn is handed over: it ends, and the other strikes it.
    """
    out: tuple[list[Note], list[Note]] = ([], [])
    for note in notes:
        start = note.start_tick
        while start < note.end_tick:
            end = min((start // turn + 1) * turn, note.end_tick)
            piece = note
            if (start, end) != (note.start_tick, note.end_tick):
                piece = replace(note, start_tick=start, length_ticks=end - start)
            out[start // turn % 2].append(piece)
            start = end
    return in_order(out[0]), in_order(out[1])


def _played(
    loop: Loop,
    layer: Layer,
    sound: SoundUse,
    notes: tuple[Note, ...],
    tones: ToneCache,
    which: int,
    form: Form,
    stops: tuple[tuple[int, float], ...] = (),
) -> Node:
    """Notes played with one of a layer's sounds, the ``which``-th."""
    context = layer_context(loop, layer, form)
    part = Part(
        notes=notes,
        instrument=sound.of,
        settings=in_tempo(sound.settings, context.tempo),
        clock=Clock.of(context.tempo, loop.rate),
        loop_ticks=loop.ticks,
        frames=context.frames,
        once=form.once,
        stops=stops,
    )
    return Played(part, tones, ("bare", layer.id, str(which)), f"{layer.name}: notes")


def through(source: Node, line: Line, context: Context, place: str, blend: float = 1.0) -> Node:
    """Return the last step of a line laid after a source; ``place`` says where in the loop.

    ``blend`` is that of the line as a whole; it rests where the line changes the length.
    """
    node, start = source, context
    for i, group in enumerate(fused(line)):
        node = Treated(node, group, context, (place, str(i)))
        context = after(context, group)
    if blend == 1 or node is source or context.frames != start.frames:
        return node
    return LineBlended(source, node, blend, (place,))


def layer_node(
    loop: Loop, layer: Layer, tones: ToneCache, form: Form = STEADY, *, count: int | None = None
) -> Node:
    """Return a layer after the first ``count`` of its treatments (all of them for None)."""
    bare = bare_layer(loop, layer, tones, form)
    # The context follows from the whole line: what comes later decides how fast it is played.
    context = layer_context(loop, layer, form)
    blend = layer.line_blend if count is None else 1.0
    node = through(bare, layer.line[:count], context, layer.id, blend)
    if layer.level_ride is None or count is not None:
        return node
    behind = after(context, layer.line)
    return Riding(node, layer.level_ride, behind, (layer.id,), f"{layer.name}: level ride")


def placed(audio: Stereo, *owners: Layer | Group) -> Stereo:
    """Return audio at the level and pan of a layer, and of the group that it is in."""
    return audio * np.array(gains_of(*owners), np.float32)[:, None]


def gains_of(*owners: Layer | Group) -> tuple[float, float]:
    """Return the gains left and right of a layer, and of the group that it is in."""
    left, right = np.prod([_gains(owner) for owner in owners], axis=0)
    return float(left), float(right)


def _gains(of: Layer | Group) -> tuple[float, float]:
    """The gains left and right that a layer or a group enters a sum with."""
    rides = isinstance(of, Layer) and of.level_ride is not None
    if not rides and of.level_db <= spec.MIN_LEVEL_DB:
        return 0.0, 0.0
    gain = 1.0 if rides else to_gain(of.level_db)
    # A balance: the side one pans towards stays as it is.
    left = float(np.cos(max(0.0, of.pan) * np.pi / 2))
    right = float(np.cos(max(0.0, -of.pan) * np.pi / 2))
    return gain * left, gain * right


def mix_node(loop: Loop, tones: ToneCache, form: Form = STEADY) -> Node:
    """Return the sum of the layers and groups that are heard, in front of the loop's line."""
    heard = loop.heard()
    parts = [(x.id, layer_node(loop, x, tones, form), _gains(x)) for x in heard if not x.group]
    there = {x.group for x in heard}
    parts += [
        (group.id, group_node(loop, group.id, tones, form), _gains(group))
        for group in loop.groups
        if group.id in there
    ]
    frames = loop_context(loop, form).frames
    return Summed(parts, frames, ("mix",), "mix", once=form.once)


def group_node(
    loop: Loop, group_id: str, tones: ToneCache, form: Form = STEADY, *, count: int | None = None
) -> Node:
    """Return a group's layers, summed, after the first ``count`` of its treatments."""
    context = group_context(loop, group_id, form)
    parts = [(x.id, _member(loop, x, tones, form), _gains(x)) for x in loop.members(group_id)]
    what = f"sum of {group_id}"
    summed = Summed(parts, context.frames, (what,), what, once=form.once)
    group = loop.group(group_id)
    blend = group.line_blend if count is None else 1.0
    return through(summed, group.line[:count], context, group_id, blend)


def _member(loop: Loop, layer: Layer, tones: ToneCache, form: Form) -> Node:
    """A layer of a group; of the groove bed, a bass makes room for what the loop does."""
    node = layer_node(loop, layer, tones, form)
    bed = loop.bed
    if layer.group != BED or bed is None or bed.duck is None or not bed.duck.bass:
        return node
    if not hits_of(layer).on_roots or layer.id in bed.duck.lanes or time_ratio(bed.group.line) != 1:
        return node
    return ducked(loop, node, form, besides=layer.id)


def loop_node(
    loop: Loop, tones: ToneCache, form: Form = STEADY, *, count: int | None = None
) -> Node:
    """Return the whole loop after the first ``count`` of its treatments (all for None)."""
    blend = loop.line_blend if count is None else 1.0
    return through(
        mix_node(loop, tones, form), loop.line[:count], loop_context(loop, form), "loop", blend
    )


def heard_node(loop: Loop, tones: ToneCache, form: Form = STEADY) -> Node:
    """Return what is heard: the loop, and beside it its groove bed where that is on."""
    node = loop_node(loop, tones, form)
    bed = loop.bed
    if bed is None or not bed.heard:
        return _over(loop, node, form)
    parts = [(BED, group_node(loop, BED, tones, form), _gains(bed.group))]
    if loop.heard():  # else the whole loop's line has nothing to be heard on: its noises, neither
        parts.append(("loop", ducked(loop, node, form), (1.0, 1.0)))
    frames = after(loop_context(loop, form), loop.line).frames
    both = Summed(parts, frames, ("heard",), "loop and bed", once=form.once)
    return _over(loop, both, form)


def _over(loop: Loop, node: Node, form: Form) -> Node:
    """What a section lays on all of it: its treatments, its level."""
    context = after(loop_context(loop, form), loop.line)
    node = through(node, loop.over, context, "over")
    if not loop.level_db:
        return node
    gain = to_gain(loop.level_db)
    return Summed(
        [("all", node, (gain, gain))],
        context.frames,
        ("level",),
        "level of a section",
        once=form.once,
    )


def ducked(loop: Loop, node: Node, form: Form, *, besides: str = "") -> Node:
    """Return what makes room for the lanes that the groove bed ducks it under (but for one)."""
    bed = loop.bed
    if bed is None or bed.duck is None or not bed.duck.depth_db:
        return node
    context = after(loop_context(loop, form), loop.line)
    clock, duck = Clock.of(context.tempo, loop.rate), bed.duck
    around = around_bed(loop)
    strokes = sorted(
        (
            clock.frames(stroke.tick) + round(stroke.late_ms * loop.rate / 1e3),
            stroke.hit.velocity / 127,
        )
        for lane in bed.heard
        if lane.id in duck.lanes and lane.id != besides
        for stroke in hits_of(lane).strokes(around)
    )
    if not strokes:
        return node
    shape = (
        duck.depth_db,
        round(duck.hold_ms * loop.rate / 1e3),
        round(duck.back_ms * loop.rate / 1e3),
    )
    return Ducked(node, tuple(strokes), shape, context.frames, ("ducked", besides), once=form.once)
