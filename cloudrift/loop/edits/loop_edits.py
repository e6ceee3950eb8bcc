"""Edits of what a loop is as a whole: key, tempo, bars, title, style."""

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.chords.chord_edits import with_voices
from cloudrift.loop.edits.layers import recordings
from cloudrift.loop.edits.layers.own_notes import fitted
from cloudrift.loop.model import spec
from cloudrift.loop.model.chord import lasting
from cloudrift.loop.model.loop import Chord, Layer, Loop, new_id
from cloudrift.notes.lens import folded
from cloudrift.notes.note import HIGHEST, LOWEST, in_order
from cloudrift.notes.time import bar_ticks
from cloudrift.theory import fit
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
            f"{semitones:+d} semitones would move a voice out of range; move the chords an octave "
            "the other way first"
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
        if old.mode != new.mode and layer.recorded.facts.key is not None:
            # A sound's scale does not change with the mode: it goes where its notes are at home.
            shift = (fit.home_of(new) - fit.home_of(old) + 6) % 12 - 6
        return recordings.moved(layer, layer.recorded, shift)
    if not layer.own or not layer.played.sound.of.tuned:  # a drum has no key to go along with
        return layer
    own = (
        replace(n, pitch=folded(_moved(n.pitch, old, new, shift), LOWEST, HIGHEST))
        for n in layer.own
    )
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
