"""Trying things out: a loop made short to be struck once, and its first moment made at once.

What is played or tried is heard as it would sound in the loop: through the layer's line, its
group's and the whole loop's. Treatments that turn time round or spread it (slow, backward) are left
out, for there is no time yet that they could turn; a shift is played rather than computed.
"""

from dataclasses import replace as with_
from typing import NamedTuple

import numpy as np
from msgspec.structs import replace

from cloudrift.audio.buffers import Stereo, silence
from cloudrift.audio.fft import next_fast_len
from cloudrift.loop.edits.layers.recordings import moved
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.loop.sounding import notes_of
from cloudrift.notes.lens import folded
from cloudrift.notes.note import HIGHEST, LOWEST, Note
from cloudrift.notes.time import bar_ticks
from cloudrift.render.plan.plan import loop_context, placed
from cloudrift.sound.own import in_tempo
from cloudrift.sound.part import Part
from cloudrift.sound.tones import ToneCache
from cloudrift.texture.context import Context
from cloudrift.texture.running import treat
from cloudrift.texture.treatment import Line, acting, fused, shift_st

ONSET_S = 0.14  # what a key is heard by; a moment of FIRST_S is there before it ends
FIRST_S = 0.4  # so much is made at once; the rest is there before it has sounded
MARGIN_S = 0.1  # made beyond that, so that what looks ahead does not meet the end
ROOM = 4  # how much longer a space rings than the first moment, for its tail to fold back softly
OUT_OF_TIME = frozenset({"half speed", "reverse", "stutter", "replay", "reverse reverb"})
PLAYED = frozenset({"shift"})  # the note itself is another one


class Shifted(NamedTuple):
    """A line as it is tried: what is left of it, and how many semitones the rest is played by."""

    line: Line
    semitones: int


def tried_line(line: Line, blend: float = 1.0) -> Shifted:
    """Return a line without what cannot be tried, and how far its shifts move the notes."""
    kept = tuple(t for t in acting(line) if t.kind not in OUT_OF_TIME | PLAYED)
    return Shifted(kept, round(shift_st(line, blend)))


def left_out(loop: Loop, layer: Layer | None) -> tuple[str, ...]:
    """Return the treatments on a layer's way that are not heard while something is tried."""
    group = loop.group(layer.group).line if layer and layer.group else ()
    lines = (layer.line if layer else (), group, loop.line)
    found = (t.of.label.lower() for line in lines for t in acting(line) if t.kind in OUT_OF_TIME)
    return tuple(dict.fromkeys(found))


def without_time(loop: Loop) -> tuple[Loop, int]:
    """Return a loop whose lines can be tried, and the shift of the whole loop in semitones.

    What a layer's or a group's line shifts is folded into its layers' notes.
    """
    groups, by_group = [], {"": 0}
    for group in loop.groups:
        line, by = tried_line(group.line, group.line_blend)
        groups.append(replace(group, line=line))
        by_group[group.id] = by
    layers = []
    for layer in loop.layers:
        line, by = tried_line(layer.line, layer.line_blend)
        layers.append(_moved(replace(layer, line=line), by + by_group[layer.group]))
    whole, by = tried_line(loop.line, loop.line_blend)
    return replace(loop, layers=tuple(layers), groups=tuple(groups), line=whole, bed=None), by


def _moved(layer: Layer, semitones: int) -> Layer:
    """A layer whose notes are played so far away, to the nearest the lens can do it."""
    if not semitones:
        return layer
    if layer.recorded is not None:
        return moved(layer, layer.recorded, semitones)
    if layer.own is not None:
        own = tuple(
            replace(n, pitch=folded(n.pitch + semitones, LOWEST, HIGHEST)) for n in layer.own
        )
        return layer.with_source(notes=own)
    octaves = min(max(layer.played.lens.octave + round(semitones / 12), -3), 3)
    return layer.with_source(lens=replace(layer.played.lens, octave=octaves))


def key_loop(loop: Loop, layer: Layer, pitch: int, velocity: int, held_ticks: int) -> Loop:
    """Return a loop of one note in a layer's sound, through its line and all after it."""
    silent = layer.with_notes(()).with_source(other=None)
    silent = replace(silent, level_ride=None, mute=False, parked=False)
    bare, by = without_time(replace(loop, chords=(), layers=(silent,)))
    only = bare.layers[0]
    moved = by + _line_shift(loop, layer)
    note = Note(
        start_tick=0,
        length_ticks=max(1, held_ticks),
        velocity=velocity,
        id=1,
        pitch=folded(pitch + moved, LOWEST, HIGHEST),
    )
    bars = max(1, -(-held_ticks // bar_ticks(loop.metre)))
    return replace(bare, bars=bars, layers=(only.with_notes((note,)),))


def _line_shift(loop: Loop, layer: Layer) -> int:
    group = loop.group(layer.group) if layer.group else None
    own = tried_line(layer.line, layer.line_blend).semitones
    return own + (tried_line(group.line, group.line_blend).semitones if group else 0)


def first_moment(loop: Loop, tones: ToneCache, seconds: float = FIRST_S) -> Stereo:
    """Return how one pass of a loop begins, nearly as it will be, in a small part of the time.

    Every treatment is run over this moment alone: what rings longer folds back into it, softly.
    """
    count = int(seconds * loop.rate)
    margin = min(MARGIN_S, seconds / 4)
    moment = _Moment(count + int(margin * loop.rate), loop_context(loop))
    groups = {group.id: silence(moment.frames) for group in loop.groups}
    mix = silence(moment.frames)
    for layer in loop.heard():
        into = groups[layer.group] if layer.group else mix
        into += placed(
            moment.through(_played(loop, layer, tones, moment.frames), layer.line), layer
        )
    for group in loop.groups:
        mix += placed(moment.through(groups[group.id], group.line), group)
    return moment.through(mix, loop.line)[:, :count]


class _Moment:
    """A moment of sound as a short loop of its own, that lines are laid on."""

    def __init__(self, frames: int, context: Context) -> None:
        self.frames = frames
        self._context = with_(context, exact_frames=float(frames), cuts=(0,), passes=1, once=False)

    def through(self, audio: Stereo, line: Line) -> Stereo:
        for group in fused(line):
            # At a length that is quick to transform, a space is run at that: nothing is padded.
            long = next_fast_len(ROOM * self.frames) if group[0].of.linear else self.frames
            context = with_(self._context, exact_frames=float(long))
            padded = np.pad(audio, ((0, 0), (0, long - self.frames)))
            audio = treat(padded, group, context)[:, : self.frames]
        return audio


def _played(loop: Loop, layer: Layer, tones: ToneCache, frames: int) -> Stereo:
    """The beginning of a layer's notes, bare."""
    clock, use = loop.clock, layer.played.sound
    notes = tuple(n for n in notes_of(loop, layer) if clock.frames(n.start_tick) < frames)
    settings = in_tempo(use.settings, loop.tempo)
    release = int(use.of.spec.full(settings).number("release_ms") / 1000 * loop.rate)
    last = max((clock.frames(n.end_tick) for n in notes), default=0)
    part = Part(
        notes=notes,
        instrument=use.of,
        settings=settings,
        clock=clock,
        loop_ticks=loop.ticks,
        frames=max(frames, last + release + loop.rate // 2),
        once=True,
    )
    return part.stretch(0, frames, tones)  # no more of a tone is computed than is heard here
