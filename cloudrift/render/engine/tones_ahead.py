"""Tones that the next edits and keys will want, computed while nothing else is to be done.

They go to disk, where whoever comes to want one reads it in a millisecond.
"""

import math
from collections.abc import Callable, Iterator

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.chords.next_chords import key_row, put_in_place
from cloudrift.loop.model.layer import Layer
from cloudrift.loop.model.loop import Loop
from cloudrift.render.plan.node import steps
from cloudrift.render.plan.nodes import Played
from cloudrift.render.plan.plan import layer_node
from cloudrift.render.play.audition import played_key
from cloudrift.sound.part import Part
from cloudrift.sound.tones import ToneCache

MOST_BYTES = 128 << 20  # of tones for what may come next
CHORDS = 8  # the chord in front and those after it: of a long loop to look at all takes seconds
COUNTS = (3, 4)  # notes of the key's own chords
REACH_ST = 7  # keys below and above what a layer plays
VELOCITY = 88  # of the computer's keys
KEY_S = 0.9  # of a key: what is heard of it while the rest is made


def compute_ahead(
    tones: ToneCache, loop: Loop, chord_id: str, layer_id: str, stale: Callable[[], bool]
) -> int:
    """Compute tones that may come next until it is ``stale``; return the bytes of them.

    First what the keys of the layer in hand want, then the key's own chords in place of the chord
    in front and of a few after it, as all layers play them.
    """
    made = 0
    for part, seconds in _parts(loop, chord_id, layer_id, tones):
        for request in part.wanted(tones.clips, seconds):
            if made > MOST_BYTES or stale():
                return made
            made += tones.make_ahead(part.instrument, part.settings, request)
    return made


def _parts(
    loop: Loop, chord_id: str, layer_id: str, tones: ToneCache
) -> Iterator[tuple[Part, float]]:
    """What may be played, and how many seconds of each note are wanted first."""
    layers = sorted(loop.heard(), key=lambda one: one.id != layer_id)
    for layer in layers[:1] if layer_id else ():
        yield from ((part, KEY_S) for part in _keys(loop, layer, tones))
    ids = [chord.id for chord in loop.chords]
    first = ids.index(chord_id) if chord_id in ids else 0
    for one in (ids[first:] + ids[:first])[:CHORDS]:
        for count in COUNTS:
            for new in key_row(loop.key, count):
                try:
                    put = put_in_place(loop, one, new)
                except CloudriftError:
                    continue  # it cannot be put there
                # By itself: what its neighbours play is known.
                alone = replace(put, chords=(put.chord(one),))
                for layer in layers:
                    if layer.follows:
                        yield from ((part, math.inf) for part in _played(alone, layer, tones))


def _keys(loop: Loop, layer: Layer, tones: ToneCache) -> Iterator[Part]:
    pitches = [note.pitch for part in _played(loop, layer, tones) for note in part.notes]
    if layer.recorded is not None or not pitches:
        return
    for pitch in range(max(0, min(pitches) - REACH_ST), min(127, max(pitches) + REACH_ST) + 1):
        key = played_key(loop, pitch, VELOCITY, layer.id)
        for struck in key.heard():
            yield from _played(key, struck, tones)


def _played(loop: Loop, layer: Layer, tones: ToneCache) -> Iterator[Part]:
    for step in steps(layer_node(loop, layer, tones)):
        if isinstance(step, Played):
            yield step.part
