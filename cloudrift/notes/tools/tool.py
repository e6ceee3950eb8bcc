"""What a tool is, and how it is used on notes: all that every tool may rely on, said once."""

import dataclasses
from collections.abc import Callable, Collection
from dataclasses import dataclass
from typing import Literal

from msgspec.structs import replace

from cloudrift.ground.settings import Field, ResolvedSettings, Settings, SettingsSpec
from cloudrift.notes.lens import folded
from cloudrift.notes.note import HIGHEST, LOWEST, MIN_TICKS, MOST, Note, in_order, numbered
from cloudrift.notes.time import LONG_VALUES, NOTE_VALUES, TICKS_PER_QUARTER
from cloudrift.theory.key import Key

Group = Literal["Time", "Length", "Pitch", "Velocity", "Add", "Bass"]
GROUPS: tuple[Group, ...] = ("Time", "Length", "Pitch", "Velocity", "Add", "Bass")
GRID = "grid"
VALUES = (GRID, *NOTE_VALUES)
WINDOWS = (*VALUES, *LONG_VALUES)
NOTHING = SettingsSpec(())


@dataclass(frozen=True, kw_only=True)
class ToolContext:
    """Where notes stand: key, tempo (BPM), ticks of loop, bar and grid, and the other notes.

    ``others`` are those that a tool leaves alone but may look at.
    """

    key: Key
    tempo: float
    loop_ticks: int
    bar_ticks: int
    grid_ticks: int
    others: tuple[Note, ...] = ()

    def ticks(self, value: str) -> int:
        """Return the ticks of a note value, or of the grid."""
        return self.grid_ticks if value == GRID else (NOTE_VALUES | LONG_VALUES)[value]

    def ms_to_ticks(self, ms: float) -> float:
        """Return how many ticks that many milliseconds are."""
        return ms * 1e-3 * self.tempo / 60 * TICKS_PER_QUARTER

    def bar_of(self, tick: int) -> int:
        """Return which bar a tick is in, from 0."""
        return tick // self.bar_ticks


# Notes that were picked, in order, what is around them, settings -> what they become.
Act = Callable[[tuple[Note, ...], ToolContext, ResolvedSettings], list[Note]]


@dataclass(frozen=True, kw_only=True)
class Tool:
    """Something that is done to notes: its words, its settings, and the doing."""

    name: str
    group: Group
    about: str
    act: Act
    spec: SettingsSpec = NOTHING

    @property
    def label(self) -> str:
        """The name as a button writes it."""
        return self.name[0].upper() + self.name[1:]


def use(
    tool: Tool,
    notes: tuple[Note, ...],
    picked: Collection[int],
    around: ToolContext,
    settings: Settings,
) -> tuple[tuple[Note, ...], frozenset[int]]:
    """Use a tool on picked notes (by id; none: all); return all notes, and the ids it left.

    What comes out lies inside the loop and the reach of notes, has lengths and loudnesses that
    are allowed, and no two notes start on the same pitch at once: the tool's own give way.
    """
    chosen = tuple(n for n in notes if n.id in picked) if picked else notes
    ids = {n.id for n in chosen}
    others = tuple(n for n in notes if n.id not in ids)
    full = tool.spec.full(tool.spec.check(settings, tool.name))
    if not chosen:
        return notes, frozenset()
    made = tool.act(in_order(chosen), dataclasses.replace(around, others=others), full)
    kept: list[Note] = []
    there = {(n.start_tick, n.pitch) for n in others}
    used: set[int] = {n.id for n in others}
    for note in made[:MOST]:
        note = inside(note, around.loop_ticks)  # noqa: PLW2901
        place = (note.start_tick, note.pitch)
        if place in there:
            continue
        there.add(place)
        if note.id in used:
            note = replace(note, id=0)  # noqa: PLW2901 - a copy is a note of its own
        used.add(note.id)
        kept.append(note)
    whole = numbered((*others, *kept))
    before = {n.id for n in others}
    return whole, frozenset(n.id for n in whole if n.id not in before)


def inside(note: Note, loop_ticks: int) -> Note:
    """Return a note brought into the loop and into reach."""
    if (
        0 <= note.start_tick <= loop_ticks - note.length_ticks
        and note.length_ticks >= MIN_TICKS
        and LOWEST <= note.pitch <= HIGHEST
        and 1 <= note.velocity <= 127
    ):
        return note
    start = min(max(note.start_tick, 0), loop_ticks - MIN_TICKS)
    length = min(max(note.length_ticks, MIN_TICKS), loop_ticks - start)
    pitch = folded(note.pitch, LOWEST, HIGHEST)
    velocity = min(max(note.velocity, 1), 127)
    return replace(note, start_tick=start, length_ticks=length, pitch=pitch, velocity=velocity)


# --- fields that several tools have -------------------------------------------------------------


def ms(name: str, label: str, default: float, high: float = 400) -> Field:
    """Return a setting in milliseconds."""
    return Field(name=name, label=label, default=default, unit="ms", low=0, high=high)


def count(name: str, label: str, default: float, low: float, high: float, unit: str = "") -> Field:
    """Return a whole number."""
    return Field(name=name, label=label, default=default, unit=unit, low=low, high=high)


def choice(name: str, label: str, choices: tuple[str, ...], default: str = "") -> Field:
    """Return a choice, the first of them if no default is named."""
    return Field(name=name, label=label, default=default or choices[0], choices=choices)


def value(name: str = "step", label: str = "Step", default: str = GRID) -> Field:
    """Return a note value, or the grid."""
    return choice(name, label, VALUES, default)


VARIATION = Field(name="variation", label="Variation", default=1, unit="№", low=1, high=999)


def by_start(notes: tuple[Note, ...]) -> list[list[Note]]:
    """Return notes in groups that start together, in order of time; low to high inside."""
    groups: dict[int, list[Note]] = {}
    for note in in_order(notes):
        groups.setdefault(note.start_tick, []).append(note)
    return list(groups.values())
