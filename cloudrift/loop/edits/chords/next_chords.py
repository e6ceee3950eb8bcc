"""What could come next: the key's chords in steps of five semitones, and those from outside."""

from dataclasses import dataclass
from typing import Literal

from cloudrift.ground.words import number
from cloudrift.loop.edits.chords import chord_edits, chord_time
from cloudrift.loop.model.loop import Chord, Loop
from cloudrift.theory.chord import chord_tones
from cloudrift.theory.fit import parallel_of, relative_of
from cloudrift.theory.key import Key
from cloudrift.theory.movement import Move, classify, colour, pair_voices
from cloudrift.theory.naming import read_chord
from cloudrift.theory.symbols import parse_degree

Quality = Literal["minor", "major", "diminished", "other"]
Outside = Literal["neighbours", "parallel", "relative"]
SHIFTS = (-2, -1, 1, 2)
FIVE = 5


@dataclass(frozen=True, kw_only=True)
class NextChord:
    """A chord that could come next: its notes (root first), or a shift of the whole shape."""

    tones: tuple[int, ...]
    name: str
    degree: str
    quality: Quality
    shift: int = 0
    outside: bool = False


@dataclass(frozen=True, kw_only=True)
class Outlook:
    """How a next chord would follow: as it would be voiced, each voice's way, and its colour."""

    chord: Chord
    ways: tuple[tuple[int, int, Move], ...]  # from pitch, to pitch, move
    colour: str


def quality_of(tones: tuple[int, ...]) -> Quality:
    """Say what kind of triad some notes are built on."""
    intervals = {(pc - tones[0]) % 12 for pc in tones}
    if 4 in intervals:
        return "major"
    if 3 in intervals:
        return "minor" if 7 in intervals or 6 not in intervals else "diminished"
    return "other"


def steps_of_five(key: Key) -> tuple[int, ...]:
    """Return the degrees (1-7) so that each root lies five semitones above the one before.

    The home chord has its two nearest relatives beside it, and the other minor chords of a minor
    key are its neighbours.
    """

    def place(degree: int) -> int:
        interval = (key.scale[degree - 1] - key.pc) % 12
        fives = interval * FIVE % 12  # 5 is its own inverse modulo 12
        return fives if fives < 6 else fives - 12

    return tuple(sorted(range(1, 8), key=place))


def _next(tones: tuple[int, ...], key: Key, *, shown_in: Key | None = None) -> NextChord:
    pitches = tuple(60 + (pc - 60) % 12 for pc in tones)
    low = min(pitches[0], 60) - 12
    pitches = (low + (tones[0] - low) % 12, *pitches[1:])
    reading = read_chord(pitches, key, root_hint=tones[0])
    degree = read_chord(pitches, shown_in or key, root_hint=tones[0]).degree_text
    return NextChord(
        tones=tones,
        name=reading.text,
        degree=degree,
        quality=quality_of(tones),
        outside=any(not key.has(pc) for pc in tones),
    )


def key_row(key: Key, count: int) -> tuple[NextChord, ...]:
    """Return the chords of a key, of that many notes each, in steps of five semitones."""
    return tuple(_next(chord_tones(key, d, count=count), key) for d in steps_of_five(key))


def outside_row(loop: Loop, chord_id: str, kind: Outside, count: int) -> tuple[NextChord, ...]:
    """Return chords from outside: neighbours and shifts, or those of a related key."""
    key = loop.key
    if kind == "parallel":
        other = parallel_of(key)
        return tuple(_next(chord_tones(other, d, count=count), key) for d in steps_of_five(other))
    if kind == "relative":
        other = relative_of(key)
        own = [
            _next(chord_tones(other, d, count=count), key, shown_in=other)
            for d in steps_of_five(other)
        ]
        leading = _next(parse_degree("V7", other), key, shown_in=other)
        return (*own[:6], leading)
    minor = 3 in {(pc - key.pc) % 12 for pc in key.scale}
    tokens = ("bII", "V", "V7") if minor else ("bII", "iv", "bVII")
    row = [_next(parse_degree(token, key), key) for token in tokens]
    return (*row, *(_shifted(loop, chord_id, by) for by in SHIFTS))


def _shifted(loop: Loop, chord_id: str, by: int) -> NextChord:
    if not chord_id:
        plain = _next(tuple((pc + by) % 12 for pc in chord_tones(loop.key, 1)), loop.key)
        return NextChord(
            tones=plain.tones,
            name=plain.name,
            degree=plain.degree,
            quality=plain.quality,
            outside=plain.outside,
        )
    moved = chord_edits.move_chord(loop, chord_id, semitones=by).chord(chord_id)
    reading = moved.read(loop.key)
    tones = (moved.root, *(pc for pc in {v % 12 for v in moved.voices} if pc != moved.root))
    return NextChord(
        tones=tones,
        name=reading.text,
        degree=f"shape {number(by, '+d')} st",
        quality=quality_of(tones),
        shift=by,
        outside=any(not loop.key.has(v) for v in moved.voices),
    )


def put_after(loop: Loop, chord_id: str, new: NextChord) -> tuple[Loop, str]:
    """Put a next chord after a chord; return the loop and the new chord's id."""
    if new.shift:
        copied, made = chord_time.copy_chord(loop, chord_id)
        return chord_edits.move_chord(copied, made, semitones=new.shift), made
    return chord_time.add_chord(loop, chord_id, new.tones)


def put_in_place(loop: Loop, chord_id: str, new: NextChord) -> Loop:
    """Put a next chord in the place of a chord."""
    if new.shift:
        return chord_edits.move_chord(loop, chord_id, semitones=new.shift)
    return chord_edits.set_tones(loop, chord_id, new.tones)


def outlook(loop: Loop, chord_id: str, new: NextChord) -> Outlook:
    """Return how a next chord would follow the chord in front."""
    if not chord_id:
        put, made = chord_time.add_chord(loop, "", new.tones)
        chord = put.chord(made)
        return Outlook(chord=chord, ways=(), colour=colour(chord.voices, chord.root, loop.key))
    before = loop.chord(chord_id)
    chord = put_in_place(loop, chord_id, new).chord(chord_id)
    ways = tuple(
        (before.voices[i], chord.voices[j], classify(chord.voices[j] - before.voices[i]))
        for i, j in pair_voices(before.voices, chord.voices)
    )
    return Outlook(chord=chord, ways=ways, colour=colour(chord.voices, chord.root, loop.key))
