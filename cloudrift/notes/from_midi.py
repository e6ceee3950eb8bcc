"""A MIDI file as a composer wants it: its chords, its key, its tempo, and where each is from."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from statistics import median

from cloudrift.ground.cancel import never
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.reading import read_file, reading
from cloudrift.notes.find_chords import FoundChord, find_chords, guess_key, is_chordal
from cloudrift.notes.midi_in import MAX_BYTES, MidiSong, read_midi
from cloudrift.notes.note import LOW_PITCH, Note, in_order
from cloudrift.theory.key import Key

GIVEN, ESTIMATED = "given", "estimate"
# Where a tempo is from, in words.
TEMPO_FROM = {
    "file": "written in the file",
    "standard": "the default, as the file has none",
    "estimate": "estimated from its notes",
}


@dataclass(frozen=True, kw_only=True)
class Song:
    """What was read and what was estimated. ``key_confidence`` is 0 to 1, 1 for a given key.

    ``parts`` are the tracks that hold notes, with their names.
    """

    notes: tuple[Note, ...]
    parts: tuple[tuple[str, tuple[Note, ...]], ...]
    chords: tuple[FoundChord, ...]
    key: Key
    key_confidence: float
    key_from: str
    tempo: float
    tempo_from: str
    metre: tuple[int, int]


def read_parts(path: Path, cancelled: Callable[[], bool] = never) -> MidiSong:
    """Read a MIDI file that holds notes.

    Raises CloudriftError with one sentence on what is wrong and where; Cancelled.
    """
    song = _read(path, cancelled)
    if not song.notes:
        raise CloudriftError(f"{path} has no notes (drums are left out); choose another file")
    return song


def read_drums(path: Path, cancelled: Callable[[], bool] = never) -> MidiSong:
    """Read a MIDI file that holds drums, on the tenth channel; raise as ``read_parts``."""
    song = _read(path, cancelled)
    if not song.drums:
        raise CloudriftError(f"{path} has no drums (channel 10 is empty); choose another file")
    return song


def _read(path: Path, cancelled: Callable[[], bool]) -> MidiSong:
    data = read_file(path, "MIDI file", MAX_BYTES)
    with reading(str(path), "MIDI file"):
        return read_midi(data, str(path), cancelled)


def harmony(parts: Sequence[tuple[str, tuple[Note, ...]]]) -> tuple[Note, ...]:
    """Return the notes of those parts that hold the chords, with the basses, in order.

    A tune over held chords is no part of them. Where no part holds chords, all of them together do.
    """
    all_notes = [notes for _, notes in parts]
    chordal = [notes for notes in all_notes if is_chordal(notes)]
    if chordal:
        basses = [n for n in all_notes if median(note.pitch for note in n) < LOW_PITCH]
        all_notes = [*chordal, *(notes for notes in basses if notes not in chordal)]
    return in_order(note for notes in all_notes for note in notes)


def read_song(path: Path, key: Key | None = None, cancelled: Callable[[], bool] = never) -> Song:
    """Read a MIDI file and find its chords; estimate its key if none is given."""
    song = read_parts(path, cancelled)
    chords = find_chords(harmony(song.parts), song.metre)
    guess = guess_key(
        song.notes, [(c.start_tick, c.end_tick, c.voices) for c in chords], song.signature
    )
    return Song(
        notes=song.notes,
        parts=song.parts,
        chords=chords,
        key=key or guess.key,
        key_confidence=1.0 if key else guess.confidence,
        key_from=GIVEN if key else ESTIMATED,
        tempo=song.tempo,
        tempo_from=song.tempo_from,
        metre=song.metre,
    )
