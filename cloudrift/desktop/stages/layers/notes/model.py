"""What the note grid shows, made by pure functions of the loop."""

from dataclasses import dataclass
from typing import NamedTuple

from msgspec.structs import replace

from cloudrift.ground.lru import by_identity
from cloudrift.ground.words import plural
from cloudrift.loop.edits.layers.from_notes import chords_of
from cloudrift.loop.edits.layers.slowed import slowed
from cloudrift.loop.model import spec
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.loop.sounding import heard_time, notes_of, ruler
from cloudrift.notes.note import HIGHEST, LOWEST, Note
from cloudrift.notes.time import bar_ticks, beat_ticks

SPARE = 3  # semitones above and below the notes
LEAST = 24  # semitones shown at least


@dataclass(frozen=True)
class View:
    """Which pitches (both shown) and which ticks (first, and the first not shown) are seen."""

    low: int
    high: int
    first: float
    last: float

    @property
    def ticks(self) -> float:
        """How long a stretch is seen."""
        return self.last - self.first

    def zoomed(self, factor: float, middle: float, loop_ticks: int, least: float) -> "View":
        """Return a view of a shorter or longer stretch, a tick staying where it is."""
        size = min(max(self.ticks * factor, least), loop_ticks)
        share = (middle - self.first) / self.ticks
        return self.moved_to(middle - share * size, size, loop_ticks)

    def moved_to(self, first: float, size: float, loop_ticks: int) -> "View":
        """Return a view of a stretch of a size from a tick, inside the loop."""
        first = min(max(first, 0.0), loop_ticks - size)
        return View(self.low, self.high, first, first + size)

    def raised(self, semitones: int) -> "View":
        """Return a view of other pitches."""
        by = min(max(semitones, LOWEST - self.low), HIGHEST - self.high)
        return View(self.low + by, self.high + by, self.first, self.last)

    def taller(self, factor: float, middle: int) -> "View":
        """Return a view of fewer or more pitches about one."""
        size = min(max(round((self.high - self.low) * factor), 11), HIGHEST - LOWEST)
        low = min(max(middle - size // 2, LOWEST), HIGHEST - size)
        return View(low, low + size, self.first, self.last)


def fitting(notes: tuple[Note, ...], loop: Loop) -> View:
    """Return the view that shows all notes, or the chords where there are none."""
    pitches = [n.pitch for n in notes] or [v for c in loop.chords for v in c.voices] or [60]
    low, high = min(pitches) - SPARE, max(pitches) + SPARE
    short = LEAST - (high - low)
    if short > 0:
        low, high = low - short // 2, high + short - short // 2
    return View(max(low, LOWEST), min(high, HIGHEST), 0.0, float(loop.ticks))


@dataclass(frozen=True)
class Outline:
    """A voice of a chord, as it is drawn behind the notes."""

    start: int
    end: int
    pitch: int


def chord_names(loop: Loop, layer: Layer) -> tuple[tuple[int, str], ...]:
    """Return where chords begin and what they are called: those of the row, or the layer's own."""
    chords = loop.chords if layer.follows else chords_of(loop, layer) or loop.chords
    return tuple((chord.start_tick, chord.read(loop.key).text) for chord in chords)


class Ground(NamedTuple):
    """What notes are seen against: a loop's lines and chords, chord names, what is not heard."""

    loop: Loop
    names: tuple[tuple[int, str], ...]
    unheard: tuple[tuple[float, float], ...]
    as_heard: bool


@by_identity(16)
def ground_of(loop: Loop, layer: Layer, as_heard: bool) -> Ground:
    """Return what a layer's notes are seen against, in written time or in heard time."""
    time = heard_time(loop, layer)
    if time is None or not as_heard:
        return Ground(loop, chord_names(loop, layer), time.unheard if time else (), False)
    spans = [one for one in ruler(loop, layer.id) if one.number >= 0] or ruler(loop)
    names = tuple((one.start_tick, one.text) for one in spans)
    chords = tuple(
        replace(c, voices=tuple(sorted({spec.in_reach(v) for v in c.voices})))
        for c in time.chords(loop.chords)
        if c.length_ticks >= spec.MIN_CHORD_TICKS
    )
    heard = replace(loop, chords=chords, key=time.key(loop.key))
    return Ground(heard, names, (), True)


def outlines(loop: Loop) -> tuple[Outline, ...]:
    """Return the voices of the chords."""
    return tuple(
        Outline(chord.start_tick, chord.end_tick, voice)
        for chord in loop.chords
        for voice in chord.sounding
    )


def lines(
    loop: Loop, grid_ticks: int, view: View, least_px: float, width: float
) -> list[tuple[int, str]]:
    """Return where lines stand and what they are: ``bar``, ``beat``, ``grid``.

    Lines that would stand closer than that many pixels are left out.
    """
    bar, beat = bar_ticks(loop.metre), beat_ticks(loop.metre)
    a_tick = width / max(view.ticks, 1.0)
    steps = [(bar, "bar"), (beat, "beat"), (grid_ticks, "grid")]
    out: dict[int, str] = {}
    for step, what in steps:
        if what != "bar" and step * a_tick < least_px:
            continue
        first = int(view.first // step) * step
        for tick in range(first, int(view.last) + 1, step):
            if tick >= view.first:
                out.setdefault(tick, what)
    return sorted(out.items())


def said(loop: Loop, layer: Layer, picked: int) -> str:
    """Say in words what the grid shows."""
    notes = notes_of(loop, layer)
    slow = slowed(loop, layer)
    if layer.follows and not loop.chords:
        return "no notes yet: there are no chords to follow"
    if layer.follows:
        words = f"{plural(len(notes), 'note')}, following the chords"
        return f"{words} · {slow.says}" if slow else words
    count = len(layer.own or ())
    words = f"{plural(count, 'note')} of its own"
    silent = count - len(notes)
    if silent:
        words += f", {silent} muted"
    words = f"{words}, {picked} selected" if picked else words
    return f"{words} · {slow.says}" if slow else words
