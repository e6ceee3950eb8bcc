"""What the thread picture shows, worked out without Qt: bars for voices, threads between them."""

import functools
from dataclasses import dataclass
from itertools import pairwise

from cloudrift.desktop.session.document.selection import Selection
from cloudrift.ground.words import plural
from cloudrift.loop.model.loop import Chord, Loop
from cloudrift.theory.build import build_of
from cloudrift.theory.key import Key
from cloudrift.theory.movement import (
    Move,
    classify,
    colour,
    crossings,
    half_steps,
    moves,
    pair_voices,
)

MARGIN = 4  # semitones of air above and below the voices
LEAST_RANGE = 24
MOVE_NAMES = {"common": "common tone", "half": "half step", "whole": "whole step", "leap": "leap"}


@dataclass(frozen=True)
class VoiceBar:
    """One voice of one chord: where it lies and what is special about it."""

    chord_id: str
    voice: int
    pitch: int
    start: float  # shares of the loop
    struck: float  # where it is first heard: later than its start if the chord is late
    end: float
    in_key: bool
    is_bass: bool
    muted: bool
    tied: bool


@dataclass(frozen=True)
class Thread:
    """A voice's way from one chord to the next. ``crosses`` another on its way."""

    start: float
    end: float
    from_pitch: int
    to_pitch: int
    move: Move
    crosses: bool
    room: float  # how long the chord is that it comes from


@dataclass(frozen=True)
class Lane:
    """One semitone row: its pitch, its name and degree if it is in the scale."""

    pitch: int
    name: str
    degree: int  # 0 outside the scale

    @property
    def is_tonic(self) -> bool:
        """Whether this is the key's own note."""
        return self.degree == 1


@dataclass(frozen=True)
class ThreadPicture:
    """Everything that the picture paints, in shares of the loop and MIDI numbers."""

    low: int
    high: int
    bars: tuple[VoiceBar, ...]
    threads: tuple[Thread, ...]
    lanes: tuple[Lane, ...]


def whole_range(loop: Loop) -> tuple[int, int]:
    """Return the lowest and highest pitch to show so that every voice is seen."""
    pitches = [v for chord in loop.chords for v in chord.voices] or [54, 72]
    low, high = min(pitches) - MARGIN, max(pitches) + MARGIN
    low -= max(0, LEAST_RANGE - (high - low)) // 2
    return low, max(high, low + LEAST_RANGE)


def thread_picture(loop: Loop, shown: tuple[int, int] | None = None) -> ThreadPicture:
    """Return the picture of a loop's chords; one without chords has lanes only.

    ``shown`` are the lowest and highest pitch; all voices are shown without it.
    """
    low, high = shown or whole_range(loop)
    bars = [bar for chord in loop.chords for bar in _bars(chord, loop.ticks, loop.key)]
    threads = [t for a, b in pairwise(loop.chords) for t in _threads(a, b, loop.ticks)]
    return ThreadPicture(low, high, tuple(bars), tuple(threads), _lanes(loop.key, low, high))


# A drag changes one chord of many: what belongs to the others is kept.


@functools.lru_cache(maxsize=64)
def _lanes(key: Key, low: int, high: int) -> tuple[Lane, ...]:
    scale = key.scale
    return tuple(
        Lane(p, key.spell_pitch(p), scale.index(p % 12) + 1 if p % 12 in scale else 0)
        for p in range(low, high + 1)
    )


@functools.lru_cache(maxsize=1024)
def _bars(chord: Chord, ticks: int, key: Key) -> tuple[VoiceBar, ...]:
    out = []
    start, end = chord.start_tick / ticks, chord.end_tick / ticks
    struck = chord.hits[0][0] / ticks
    for i, pitch in enumerate(chord.voices):
        apart = len(chord.voices) > 1 and i == 0 and chord.voices[1] - pitch >= 5
        tied = pitch in chord.tied
        out.append(
            VoiceBar(chord.id, i, pitch, start, start if tied else struck, end,
                     key.has(pitch), apart, pitch in chord.muted, tied)
        )  # fmt: skip
    return tuple(out)


@functools.lru_cache(maxsize=1024)
def _threads(before: Chord, after: Chord, ticks: int) -> tuple[Thread, ...]:
    out = []
    pairs = pair_voices(before.voices, after.voices)
    crossing = {n for two in crossings(before.voices, after.voices, pairs) for n in two}
    for n, (i, j) in enumerate(pairs):
        a, b = before.voices[i], after.voices[j]
        out.append(
            Thread(before.end_tick / ticks, after.start_tick / ticks, a, b,
                   classify(b - a), n in crossing, before.length_ticks / ticks)
        )  # fmt: skip
    return tuple(out)


WHOLE = (0.0, 1.0)


def changed_span(
    before: Loop, after: Loop, old: Selection, new: Selection
) -> tuple[float, float] | None:
    """Return which part of the loop's picture has changed (shares), None for none.

    Where places in time, the key or the metre have changed, that is all of it.
    """
    if before is not after and (
        len(before.chords) != len(after.chords)
        or (before.key, before.bars, before.metre) != (after.key, after.bars, after.metre)
        or any(
            (a.id, a.start_tick, a.length_ticks) != (b.id, b.start_tick, b.length_ticks)
            for a, b in zip(before.chords, after.chords, strict=True)
            if a is not b
        )
    ):
        return WHOLE
    ids = set()
    if old != new:
        ids = set(old.chord_ids) ^ set(new.chord_ids)
        if (old.chord_id, old.voice, old.through) != (new.chord_id, new.voice, new.through):
            ids |= {old.chord_id, new.chord_id}
    changed = [
        i
        for i, (a, b) in enumerate(zip(before.chords, after.chords, strict=True))
        if a is not b or b.id in ids
    ]
    if not changed:
        return None
    first, last = after.chords[changed[0]], after.chords[changed[-1]]
    return first.start_tick / after.ticks, last.end_tick / after.ticks


def moves_in_words(before: tuple[int, ...], after: tuple[int, ...]) -> str:
    """Say how voices move from one chord to another: common tones first."""
    found = moves(before, after)
    return " · ".join(plural(found.count(m), n) for m, n in MOVE_NAMES.items() if m in found)


def chord_before(loop: Loop, chord_id: str) -> Chord | None:
    """Return the chord before one; before the first comes the last, because the loop turns."""
    ids = [chord.id for chord in loop.chords]
    if len(ids) < 2 or chord_id not in ids:
        return None
    return loop.chords[ids.index(chord_id) - 1]


def movement_words(loop: Loop, chord_id: str) -> str:
    """Say how the voices move into a chord from the one before (the last, for the first)."""
    before = chord_before(loop, chord_id)
    if before is None:
        return ""
    said = moves_in_words(before.voices, loop.chord(chord_id).voices)
    return f"from {before.read(loop.key).text}: {said}"


def half_step_words(loop: Loop) -> str:
    """Say how many half steps the whole progression takes, its return included."""
    count = half_steps([chord.voices for chord in loop.chords])
    major = sum(4 in {(v - c.root) % 12 for v in c.voices} for c in loop.chords)
    of = f"{major} of {plural(len(loop.chords), 'chord')}"
    return f"{plural(count, 'half step')} in the loop · {of} {'is' if major == 1 else 'are'} major"


def colour_of(loop: Loop, chord: Chord) -> str:
    """Say in a word what a chord does in its key."""
    return colour(chord.voices, chord.root, loop.key)


def setting_words(loop: Loop, chord: Chord) -> str:
    """Say how a chord is set out: its degree, its inversion, its spacing."""
    build = build_of(chord.voices, chord.root)
    above = (build.lowest - chord.root) % 12
    lowest = {0: "", 3: "on 3rd", 4: "on 3rd", 7: "on 5th", 6: "on 5th", 8: "on 5th",
              10: "on 7th", 11: "on 7th", 9: "on 6th"}.get(above, "")  # fmt: skip
    spacing = {"own": "", "close": "close"}.get(build.spacing, build.spacing)
    return " · ".join(word for word in (chord.read(loop.key).degree_text, lowest, spacing) if word)


def outside_words(loop: Loop, chord: Chord) -> str:
    """Name the notes of a chord that are out of key, or say nothing."""
    outside = [v for v in chord.voices if not loop.key.has(v)]
    names = dict.fromkeys(loop.key.spell_pitch(v).rstrip("-0123456789") for v in outside)
    return " ".join(names)


def length_words(loop: Loop, ticks: int) -> str:
    """Write a length in bars or beats."""
    bar = loop.ticks // loop.bars
    if ticks % bar == 0:
        return plural(ticks // bar, "bar")
    beat = bar // loop.metre[0]
    return f"{ticks / beat:g} beats"
