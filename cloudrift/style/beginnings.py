"""Beginnings other than a style card: from nothing, from a MIDI file, from a recording."""

from collections.abc import Sequence

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.chords.metre import METRES
from cloudrift.loop.edits.chords.progression import put_row
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.edits.layers.from_notes import put_found, put_layers
from cloudrift.loop.model import spec
from cloudrift.loop.model.loop import Loop
from cloudrift.notes.from_midi import Song
from cloudrift.notes.time import bar_ticks
from cloudrift.theory.key import Key
from cloudrift.theory.symbols import WrittenChord

KEY, TEMPO, BARS = Key("C", "minor"), 90.0, 8
FIRST_SOUND = "felt upright"  # in which chords are heard at first


def empty_loop(
    key: Key = KEY,
    tempo: float = TEMPO,
    *,
    bars: int = BARS,
    metre: tuple[int, int] = (4, 4),
    title: str = "Untitled loop",
) -> Loop:
    """Return a loop of no style, without chords, layers or treatments."""
    return Loop(title=title, key=key, tempo=tempo, bars=bars, metre=metre)


def from_song(song: Song, title: str, *, parts: bool, origin: str = "") -> Loop:
    """Return a loop with a MIDI file's key, tempo, metre and chords.

    With ``parts``, each of its parts is a layer with its notes as they are; else one layer plays
    the chords. Of a longer file the first 64 bars are taken. ``origin`` says where it is from.
    """
    metre = song.metre if song.metre in METRES else (4, 4)
    tempo = min(max(song.tempo, spec.MIN_TEMPO_BPM), spec.MAX_TEMPO_BPM)
    loop = empty_loop(song.key, round(tempo, 2), metre=metre, title=title)
    if song.chords:
        loop = put_found(loop, song.chords, origin=origin)
    elif not parts:
        raise CloudriftError("no chords found in that file; import its parts as layers")
    if not parts:
        return layer_edits.add_layer(loop, FIRST_SOUND)
    bar = bar_ticks(metre)
    first = min(note.start_tick for note in song.notes) // bar * bar
    lasts = -(-(max(n.start_tick + n.length_ticks for n in song.notes) - first - bar // 8) // bar)
    bars = min(max(loop.bars if song.chords else 1, lasts), spec.MAX_BARS)
    return put_layers(replace(loop, bars=bars), song.parts[: spec.MAX_LAYERS], origin=origin)


def from_row(
    title: str, key: Key, tempo: float, chords: Sequence[WrittenChord], *, bars: int = BARS
) -> Loop:
    """Return a loop in a key and tempo, with a row of chords and, if there are any, a layer."""
    loop = empty_loop(key, tempo, bars=bars, title=title)
    return layer_edits.add_layer(put_row(loop, chords), FIRST_SOUND) if chords else loop
