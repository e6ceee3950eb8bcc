"""What the thread picture shows, worked out without Qt: bars for voices, threads between them."""

from dataclasses import dataclass
from itertools import pairwise

from cloudrift.loop.model import Chord, Loop
from cloudrift.theory.build import build_of
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
    scale = loop.key.scale
    lanes = tuple(
        Lane(p, loop.key.spell_pitch(p), scale.index(p % 12) + 1 if p % 12 in scale else 0)
        for p in range(low, high + 1)
    )
    return ThreadPicture(low, high, tuple(_bars(loop)), tuple(_threads(loop)), lanes)


def _bars(loop: Loop) -> list[VoiceBar]:
    out = []
    ticks = loop.ticks
    for chord in loop.chords:
        start, end = chord.start_tick / ticks, chord.end_tick / ticks
        struck = chord.hits[0][0] / ticks
        for i, pitch in enumerate(chord.voices):
            apart = len(chord.voices) > 1 and i == 0 and chord.voices[1] - pitch >= 5
            tied = pitch in chord.tied
            out.append(
                VoiceBar(chord.id, i, pitch, start, start if tied else struck, end,
                         loop.key.has(pitch), apart, pitch in chord.muted, tied)
            )  # fmt: skip
    return out


def _threads(loop: Loop) -> list[Thread]:
    out = []
    for before, after in pairwise(loop.chords):
        pairs = pair_voices(before.voices, after.voices)
        crossing = {n for two in crossings(before.voices, after.voices, pairs) for n in two}
        for n, (i, j) in enumerate(pairs):
            a, b = before.voices[i], after.voices[j]
            out.append(
                Thread(before.end_tick / loop.ticks, after.start_tick / loop.ticks, a, b,
                       classify(b - a), n in crossing)
            )  # fmt: skip
    return out


def plural(count: int, thing: str) -> str:
    """Say how many of something there are."""
    return f"{count} {thing}{'s' * (count != 1)}"


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
    return f"{plural(half_steps([c.voices for c in loop.chords]), 'half step')} in the loop"


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
