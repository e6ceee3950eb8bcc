"""What the thread picture shows, worked out without Qt: bars for voices, threads between them."""

from dataclasses import dataclass
from itertools import pairwise

from cloudrift.loop.model import Loop
from cloudrift.theory.movement import Move, classify, half_steps, pair_voices

MARGIN = 4  # scale steps of air above and below the voices, in semitones
LEAST_RANGE = 24


@dataclass(frozen=True)
class VoiceBar:
    """One voice of one chord: where it lies and whether it is in the scale."""

    chord_id: str
    voice: int
    pitch: int
    start: float  # shares of the loop
    end: float
    in_key: bool
    is_bass: bool


@dataclass(frozen=True)
class Thread:
    """A voice's way from one chord to the next."""

    start: float
    end: float
    from_pitch: int
    to_pitch: int
    move: Move


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


def thread_picture(loop: Loop) -> ThreadPicture:
    """Return the picture of a loop's chords; a loop without chords has lanes only."""
    pitches = [v for chord in loop.chords for v in chord.voices] or [54, 72]
    low, high = min(pitches) - MARGIN, max(pitches) + MARGIN
    low -= max(0, LEAST_RANGE - (high - low)) // 2
    high = max(high, low + LEAST_RANGE)
    scale = loop.key.scale
    lanes = tuple(
        Lane(p, loop.key.spell_pitch(p), scale.index(p % 12) + 1 if p % 12 in scale else 0)
        for p in range(low, high + 1)
    )
    return ThreadPicture(low, high, tuple(_bars(loop)), tuple(_threads(loop)), lanes)


def _bars(loop: Loop) -> list[VoiceBar]:
    out = []
    for chord in loop.chords:
        start = chord.start_tick / loop.ticks
        end = (chord.start_tick + chord.length_ticks) / loop.ticks
        for i, pitch in enumerate(chord.voices):
            apart = len(chord.voices) > 1 and i == 0 and chord.voices[1] - pitch >= 5
            out.append(VoiceBar(chord.id, i, pitch, start, end, loop.key.has(pitch), apart))
    return out


def _threads(loop: Loop) -> list[Thread]:
    out = []
    for before, after in pairwise(loop.chords):
        for i, j in pair_voices(before.voices, after.voices):
            a, b = before.voices[i], after.voices[j]
            start = (before.start_tick + before.length_ticks) / loop.ticks
            out.append(Thread(start, after.start_tick / loop.ticks, a, b, classify(b - a)))
    return out


def movement_words(loop: Loop, chord_id: str) -> str:
    """Say how the voices move into a chord from the one before (the last, for the first)."""
    ids = [chord.id for chord in loop.chords]
    if len(ids) < 2 or chord_id not in ids:
        return ""
    at = ids.index(chord_id)
    before, after = loop.chords[at - 1], loop.chords[at]
    moves = [
        classify(after.voices[j] - before.voices[i])
        for i, j in pair_voices(before.voices, after.voices)
    ]
    names = {"common": "common tone", "half": "half step", "whole": "whole step", "leap": "leap"}
    parts = [
        f"{moves.count(move)} {name}{'s' * (moves.count(move) != 1)}"
        for move, name in names.items()
        if move in moves
    ]
    return f"from {before.read(loop.key).text}: " + " · ".join(parts)


def half_step_words(loop: Loop) -> str:
    """Say how many half steps the whole progression takes, its return included."""
    count = half_steps([chord.voices for chord in loop.chords])
    return f"{count} half step{'s' * (count != 1)} in the loop"
