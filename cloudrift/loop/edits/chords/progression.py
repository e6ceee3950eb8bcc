"""Edits of the row of chords as a whole: put one down, copy it, mirror it, turn it, link it."""

from collections.abc import Sequence

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import NAME_TYPED
from cloudrift.loop.edits.chords.chord_time import USUAL_REGISTER
from cloudrift.loop.edits.layers.own_notes import fitted
from cloudrift.loop.model import spec
from cloudrift.loop.model.chord import lasting
from cloudrift.loop.model.loop import Chord, Loop, new_id
from cloudrift.notes.time import bar_ticks, beat_ticks
from cloudrift.theory.build import Spacing, arranged, arranged_near
from cloudrift.theory.movement import pair_voices
from cloudrift.theory.symbols import WrittenChord
from cloudrift.theory.voicing import bass_near

BASS_BELOW = 17  # semitones below the register
SHARES_OF_A_BAR = (8, 4, 2, 1)  # bars a chord; shorter ones are parts of a bar


def row_lengths(loop: Loop, row: Sequence[WrittenChord]) -> list[int]:
    """Return how long each chord of a row lasts, in ticks.

    As bar lines say, or evenly in whole bars (then parts of a bar), the last one to the loop's end.
    """
    bar = bar_ticks(loop.metre)
    if any(chord.bars is not None for chord in row):
        return [max(spec.MIN_CHORD_TICKS, round((c.bars or 1) * bar)) for c in row]
    count = len(row)
    units = [n * bar for n in SHARES_OF_A_BAR]
    units += [t for t in (bar // 2, beat_ticks(loop.metre), beat_ticks(loop.metre) // 2)]
    unit = next((u for u in units if u * count <= loop.ticks), loop.ticks // count)
    return [unit] * (count - 1) + [loop.ticks - unit * (count - 1)]


def put_row(
    loop: Loop,
    row: Sequence[WrittenChord],
    *,
    spacing: Spacing = "close",
    bass_octaves: int = 1,
    register: float = USUAL_REGISTER,
) -> Loop:
    """Put a row of chords in the place of what is there, each voiced near the one before.

    A row longer than the loop makes it longer, in whole bars.
    """
    bar = bar_ticks(loop.metre)
    lengths = row_lengths(loop, row)
    bars = max(loop.bars, -(-sum(lengths) // bar))
    if bars > spec.MAX_BARS:
        raise CloudriftError(
            f"those chords last {bars} bars, and a loop holds {spec.MAX_BARS}; type fewer"
        )
    chords: list[Chord] = []
    body: tuple[int, ...] = ()
    middle = round(register) - BASS_BELOW  # of the octave that bass notes are in
    start = 0
    for written, length in zip(row, lengths, strict=True):
        tones = written.tones
        if body:
            body = arranged_near(body, tones, spacing)
            # Small steps in one direction would carry the row out of its register.
            body = tuple(v + 12 * round((register - sum(body) / len(body)) / 12) for v in body)
        else:
            body = arranged(tones, tones[0], spacing, register)
        octaves = bass_octaves or int(written.bass is not None and written.bass != body[0] % 12)
        bass = tones[0] if written.bass is None else written.bass
        low = (bass_near(middle - 12 * (octaves - 1), bass, body),) if octaves else ()
        chords.append(
            Chord(
                id=f"c{len(chords) + 1}",
                start_tick=start,
                length_ticks=length,
                voices=tuple(sorted({*low, *body})),
                root=tones[0],
            )
        )
        start += length
    return _lasting(replace(loop, chords_from=""), bars, tuple(chords))


def put_chords(
    loop: Loop, chords: Sequence[Chord], *, bars: int | None = None, origin: str = ""
) -> Loop:
    """Put ready chords in the place of what is there; ``origin`` says where they are from."""
    loop = replace(loop, chords_from=origin[:NAME_TYPED])
    return _lasting(loop, bars or loop.bars, tuple(chords))


def _lasting(loop: Loop, bars: int, chords: tuple[Chord, ...]) -> Loop:
    """Give a loop another length and chords; notes of their own are cut or go on."""
    return replace(loop, bars=bars, chords=chords, layers=fitted(loop, bars))


def _block_end(loop: Loop) -> int:
    """Where the block of chords ends: the next whole bar."""
    if not loop.chords:
        raise CloudriftError("there are no chords yet; add some first")
    bar = bar_ticks(loop.metre)
    return -(-loop.chords[-1].end_tick // bar) * bar


def _with_room(loop: Loop, ticks: int) -> Loop:
    bars = max(loop.bars, -(-ticks // bar_ticks(loop.metre)))
    if bars > spec.MAX_BARS:
        raise CloudriftError(
            f"that would make {bars} bars, and a loop holds {spec.MAX_BARS}; shorten it first"
        )
    return _lasting(loop, bars, loop.chords)


def copy_block(loop: Loop) -> tuple[Loop, str]:
    """Put the whole row after itself once more; return the loop and the id of its last chord.

    The loop grows if it has to. The copy's last chord is the one to change: A, then A with another
    end.
    """
    end = _block_end(loop)
    out = _with_room(loop, 2 * end)
    taken = [c.id for c in loop.chords]
    copies = []
    for chord in loop.chords:
        new = new_id("c", taken)
        taken.append(new)
        copies.append(replace(chord, id=new, start_tick=chord.start_tick + end))
    return replace(out, chords=(*loop.chords, *copies)), copies[-1].id


def mirror(loop: Loop) -> Loop:
    """Put the row after itself backwards: its own answer. The loop grows if it has to."""
    end = _block_end(loop)
    out = _with_room(loop, 2 * end)
    taken = [c.id for c in loop.chords]
    answer = []
    for chord in reversed(loop.chords):
        new = new_id("c", taken)
        taken.append(new)
        start = 2 * end - chord.end_tick
        answer.append(replace(chord, id=new, start_tick=start, tied=()))
    return replace(out, chords=(*loop.chords, *answer))


def start_from(loop: Loop, chord_id: str) -> Loop:
    """Turn the row so that another chord comes first."""
    first = loop.chord(chord_id).start_tick
    turned = [replace(c, start_tick=(c.start_tick - first) % loop.ticks) for c in loop.chords]
    chords: list[Chord] = []
    for chord in sorted(turned, key=lambda c: c.start_tick):
        end = min(chord.end_tick, loop.ticks)
        chords.append(replace(chord, length_ticks=end - chord.start_tick))
    return replace(loop, chords=tuple(chords))


def add_passing(loop: Loop, chord_id: str, ticks: int) -> tuple[Loop, str]:
    """Put half-step notes between a chord and the next, in its last ticks; return their id too.

    A voice that goes on by a whole step passes through the note between; one that leaps comes in
    by a half step from the side it comes from; one that stays or goes by a half step waits.
    """
    at = next(i for i, c in enumerate(loop.chords) if c.id == loop.chord(chord_id).id)
    behind = loop.chords[(at + 1) % len(loop.chords)]  # the loop turns: the last leads to the first
    chord = loop.chords[at]
    if len(loop.chords) < 2:
        raise CloudriftError("passing notes lead from one chord to another; add a second chord")
    ticks = min(ticks, chord.length_ticks // 2)
    if ticks < spec.MIN_CHORD_TICKS:
        raise CloudriftError("that chord is too short for passing notes; make it longer first")
    voices = set(chord.voices)
    for i, j in pair_voices(chord.voices, behind.voices):
        here, there = chord.voices[i], behind.voices[j]
        if abs(there - here) > 1:
            voices.discard(here)
            voices.add(there - (1 if there > here else -1))
    root = chord.root
    if chord.root != behind.root:
        up = (behind.root - chord.root) % 12 <= 6
        root = (behind.root - (1 if up else -1)) % 12
    new = new_id("c", (c.id for c in loop.chords))
    shorter = lasting(chord, chord.start_tick, chord.end_tick - ticks)
    kept = tuple(v for v in chord.voices if v in voices)
    passing = Chord(
        id=new,
        start_tick=shorter.end_tick,
        length_ticks=ticks,
        voices=tuple(sorted(voices)),
        root=root,
        tied=kept,
        touch=chord.touch,
        muted=tuple(v for v in chord.muted if v in voices),
    )
    chords = (*loop.chords[:at], shorter, passing, *loop.chords[at + 1 :])
    return replace(loop, chords=chords), new
