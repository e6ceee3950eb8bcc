"""What a loop takes from a recording in it: chords that it seems to hold, and its bass notes."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.clips import ClipStore
from cloudrift.audio.listen import note_weights
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.notes.lens import ROOT_LOW
from cloudrift.notes.listening import chords_heard
from cloudrift.notes.note import Note, numbered
from cloudrift.notes.time import TICKS_PER_QUARTER
from cloudrift.render.plan.plan import recorded_sound
from cloudrift.theory.symbols import WrittenChord

HEARD_BASS = 0.15  # share of the loudest beat's bass that a beat needs to have one
VELOCITY = 88


def _over_beats(
    loop: Loop, layer: Layer, clips: ClipStore
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """What sounds of a recording over each beat of the loop, as it is laid in: all, and bass."""
    if layer.recorded is None:
        raise CloudriftError(f"{layer.name} is not a recording")
    audio = recorded_sound(loop, layer, clips)
    count = loop.ticks // TICKS_PER_QUARTER
    edges = np.linspace(0, count * TICKS_PER_QUARTER / loop.ticks, count + 1)
    every, bass = note_weights(audio, loop.rate, edges * audio.shape[1] / loop.rate)
    if not every.any():
        raise CloudriftError(f"no notes found in {layer.name}")
    return every, bass


def chords_in(loop: Loop, layer: Layer, clips: ClipStore) -> tuple[WrittenChord, ...]:
    """Return the chords that a recording seems to hold over the loop's beats.

    Raises CloudriftError where no notes are heard in it.
    """
    return chords_heard(*_over_beats(loop, layer, clips))


def bass_in(loop: Loop, layer: Layer, clips: ClipStore) -> tuple[Note, ...]:
    """Return the bass notes of a recording, beat by beat over the loop, in a bass's own register.

    Where its bass is not heard by itself, the root of the chord stands in. Raises CloudriftError
    where no notes are heard in it.
    """
    every, bass = _over_beats(loop, layer, clips)
    roots = [
        pc
        for chord in chords_heard(every, bass)
        for pc in [chord.tones[0]] * round(float(chord.bars or 1) * 4)
    ]
    loud = every.sum(axis=1)
    low = bass.sum(axis=1)
    out: list[Note] = []
    for beat in range(len(every)):
        if loud[beat] < HEARD_BASS * loud.max():
            continue
        heard = low[beat] > HEARD_BASS * max(float(low.max()), 1e-12)
        pc = int(bass[beat].argmax()) if heard else roots[min(beat, len(roots) - 1)]
        pitch = ROOT_LOW + (pc - ROOT_LOW) % 12
        start = beat * TICKS_PER_QUARTER
        if out and out[-1].pitch == pitch and out[-1].end_tick == start:
            last = out.pop()
            start = last.start_tick
        out.append(
            Note(
                start_tick=start,
                pitch=pitch,
                velocity=VELOCITY,
                length_ticks=(beat + 1) * TICKS_PER_QUARTER - start,
            )
        )
    return numbered(out)
