"""The chords that are heard, as chords of a loop: for lenses, flips, pictures and names."""

from msgspec.structs import replace

from cloudrift.loop.model import spec
from cloudrift.loop.model.chord import Chord
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.sounding.heard import HeardChord, heard

LEAST_TICKS = 120  # what is shorter than a thirty-second is no chord


def chords_heard(loop: Loop) -> tuple[Chord, ...]:
    """Return the chords that are heard in a loop; the same one that goes on is one.

    How they are played is not told of them, for that is in the sound already.
    """
    out: list[Chord] = []
    for one in heard(loop).chords:
        if one.end_tick - one.start_tick < LEAST_TICKS:
            continue
        voices = tuple(sorted({spec.in_reach(voice) for voice in one.voices}))[: spec.MAX_VOICES]
        last = out[-1] if out else None
        if last is not None and last.end_tick == one.start_tick and last.voices == voices:
            out[-1] = replace(last, length_ticks=one.end_tick - last.start_tick)
            continue
        out.append(_chord(f"c{len(out) + 1}", one, voices))
    return tuple(out)


def _chord(name: str, one: HeardChord, voices: tuple[int, ...]) -> Chord:
    return Chord(
        id=name,
        start_tick=one.start_tick,
        length_ticks=one.end_tick - one.start_tick,
        voices=voices,
        root=one.root,
    )
