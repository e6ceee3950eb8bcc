"""What the picture of a recording shows: where its beats lie in the loop, and how far off."""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo
from cloudrift.ground.words import number
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.loop.model.recorded import FromRecording
from cloudrift.notes.time import TICKS_PER_QUARTER
from cloudrift.render.plan.laying import Laying
from cloudrift.render.plan.plan import layer_laying

SEEN_MS = 8.0  # what is less off its beat is on it


class Mark(NamedTuple):
    """A beat of a recording: its number, where in the loop it lies, and how far off a beat."""

    number: int
    tick: float
    off_ms: float
    downbeat: bool

    @property
    def is_off(self) -> bool:
        """Whether it is to be seen as off the beat."""
        return abs(self.off_ms) > SEEN_MS


def marks_of(loop: Loop, layer: Layer) -> tuple[Mark, ...]:
    """Return the beats of the first turn of a recording, in the loop."""
    source = layer.recorded
    if source is None or not source.facts.beats_s or layer.flipped is not None:
        return ()  # the beats of what was cut up lie all over the place
    laying = layer_laying(loop, layer)
    start = laying.starts[0] - laying.fitting.origin
    out = []
    for count, second in enumerate(source.facts.beats_s):
        if not source.first_s - 1e-6 <= second <= source.end_s:
            continue
        frame = start + _wanted(laying, second)
        tick = frame / laying.loop_frames * loop.ticks
        near = round(tick / TICKS_PER_QUARTER) * TICKS_PER_QUARTER
        off_ms = (tick - near) / loop.ticks * laying.loop_frames / laying.fitting.rate * 1000
        # Bars are counted from the downbeat; a mark per bar is heavier.
        beats = loop.metre[0] * 4 / loop.metre[1]
        down = (count - source.facts.downbeat) % max(1, round(beats)) == 0
        out.append(Mark(count, tick, off_ms, down))
    return tuple(out)


def _wanted(laying: Laying, second: float) -> float:
    fitting = laying.fitting
    there, wanted = np.array(fitting.places, float).T
    return float(np.interp(second * fitting.rate / fitting.speed, there, wanted))


def turns_of(loop: Loop, layer: Layer) -> tuple[tuple[float, float], ...]:
    """Return where a recording is heard in the loop: pairs of ticks, from and to."""
    if layer.recorded is None:
        return ()
    if layer.recorded.facts.kind == "bed" or layer.flipped is not None:
        return ((0.0, float(loop.ticks)),)
    laying = layer_laying(loop, layer)
    per_frame = loop.ticks / laying.loop_frames
    long = laying.fitting.places[-1][1]
    out = []
    for start, then in zip(laying.starts, [*laying.starts[1:], laying.loop_frames], strict=True):
        first = start - laying.fitting.origin
        last = min(first + long, then) if laying.ends else first + long
        out.append((first * per_frame, last * per_frame))
    return tuple(out)


def second_at(loop: Loop, layer: Layer, tick: float) -> float:
    """Return the second of a recording that lies at a tick, in its first turn."""
    source = layer.recorded
    assert source is not None
    laying = layer_laying(loop, layer)
    fitting = laying.fitting
    frame = tick / loop.ticks * laying.loop_frames - laying.starts[0] + fitting.origin
    there, wanted = np.array(fitting.places, float).T
    return float(np.interp(frame, wanted, there)) * fitting.speed / fitting.rate


def outline_of(audio: Stereo, columns: int) -> NDArray[np.float32]:
    """Return the lowest and highest value of each column of a picture, (2, columns), loudest 1."""
    mono = audio.mean(axis=0)
    edges = np.linspace(0, len(mono), columns + 1).astype(int)[:-1]
    out = np.stack([np.minimum.reduceat(mono, edges), np.maximum.reduceat(mono, edges)])
    return np.asarray(out / max(float(np.abs(out).max()), 1e-6), np.float32)


def ways_words(semitones: float) -> str:
    """Say a shift in words: ``up 3``, ``down 9``, ``as it is``."""
    if semitones == 0:
        return "as it is"
    return f"{'up' if semitones > 0 else 'down'} {number(abs(semitones))}"


def known_words(source: FromRecording) -> str:
    """Say what is known of a recording's tempo and key, and from where."""
    facts = source.facts
    sure = f" ({facts.tempo_sure:.0%} sure)".replace("%", " %") if facts.tempo_sure else ""
    tempo = f"{facts.tempo:.5g} BPM{sure}" if facts.tempo else "no tempo known"
    sure = f" ({facts.key_sure:.0%} sure)".replace("%", " %") if facts.key_sure else ""
    key = f"{facts.key.text}{sure}" if facts.key else "no key known"
    return f"{facts.length_s:.2f} s · {tempo} · {key}"
