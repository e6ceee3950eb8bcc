"""Lenses: how a layer looks at the chords. A change of chord is a change of every lens's notes."""

from collections.abc import Sequence
from typing import Literal

import msgspec
import numpy as np

from cloudrift.ground.draws import MAX_VARIATION, rng_for
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import number, ordinal, plural
from cloudrift.notes.note import HIGHEST, LOWEST, Note, in_order
from cloudrift.notes.span import Span
from cloudrift.theory.key import Key

LensKind = Literal["all", "top", "inner", "bass", "roots", "held", "arpeggio", "line"]
Order = Literal["up", "down", "up-down", "skip", "random"]
Double = Literal["off", "octave up", "octave down", "fifth up"]
KINDS: tuple[LensKind, ...] = ("all", "top", "inner", "bass", "roots", "held", "arpeggio", "line")
ORDERS: tuple[Order, ...] = ("up", "down", "up-down", "skip", "random")
DOUBLES: tuple[Double, ...] = ("off", "octave up", "octave down", "fifth up")
DOUBLE_ST: dict[Double, int] = {"octave up": 12, "octave down": -12, "fifth up": 7}
DESCRIPTIONS: dict[LensKind, str] = {
    "all": "all voices",
    "top": "top voices",
    "inner": "inner voices",
    "bass": "lowest voice",
    "roots": "roots",
    "held": "all voices, tied",
    "arpeggio": "arpeggiates the voices",
    "line": "line through the chords",
}
ROOT_LOW = 28  # E1: a root goes to its octave from here up, so that a round sub has a fundamental
MAX_VOICES = 8
MOST_PLACES = 256  # stretches that a lens plays in, bars that start late


# What numbers of a lens lie between.
LIMITS: dict[str, tuple[float, float]] = {
    "octave": (-3, 3), "voices": (0, MAX_VOICES), "step_ticks": (60, 3840), "octaves": (1, 3),
    "gate": (0.05, 1.0), "leaps": (0.0, 1.0), "scale_steps": (-7, 7), "drop_every": (0, 16),
    "late_ticks": (60, 3840), "variation": (0, MAX_VARIATION),
}  # fmt: skip


class Lens(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """How a layer looks at the chords.

    ``voices`` counts from the top and limits every kind that takes several (0: as many as is
    usual, one for ``top`` and all for the rest); ``skip_bass`` leaves
    the lowest voice to another layer; ``order``, ``step_ticks``, ``octaves`` and ``gate`` (share
    of a step that sounds) shape a broken chord. A line goes in steps of ``step_ticks`` too, by
    half steps where it can; ``leaps`` is how often it leaps instead, ``answers`` lets it play
    only after the middle of each chord.

    It plays only in the stretches ``where`` (pairs of ticks; none: everywhere), and each of the
    ``late_bars`` (from 0) starts ``late_ticks`` late: what rings into it is struck again.

    On top of any kind, in this order: ``scale_steps`` moves notes within the scale, ``octave`` by
    octaves, ``low`` and ``high`` fold them by octaves into a range, ``double`` adds a copy, and
    ``drop_every`` leaves every n-th note out (0: none).
    """

    kind: LensKind = "all"
    octave: int = 0
    voices: int = 0
    skip_bass: bool = False
    order: Order = "up"
    step_ticks: int = 480
    octaves: int = 1
    gate: float = 0.8
    variation: int = 1
    leaps: float = 0.15
    answers: bool = False
    scale_steps: int = 0
    low: int = LOWEST
    high: int = HIGHEST
    double: Double = "off"
    drop_every: int = 0
    where: tuple[tuple[int, int], ...] = ()
    late_bars: tuple[int, ...] = ()
    late_ticks: int = 480

    def __post_init__(self) -> None:
        limits = {
            **{name: (getattr(self, name), *ends) for name, ends in LIMITS.items()},
            "low": (self.low, LOWEST, HIGHEST - 11),
            "high": (self.high, self.low + 11, HIGHEST),
            "number of places in where": (len(self.where), 0, MOST_PLACES),
            "number of late_bars": (len(self.late_bars), 0, MOST_PLACES),
            "the least of late_bars": (min(self.late_bars, default=0), 0, MOST_PLACES),
            "the most of late_bars": (max(self.late_bars, default=0), 0, MOST_PLACES),
        }
        for name, (value, low, high) in limits.items():
            if not low <= value <= high:
                raise CloudriftError(
                    f"lens: {name} is {value:g}, but must lie between {low:g} and {high:g}"
                )
        end = 0
        for first, last in self.where:
            if not end <= first < last:
                raise CloudriftError(
                    f"lens: where has a stretch from tick {first} to {last}; stretches must have "
                    "a length and come one after another"
                )
            end = last

    @property
    def most_voices(self) -> int:
        """How many voices it takes at most, counted from the top."""
        return self.voices or (1 if self.kind == "top" else MAX_VOICES)

    @property
    def text(self) -> str:
        """What this lens does, in words."""
        words, most = DESCRIPTIONS[self.kind], self.most_voices
        if self.kind == "top":
            words = "top voice" if most == 1 else f"top {most} voices"
        elif self.kind in ("all", "held", "arpeggio") and most < MAX_VOICES:
            verb = "arpeggiates" if self.kind == "arpeggio" else "takes"
            words = f"{verb} the top {plural(most, 'voice')}"
            words += ", tied" if self.kind == "held" else ""
        if self.kind == "line" and self.answers:
            words = "a line that answers the chords"
        if self.skip_bass and self.kind not in ("roots", "bass", "top", "line"):
            words += ", no bass"
        if self.scale_steps:
            words += f", {number(self.scale_steps, '+d')} in the scale"
        if self.octave:
            words += f", {number(self.octave, '+d')} oct"
        if self.double != "off":
            words += f", with {'a' if 'fifth' in self.double else 'an'} {self.double}"
        if self.where:
            words += ", in places"
        if self.late_bars:
            words += f", starts {plural(len(self.late_bars), 'bar')} late"
        if self.drop_every:
            words += f", every {ordinal(self.drop_every)} note left out"
        return words


def look(lens: Lens, spans: tuple[Span, ...], key: Key, bar_ticks: int = 3840) -> tuple[Note, ...]:
    """Return the notes that a lens sees in the chords, in order of time, then pitch.

    All notes lie inside their chord's span; held and tied notes may run through several. A held
    layer changes with the chords' places, whatever the rhythm that they are struck in.
    """
    match lens.kind:
        case "all" | "top" | "inner":
            notes = _rung_on(_blocks(lens, spans), spans)
        case "bass":
            notes = _rung_on(
                [n for n in _blocks(Lens(), spans) if n.pitch == min(spans[n.chord].voices)], spans
            )
        case "held":
            notes = _tied(_whole(lens, spans))
        case "roots":
            notes = [
                _note(s, start, length, _root_pitch(s.root), c, 0)
                for c, s in enumerate(spans)
                for start, length in s.strokes
            ]
        case "arpeggio":
            notes = [n for c, s in enumerate(spans) for n in _broken(lens, s, c)]
        case "line":
            notes = line_through(lens, spans, key)
        case _:
            raise CloudriftError(
                f"there is no lens called {lens.kind!r}; known are {', '.join(KINDS)}"
            )
    return in_order(_on_top(lens, _in_places(lens, notes, bar_ticks), key))


def _in_places(lens: Lens, notes: list[Note], bar_ticks: int) -> list[Note]:
    """Leave out what lies outside the places where the lens plays, and let its late bars wait."""
    if lens.where:
        notes = [
            msgspec.structs.replace(
                n,
                start_tick=max(n.start_tick, first),
                length_ticks=min(n.end_tick, last) - max(n.start_tick, first),
            )
            for n in notes
            for first, last in lens.where
            if n.start_tick < last and n.end_tick > first
        ]
    if not lens.late_bars:
        return notes
    waits = [(bar * bar_ticks, bar * bar_ticks + lens.late_ticks) for bar in lens.late_bars]
    for first, last in waits:
        notes = [piece for note in notes for piece in _waiting(note, first, last)]
    return notes


def _waiting(note: Note, first: int, last: int) -> list[Note]:
    """A note with a stretch kept free: what sounds into it ends there, and is struck again after.

    What starts in it starts at its end, if anything is left.
    """
    pieces = []
    if note.start_tick < first:
        length = min(note.end_tick, first) - note.start_tick
        pieces.append(msgspec.structs.replace(note, length_ticks=length))
    start = max(note.start_tick, last)
    if note.end_tick > start:
        pieces.append(
            msgspec.structs.replace(note, start_tick=start, length_ticks=note.end_tick - start)
        )
    return pieces


def _on_top(lens: Lens, notes: list[Note], key: Key) -> list[Note]:
    """Move, fold, double and thin out, whatever kind the notes are from."""
    moved = []
    for note in notes:
        pitch = key.step(note.pitch, lens.scale_steps) if lens.scale_steps else note.pitch
        moved.append(_at(note, folded(pitch + 12 * lens.octave, lens.low, lens.high)))
    if lens.double != "off":
        by = DOUBLE_ST[lens.double]
        there = {(n.start_tick, n.pitch) for n in moved}
        copies = [_at(n, n.pitch + by) for n in moved if LOWEST <= n.pitch + by <= HIGHEST]
        moved += [n for n in copies if (n.start_tick, n.pitch) not in there]
    if lens.drop_every:
        moved.sort(key=lambda n: (n.start_tick, n.pitch))
        moved = [n for i, n in enumerate(moved, 1) if i % lens.drop_every]
    return moved


def _at(note: Note, pitch: int) -> Note:
    return msgspec.structs.replace(note, pitch=pitch)


def folded(pitch: int, low: int, high: int) -> int:
    """Return a pitch brought by octaves between two others (at least an octave apart)."""
    if pitch < low:
        pitch += -(-(low - pitch) // 12) * 12
    if pitch > high:
        pitch -= -(-(pitch - high) // 12) * 12
    return pitch


def _seen(lens: Lens, span: Span) -> tuple[int, ...]:
    """The voices a lens lets through, low to high."""
    voices = tuple(sorted(set(span.voices)))
    if not voices:
        return ()
    if lens.kind == "inner":
        return voices[1:-1]
    if lens.skip_bass and len(voices) > 1:
        voices = voices[1:]
    return voices[-lens.most_voices :]


def sees_bass(lens: Lens, voices: Sequence[int]) -> bool:
    """Whether a layer with this lens plays the lowest of a chord's voices."""
    if lens.kind == "bass":
        return bool(voices)
    if lens.kind in ("roots", "line", "inner"):
        return False
    span = Span(start_tick=0, length_ticks=1, voices=tuple(voices), root=0)
    return bool(voices) and min(voices) in _seen(lens, span)


def _note(span: Span, start: int, length: int, pitch: int, chord: int, voice: int) -> Note:
    end = span.start_tick + span.length_ticks
    return Note(
        start_tick=start,
        length_ticks=max(1, min(length, end - start)),
        pitch=pitch,
        chord=chord,
        voice=voice,
    )


def _whole(lens: Lens, spans: tuple[Span, ...]) -> list[Note]:
    return [
        _note(span, span.start_tick, span.length_ticks, pitch, c, v)
        for c, span in enumerate(spans)
        for v, pitch in enumerate(_seen(lens, span))
    ]


def _blocks(lens: Lens, spans: tuple[Span, ...]) -> list[Note]:
    return [
        _note(span, start, length, pitch, c, v)
        for c, span in enumerate(spans)
        for start, length in span.strokes
        for v, pitch in enumerate(_seen(lens, span))
    ]


def _rung_on(notes: list[Note], spans: tuple[Span, ...]) -> list[Note]:
    """Let the last stroke of a voice ring through the first of the next chord where it is tied."""
    out: list[Note] = []
    last: dict[tuple[int, int], int] = {}  # chord and pitch -> where its last stroke is in out
    for note in notes:
        span = spans[note.chord]
        key = (note.chord, note.pitch)
        before = last.get((note.chord - 1, note.pitch))
        if key not in last and note.pitch in span.tied and before is not None:
            end = note.start_tick + note.length_ticks
            longer = end - out[before].start_tick
            out[before] = msgspec.structs.replace(out[before], length_ticks=longer)
            last[key] = before
        else:
            last[key] = len(out)
            out.append(note)
    return out


def _tied(notes: list[Note]) -> list[Note]:
    """Join a note to the one before where that had the same pitch and ended just there."""
    out: list[Note] = []
    open_at: dict[tuple[int, int], int] = {}
    for note in notes:
        before = open_at.pop((note.start_tick, note.pitch), None)
        if before is None:
            before = len(out)
            out.append(note)
        else:
            longer = out[before].length_ticks + note.length_ticks
            out[before] = msgspec.structs.replace(out[before], length_ticks=longer)
        joined = out[before]
        open_at[(joined.start_tick + joined.length_ticks, joined.pitch)] = before
    return out


def _root_pitch(root: int) -> int:
    return ROOT_LOW + (root - ROOT_LOW) % 12


def _broken(lens: Lens, span: Span, chord: int) -> list[Note]:
    voices = _seen(lens, span)
    if not voices:
        return []
    late = span.strokes[0][0] - span.start_tick
    pitches = [v + 12 * octave for octave in range(lens.octaves) for v in voices]
    steps = -(-(span.length_ticks - late) // lens.step_ticks)
    length = max(1, round(lens.step_ticks * lens.gate))
    out = []
    for i, pitch in enumerate(run_of(pitches, lens.order, steps, lens.variation, chord)):
        start = span.start_tick + late + i * lens.step_ticks
        out.append(_note(span, start, length, pitch, chord, pitches.index(pitch)))
    return out


def run_of(pitches: Sequence[int], order: str, steps: int, variation: int, place: int) -> list[int]:
    """Return the pitches of a broken chord, one a step; ``place`` lets each chord draw its own."""
    run = list(pitches)
    if order == "random":
        rng = rng_for(variation, "broken", place)
        return [run[int(rng.integers(len(run)))] for _ in range(steps)]
    if order == "down":
        run = run[::-1]
    elif order == "skip":
        run = run[::2] + run[1::2]
    elif order == "up-down" and len(run) > 2:
        run = run + run[-2:0:-1]
    return [run[i % len(run)] for i in range(steps)]


# --- a counter line -------------------------------------------------------------------------------

LINE_MIDDLE = 67  # where a line without a range of its own hovers
STRAYS = 9  # semitones from there


def line_through(lens: Lens, spans: tuple[Span, ...], key: Key) -> list[Note]:
    """Make a line of single notes through the chords.

    On the first step of a chord it is on one of its voices; between, it goes by steps of the
    scale, half steps before whole ones, or leaps to a voice of the chord; the last step before
    another chord leads into it by the smallest step. Each chord draws for itself, so that an edit
    of one leaves the others' notes alone but where they lead into it.
    """
    firsts = [_first_of_line(lens, span, c) for c, span in enumerate(spans)]
    out: list[Note] = []
    for c, span in enumerate(spans):
        pitch = firsts[c]
        if pitch is None:
            continue
        late = span.strokes[0][0] - span.start_tick
        begin = max(late, span.length_ticks // 2) if lens.answers else late
        steps = max(1, -(-(span.length_ticks - begin) // lens.step_ticks))
        goal = next((f for f in (*firsts[c + 1 :], *firsts) if f is not None), pitch)
        rng = rng_for(lens.variation, "line", c)
        length = max(1, round(lens.step_ticks * lens.gate))
        for i in range(steps):
            if i > 0:
                leads = i == steps - 1 and steps > 2
                pitch = _lead(pitch, goal, key) if leads else _onward(lens, span, pitch, key, rng)
            start = span.start_tick + begin + i * lens.step_ticks
            if start < span.start_tick + span.length_ticks:
                out.append(_note(span, start, length, pitch, c, 0))
    return out


def _first_of_line(lens: Lens, span: Span, chord: int) -> int | None:
    if not span.voices:
        return None
    wanted = LINE_MIDDLE + int(rng_for(lens.variation, "line first", chord).integers(-5, 6))
    near = [v + 12 * round((wanted - v) / 12) for v in span.voices]
    return min(near, key=lambda p: (abs(p - wanted), p))


def _onward(lens: Lens, span: Span, pitch: int, key: Key, rng: np.random.Generator) -> int:
    """The next note inside a chord: a leap to one of its voices, or a step of the scale."""
    leap, turn = rng.random() < lens.leaps, int(rng.integers(2)) * 2 - 1
    if abs(pitch - LINE_MIDDLE) > STRAYS:
        turn = 1 if pitch < LINE_MIDDLE else -1
    if leap:
        near = sorted({v + 12 * round((pitch - v) / 12) for v in span.voices} - {pitch})
        far = [p for p in near if abs(p - pitch) > 2]
        if far:
            return far[int(rng.integers(len(far)))]
    ways = (key.step(pitch, turn), key.step(pitch, -turn))
    halves = [p for p in ways if abs(p - pitch) == 1]
    return halves[0] if halves and rng.random() < 0.7 else ways[0]


def _lead(pitch: int, goal: int, key: Key) -> int:
    """The note before another chord's first: a half step beside it if the scale has one."""
    ways = (key.step(goal, 1), key.step(goal, -1))
    return min(ways, key=lambda p: (abs(p - goal), abs(p - pitch)))
