"""Lenses: how a layer looks at the chords. A change of chord is a change of every lens's notes."""

from typing import Literal

import msgspec

from cloudrift.ground.draws import stream
from cloudrift.ground.errors import CloudriftError
from cloudrift.notes.note import Note
from cloudrift.notes.span import Span

LensKind = Literal["all", "held", "broken", "roots", "top"]
Order = Literal["up", "down", "up-down", "random"]
KINDS: tuple[LensKind, ...] = ("all", "held", "broken", "roots", "top")
ORDERS: tuple[Order, ...] = ("up", "down", "up-down", "random")
DESCRIPTIONS: dict[LensKind, str] = {
    "all": "takes every voice",
    "held": "takes every voice, tied",
    "broken": "takes the voices one after another",
    "roots": "takes the roots",
    "top": "takes the top voices",
}
ROOT_LOW = 28  # E1: a root goes to its octave from here up, so that a round sub has a fundamental
LOWEST, HIGHEST = 12, 120
MAX_VOICES = 8


class Lens(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """How a layer looks at the chords.

    ``voices`` counts from the top and limits every kind but roots; ``skip_bass`` leaves the
    lowest voice to another layer; ``order``, ``step_ticks``, ``octaves`` and ``gate`` (share of a
    step that sounds) shape a broken chord; ``octave`` moves all notes.
    """

    kind: LensKind = "all"
    octave: int = 0
    voices: int = MAX_VOICES
    skip_bass: bool = False
    order: Order = "up"
    step_ticks: int = 480
    octaves: int = 1
    gate: float = 0.8
    draw: int = 1

    def __post_init__(self) -> None:
        limits = {
            "octave": (self.octave, -3, 3), "voices": (self.voices, 1, MAX_VOICES),
            "step_ticks": (self.step_ticks, 60, 3840), "octaves": (self.octaves, 1, 3),
            "gate": (self.gate, 0.05, 1.0),
        }  # fmt: skip
        for name, (value, low, high) in limits.items():
            if not low <= value <= high:
                raise CloudriftError(
                    f"lens: {name} is {value:g}, but must lie between {low:g} and {high:g}"
                )

    @property
    def text(self) -> str:
        """What this lens does, in words."""
        words = DESCRIPTIONS[self.kind]
        if self.kind == "top":
            words = "takes the top voice" if self.voices == 1 else f"takes the top {self.voices}"
        if self.kind == "broken" and self.voices < MAX_VOICES:
            words = f"breaks up the top {self.voices}"
        if self.skip_bass and self.kind not in ("roots", "top"):
            words += ", no bass"
        if self.octave:
            words += f", {self.octave:+d} oct".replace("-", "−")
        return words


def look(lens: Lens, spans: tuple[Span, ...]) -> tuple[Note, ...]:
    """Return the notes that a lens sees in the chords, in order of time, then pitch.

    All notes lie inside their chord's span; held and tied notes may run through several. A held
    layer changes with the chords' places, whatever the rhythm that they are struck in.
    """
    match lens.kind:
        case "all" | "top":
            notes = _rung_on(_blocks(lens, spans), spans)
        case "held":
            notes = _tied(_whole(lens, spans))
        case "roots":
            notes = [
                _note(s, start, length, _root_pitch(s.root), c, 0)
                for c, s in enumerate(spans)
                for start, length in s.strokes
            ]
        case "broken":
            notes = [n for c, s in enumerate(spans) for n in _broken(lens, s, c)]
        case _:
            raise CloudriftError(f"no lens is called {lens.kind!r}; known are {', '.join(KINDS)}")
    moved = [
        msgspec.structs.replace(n, pitch=min(max(n.pitch + 12 * lens.octave, LOWEST), HIGHEST))
        for n in notes
    ]
    return tuple(sorted(moved, key=lambda n: (n.start_tick, n.pitch)))


def _seen(lens: Lens, span: Span) -> tuple[int, ...]:
    """The voices a lens lets through, low to high."""
    voices = tuple(sorted(set(span.voices)))
    if not voices:
        return ()
    if lens.skip_bass and len(voices) > 1:
        voices = voices[1:]
    count = 1 if lens.kind == "top" and lens.voices == MAX_VOICES else lens.voices
    return voices[-count:]


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
    run = [v + 12 * octave for octave in range(lens.octaves) for v in voices]
    if lens.order == "down":
        run = run[::-1]
    elif lens.order == "up-down" and len(run) > 2:
        run = run + run[-2:0:-1]
    steps = -(-(span.length_ticks - late) // lens.step_ticks)
    rng = stream(lens.draw, "broken", chord)
    length = max(1, round(lens.step_ticks * lens.gate))
    out = []
    for i in range(steps):
        at = int(rng.integers(len(run))) if lens.order == "random" else i % len(run)
        start = span.start_tick + late + i * lens.step_ticks
        out.append(_note(span, start, length, run[at], chord, at))
    return out
