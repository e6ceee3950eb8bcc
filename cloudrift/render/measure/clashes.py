"""What of a recording is at odds with the loop: under each chord, notes that rub or are outside."""

from dataclasses import dataclass

import numpy as np
from msgspec.structs import replace

from cloudrift.audio.clips import ClipStore
from cloudrift.audio.listen import note_weights
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.loop.sounding import chords_heard, key_heard
from cloudrift.render.plan.plan import recorded_sound

HEARD = 0.12  # share of what sounds under a chord that a note needs to be heard by itself
SOFT = 0.03  # of what sounds under the loudest chord: what is softer is only a tail


@dataclass(frozen=True)
class Clash:
    """What is at odds under one chord that sounds (from a tick to another), as pitch classes.

    ``outside``: not in the key; ``rubs``: a half step over a note of the chord.
    """

    start_tick: int
    end_tick: int
    outside: tuple[int, ...]
    rubs: tuple[int, ...]


def clashes(loop: Loop, layer: Layer, clips: ClipStore) -> tuple[Clash, ...]:
    """Return where a recording, laid in as it is but for its line, is at odds with what sounds.

    That is the chords of the other layers, as they go into the whole loop's line; the written ones
    where no other has any. Empty for what is no recording, or no chords. A note *rubs* that is no
    tone of the chord and lies a half step over one; below it leads on, and is left alone.
    """
    source = layer.recorded
    if source is None or source.facts.kind == "bed":
        return ()
    others = replace(loop, line=(), layers=tuple(x for x in loop.layers if x.id != layer.id))
    chords, key = chords_heard(others), key_heard(others)
    if not chords:
        return ()
    audio = recorded_sound(loop, layer, clips)
    rate, found = loop.rate, []
    for chord in chords:
        edges = np.array([chord.start_tick, chord.end_tick]) / loop.ticks * audio.shape[1] / rate
        found.append(note_weights(audio, rate, edges)[0][0])
    loudest = max((float(row.sum()) for row in found), default=0.0)
    out = []
    for chord, row in zip(chords, found, strict=True):
        total = float(row.sum())
        if total < SOFT * loudest or not total:
            continue
        tones = {voice % 12 for voice in chord.sounding}
        heard = [pc for pc in range(12) if row[pc] > HEARD * total]
        outside = tuple(pc for pc in heard if not key.has(pc) and pc not in tones)
        rubs = tuple(
            pc for pc in heard if key.has(pc) and pc not in tones and (pc - 1) % 12 in tones
        )
        if outside or rubs:
            out.append(Clash(chord.start_tick, chord.end_tick, outside, rubs))
    return tuple(out)
