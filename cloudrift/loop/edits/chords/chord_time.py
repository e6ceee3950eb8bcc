"""Edits of when chords sound: places, lengths, rhythm, touch, chords put in and taken out."""

from collections.abc import Iterable
from typing import Any

from msgspec.structs import replace

from cloudrift.ground.draws import MAX_VARIATION
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.chords.chord_edits import each, set_tones, with_chord
from cloudrift.loop.model import spec
from cloudrift.loop.model.chord import lasting
from cloudrift.loop.model.loop import Chord, Loop, new_id
from cloudrift.notes.time import bar_ticks, beat_ticks
from cloudrift.notes.touch import ChordTouch
from cloudrift.theory.build import arranged
from cloudrift.theory.voicing import bass_below

USUAL_REGISTER = 62.0  # D4: where a first chord goes


def _index(loop: Loop, chord_id: str) -> int:
    loop.chord(chord_id)
    return next(i for i, c in enumerate(loop.chords) if c.id == chord_id)


# --- places ------------------------------------------------------------------------------------


def set_end(loop: Loop, chord_id: str, tick: int) -> Loop:
    """Let a chord end elsewhere. The one after it follows where it touches or is run into."""
    at = _index(loop, chord_id)
    chords = list(loop.chords)
    chord = chords[at]
    behind = chords[at + 1] if at + 1 < len(chords) else None
    last = behind.end_tick - spec.MIN_CHORD_TICKS if behind else loop.ticks
    tick = min(max(tick, chord.start_tick + spec.MIN_CHORD_TICKS), last)
    if behind and (behind.start_tick == chord.end_tick or behind.start_tick < tick):
        chords[at + 1] = lasting(behind, tick, behind.end_tick)
    chords[at] = lasting(chord, chord.start_tick, tick)
    return replace(loop, chords=tuple(chords))


def set_start(loop: Loop, chord_id: str, tick: int) -> Loop:
    """Let a chord start elsewhere. The one before it follows where it touches or is run into."""
    at = _index(loop, chord_id)
    chords = list(loop.chords)
    chord = chords[at]
    before = chords[at - 1] if at else None
    first = before.start_tick + spec.MIN_CHORD_TICKS if before else 0
    tick = max(min(tick, chord.end_tick - spec.MIN_CHORD_TICKS), first)
    if before and (before.end_tick == chord.start_tick or before.end_tick > tick):
        chords[at - 1] = lasting(before, before.start_tick, tick)
    chords[at] = lasting(chord, tick, chord.end_tick)
    return replace(loop, chords=tuple(chords))


def place_chord(loop: Loop, chord_id: str, start: int) -> Loop:
    """Move a chord in time with its length; neighbours that touch it give way and follow."""
    at = _index(loop, chord_id)
    chords = list(loop.chords)
    chord = chords[at]
    before = chords[at - 1] if at else None
    behind = chords[at + 1] if at + 1 < len(chords) else None
    first = before.start_tick + spec.MIN_CHORD_TICKS if before else 0
    last = (behind.end_tick - spec.MIN_CHORD_TICKS if behind else loop.ticks) - chord.length_ticks
    start = max(min(start, last), first)
    end = start + chord.length_ticks
    if before and (before.end_tick == chord.start_tick or before.end_tick > start):
        chords[at - 1] = lasting(before, before.start_tick, start)
    if behind and (behind.start_tick == chord.end_tick or behind.start_tick < end):
        chords[at + 1] = lasting(behind, end, behind.end_tick)
    chords[at] = replace(chord, start_tick=start)
    return replace(loop, chords=tuple(chords))


# --- put in, taken out ---------------------------------------------------------------------------


def room_behind(loop: Loop, chord_id: str) -> int:
    """Return how many ticks are free after a chord (after nothing: from the start)."""
    if not chord_id:
        return loop.chords[0].start_tick if loop.chords else loop.ticks
    at = _index(loop, chord_id)
    until = loop.chords[at + 1].start_tick if at + 1 < len(loop.chords) else loop.ticks
    return until - loop.chords[at].end_tick


def add_chord(
    loop: Loop, after: str, tones: tuple[int, ...], *, bass: int | None = None
) -> tuple[Loop, str]:
    """Put a chord after another (after nothing: at the start); return the loop and its id.

    It takes the free room there, at most as long as the chord before it; where there is none, the
    chord before gives up its second half. It is voiced near the chord before.
    """
    new = new_id("c", (c.id for c in loop.chords))
    if not after:
        room = room_behind(loop, "")
        if room < spec.MIN_CHORD_TICKS:
            raise CloudriftError("there is no room before the first chord; select a chord")
        body = arranged(tones, tones[0], "close", USUAL_REGISTER)
        voices = tuple(sorted({bass_below(tones[0] if bass is None else bass, body), *body}))
        chord = Chord(
            id=new,
            start_tick=0,
            length_ticks=min(room, bar_ticks(loop.metre)),
            voices=voices,
            root=tones[0],
        )
        return replace(loop, chords=(chord, *loop.chords)), new
    at = _index(loop, after)
    before = loop.chords[at]
    room = room_behind(loop, after)
    if room < spec.MIN_CHORD_TICKS:
        middle = _middle(before, loop)
        room = before.length_ticks - middle
        loop = set_end_alone(loop, after, before.start_tick + middle)
    start = loop.chord(after).end_tick
    chord = Chord(
        id=new,
        start_tick=start,
        length_ticks=min(room, before.length_ticks),
        voices=before.voices,
        root=before.root,
    )
    chords = (*loop.chords[: at + 1], chord, *loop.chords[at + 1 :])
    return set_tones(replace(loop, chords=chords), new, tones, bass=bass), new


def _middle(chord: Chord, loop: Loop) -> int:
    """Where a chord is parted: on a beat where it can be, else in the exact middle."""
    beat = beat_ticks(loop.metre)
    half = chord.length_ticks // 2
    on_beat = half // beat * beat
    middle = on_beat or half
    if middle < spec.MIN_CHORD_TICKS:
        raise CloudriftError("that chord is too short to be split; make it longer first")
    return middle


def set_end_alone(loop: Loop, chord_id: str, tick: int) -> Loop:
    """Let a chord end earlier and leave the room behind it empty."""
    chord = loop.chord(chord_id)
    tick = min(max(tick, chord.start_tick + spec.MIN_CHORD_TICKS), chord.end_tick)
    return with_chord(loop, lasting(chord, chord.start_tick, tick))


def copy_chord(loop: Loop, chord_id: str) -> tuple[Loop, str]:
    """Put a chord's copy after it, as ``add_chord`` does, to be changed; return its id too."""
    chord = loop.chord(chord_id)
    loop, new = add_chord(loop, chord_id, (chord.root,))
    copy = loop.chord(new)
    return with_chord(
        loop,
        replace(
            chord, id=new, start_tick=copy.start_tick, length_ticks=copy.length_ticks, late_ticks=0
        ),
    ), new


def remove_chords(loop: Loop, chord_ids: Iterable[str]) -> Loop:
    """Take chords out; their room stays free."""
    gone = set(chord_ids)
    return replace(loop, chords=tuple(c for c in loop.chords if c.id not in gone))


# --- rhythm --------------------------------------------------------------------------------------


def set_late(loop: Loop, chord_ids: Iterable[str], ticks: int) -> Loop:
    """Strike some chords that many ticks after their place."""

    def late(loop: Loop, chord_id: str) -> Loop:
        chord = loop.chord(chord_id)
        most = chord.length_ticks - spec.MIN_CHORD_TICKS
        return with_chord(loop, replace(chord, late_ticks=max(0, min(ticks, most))))

    return each(loop, chord_ids, late)


def every_second(loop: Loop) -> tuple[str, ...]:
    """Return the second chord, the fourth, and so on."""
    return tuple(c.id for c in loop.chords[1::2])


def set_gate(loop: Loop, chord_ids: Iterable[str], share: float) -> Loop:
    """Hold each stroke only for a share of its time (0.05 to 1)."""
    share = min(max(round(share, 3), spec.MIN_GATE), 1.0)
    return each(loop, chord_ids, lambda p, i: with_chord(p, replace(p.chord(i), gate=share)))


def set_strikes(loop: Loop, chord_ids: Iterable[str], strikes: tuple[int, ...]) -> Loop:
    """Strike chords at given ticks after their start; none: once, where they start."""
    kept = () if strikes == (0,) else strikes
    return each(loop, chord_ids, lambda p, i: with_chord(p, replace(p.chord(i), strikes=kept)))


def strike_every(loop: Loop, chord_ids: Iterable[str], ticks: int) -> Loop:
    """Strike chords over and over, every so many ticks; 0: once."""

    def struck(loop: Loop, chord_id: str) -> Loop:
        if not ticks:
            return set_strikes(loop, [chord_id], ())
        return set_strikes(
            loop, [chord_id], tuple(range(0, loop.chord(chord_id).length_ticks, ticks))
        )

    return each(loop, chord_ids, struck)


def toggle_strike(loop: Loop, chord_id: str, tick: int) -> Loop:
    """Strike a chord at a tick after its start too, or no longer; one stroke always stays."""
    chord = loop.chord(chord_id)
    strikes = set(chord.strikes or (0,)) ^ {tick}
    if not strikes:
        return loop
    return set_strikes(loop, [chord_id], tuple(sorted(strikes)))


# --- touch ---------------------------------------------------------------------------------------


def touch_of(loop: Loop, chord_id: str) -> ChordTouch:
    """Return how a chord is played: its own touch, or that of the layer that strikes it."""
    own = loop.chord(chord_id).touch
    if own is not None:
        return own
    striker = loop.striker
    return striker.played.touch.of_chord if striker else ChordTouch()


def set_chord_touch(loop: Loop, chord_ids: Iterable[str], **changes: Any) -> Loop:
    """Change fields of chords' own touch; a chord without one starts from its layer's."""
    return each(
        loop,
        chord_ids,
        lambda p, i: with_chord(p, replace(p.chord(i), touch=replace(touch_of(p, i), **changes))),
    )


def reroll_touch(loop: Loop, chord_ids: Iterable[str]) -> Loop:
    """Play chords by their next draw."""
    return each(
        loop,
        chord_ids,
        lambda p, i: set_chord_touch(
            p, [i], variation=touch_of(p, i).variation % MAX_VARIATION + 1
        ),
    )


def straight(loop: Loop, chord_ids: Iterable[str]) -> Loop:
    """Play chords straight: no roll, no drift, no spread, whole lengths."""
    return each(
        loop, chord_ids, lambda p, i: with_chord(p, replace(p.chord(i), touch=ChordTouch()))
    )


def as_layer(loop: Loop, chord_ids: Iterable[str]) -> Loop:
    """Play chords as their layer does again."""
    return each(loop, chord_ids, lambda p, i: with_chord(p, replace(p.chord(i), touch=None)))
