"""The loop as a value: frozen all the way down, checked wherever it is made."""

from collections.abc import Iterable
from fractions import Fraction
from typing import Any, TypeVar

import msgspec
from msgspec.structs import replace

from cloudrift.audio.buffers import DEFAULT_RATE, RATES
from cloudrift.ground.draws import MAX_DRAW
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.settings import Field
from cloudrift.ground.words import check_name
from cloudrift.loop import spec
from cloudrift.loop.checks import unique, within
from cloudrift.loop.chord import Chord
from cloudrift.loop.flip import Flipped
from cloudrift.loop.recorded import FromRecording
from cloudrift.loop.source import (
    STRIKING,
    Around,
    OwnNotes,
    PlayedSource,
    Source,
    with_notes,
)
from cloudrift.notes.note import Note
from cloudrift.notes.span import Span
from cloudrift.notes.time import Clock, bar_ticks
from cloudrift.sound.instrument import Role
from cloudrift.texture.ride import Ride, check_ride
from cloudrift.texture.treatment import Line, shift_st, time_ratio
from cloudrift.theory.key import Key

LEVEL = Field(name="level_db", label="Level", default=0, unit="dB", low=spec.MIN_LEVEL_DB,
              high=spec.MAX_LEVEL_DB, step=0.5, off_low=True)  # fmt: skip

# Where a line is: the id of the layer or the group that has it; None for the whole loop's.
LineAt = str | None

_Item = TypeVar("_Item", bound="Chord | Layer | Group")


class Layer(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Something that sounds: what it comes from, its place, and its treatments.

    ``level_db`` at its lowest is silence; ``pan`` goes from -1 (left) to 1 (right). A parked layer
    is kept, silent and out of the way. It may belong to a ``group``, which has a line of its own.
    A ``level_ride`` (dB) stands in for the level. ``line_blend`` (0-1) is how much of the treated
    sound is heard against the bare one.
    """

    id: str
    name: str
    role: Role
    source: Source
    level_db: float = 0.0
    pan: float = 0.0
    mute: bool = False
    parked: bool = False
    line: Line = ()
    line_blend: float = 1.0
    group: str = ""
    level_ride: Ride | None = None

    def __post_init__(self) -> None:
        where = f"layer {self.id}"
        if self.level_ride:
            check_ride(self.level_ride, LEVEL, where)
        check_name("a layer", self.name)
        within(f"{where}: level", self.level_db, spec.MIN_LEVEL_DB, spec.MAX_LEVEL_DB, " dB")
        within(f"{where}: pan", self.pan, -1, 1)
        _check_line(where, self.line, self.line_blend)
        self.source.check(where)

    @property
    def follows(self) -> bool:
        """Whether it follows the chords."""
        return self.source.follows

    @property
    def played(self) -> PlayedSource:
        """What it comes from, where that is notes played with a sound."""
        if not isinstance(self.source, PlayedSource):
            raise CloudriftError(f"{self.name} is a recording: it has no sound, lens or touch")
        return self.source

    @property
    def recorded(self) -> FromRecording | None:
        """The recording that it is, or that it is cut from."""
        source = self.source
        return source.of if isinstance(source, Flipped) else (
            source if isinstance(source, FromRecording) else None)  # fmt: skip

    @property
    def flipped(self) -> Flipped | None:
        """The flip that it is, if it is one."""
        return self.source if isinstance(self.source, Flipped) else None

    def with_recorded(self, recorded: FromRecording) -> "Layer":
        """Return it with its recording, or the one that it is cut from, in another's place."""
        flip = self.flipped
        return replace(self, source=recorded if flip is None else replace(flip, of=recorded))

    @property
    def own(self) -> tuple[Note, ...] | None:
        """Its own notes; None where it has none because it follows the chords."""
        return self.source.notes if isinstance(self.source, OwnNotes) else None

    def with_notes(self, notes: tuple[Note, ...] | None) -> "Layer":
        """Return it with notes of its own; for None following the chords again."""
        return replace(self, source=with_notes(self.played, notes))

    def with_source(self, **changes: Any) -> "Layer":
        """Return it with fields of its source changed: ``sound``, ``lens``, ``touch``, …"""
        return replace(self, source=replace(self.played, **changes))


def _check_line(where: str, line: Line, blend: float) -> None:
    within(f"{where}: number of treatments", len(line), 0, spec.MAX_TREATMENTS)
    within(f"{where}: blend of its line", blend, 0, 1)
    unique(where, (t.id for t in line))
    times = time_ratio(line)
    if not 1 / spec.MOST_TIMES <= times <= spec.MOST_TIMES:
        raise CloudriftError(
            f"{where}: its line makes it {times:g} times as long, but {1 / spec.MOST_TIMES:g} to "
            f"{spec.MOST_TIMES:g} is what can be; take a tape out"
        )


class Group(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Layers that share a treatment line behind their own, and a level and a pan behind that."""

    id: str
    name: str
    line: Line = ()
    line_blend: float = 1.0
    level_db: float = 0.0
    pan: float = 0.0
    mute: bool = False

    def __post_init__(self) -> None:
        where = f"group {self.id}"
        check_name("a group", self.name)
        within(f"{where}: level", self.level_db, spec.MIN_LEVEL_DB, spec.MAX_LEVEL_DB, " dB")
        within(f"{where}: pan", self.pan, -1, 1)
        _check_line(where, self.line, self.line_blend)


class Loop(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A melodic loop: everything that its sound, its pictures and its files are made from."""

    title: str
    key: Key
    tempo: float
    bars: int = 8
    metre: tuple[int, int] = (4, 4)
    rate: int = DEFAULT_RATE
    kit: str = ""
    style: str = ""
    draw: int = 1
    chords: tuple[Chord, ...] = ()
    layers: tuple[Layer, ...] = ()
    groups: tuple[Group, ...] = ()
    line: Line = ()
    line_blend: float = 1.0

    def __post_init__(self) -> None:
        for name in (self.title, self.kit, self.style):
            check_name("a loop", name, may_be_empty=True)
        within("tempo", self.tempo, spec.MIN_TEMPO_BPM, spec.MAX_TEMPO_BPM, " BPM")
        within("bars", self.bars, spec.MIN_BARS, spec.MAX_BARS)
        within("draw", self.draw, 0, MAX_DRAW)
        if self.rate not in RATES:
            raise CloudriftError(f"rate is {self.rate} Hz, but must be one of {RATES}")
        if self.metre[0] not in spec.BEATS or self.metre[1] not in spec.BEAT_UNITS:
            raise CloudriftError(
                f"metre {self.metre[0]}/{self.metre[1]} is not supported; take 2 to 12 beats "
                "of quarters or eighths"
            )
        within("number of layers", len(self.layers), 0, spec.MAX_LAYERS)
        ids = [*(layer.id for layer in self.layers), *(group.id for group in self.groups)]
        unique("layers and groups", ids)
        there = {"", *(group.id for group in self.groups)}
        for layer in self.layers:
            if layer.group not in there:
                raise CloudriftError(f"layer {layer.id} is in group {layer.group}, which is not")
            if layer.source.end_tick > self.ticks:
                raise CloudriftError(
                    f"layer {layer.id} has a note that ends behind the loop's end at {self.ticks}"
                )
        unique("chords", (chord.id for chord in self.chords))
        _check_line("the whole loop", self.line, self.line_blend)
        self._check_chord_places()
        within("length that is heard", self.sounding_frames / self.rate, 0, spec.MAX_SOUNDING_S,
                " s")  # fmt: skip

    def _check_chord_places(self) -> None:
        end = 0
        for chord in self.chords:
            if chord.start_tick < end:
                raise CloudriftError(f"chord {chord.id} starts before the one before it has ended")
            end = chord.start_tick + chord.length_ticks
        if end > self.ticks:
            raise CloudriftError(
                f"the last chord ends at tick {end}, behind the loop's end at {self.ticks}"
            )

    @property
    def ticks(self) -> int:
        """The length in ticks."""
        return bar_ticks(self.metre) * self.bars

    @property
    def clock(self) -> Clock:
        """Ticks to frames at the written tempo."""
        return Clock.of(self.tempo, self.rate)

    @property
    def exact_frames(self) -> Fraction:
        """The written length in frames, before rounding."""
        return self.clock.exact_frames(self.ticks)

    @property
    def frames(self) -> int:
        """The written length in whole frames."""
        return round(self.exact_frames)

    @property
    def spans(self) -> tuple[Span, ...]:
        """The chords as lenses see them."""
        return tuple(
            Span(start_tick=c.start_tick, length_ticks=c.length_ticks, voices=c.sounding,
                 root=c.root, hits=c.hits, tied=c.tied, touch=c.touch)
            for c in self.chords
        )  # fmt: skip

    @property
    def sounding_key(self) -> Key:
        """The key that is heard, after the whole loop's line."""
        return self.key.shifted(round(shift_st(self.line, self.line_blend)))

    @property
    def sounding_tempo(self) -> float:
        """The tempo that is heard, in BPM."""
        return self.tempo / time_ratio(self.line)

    @property
    def sounding_frames(self) -> int:
        """The length that is heard, in whole frames."""
        return round(float(self.exact_frames) * time_ratio(self.line))

    @property
    def unknown(self) -> tuple[str, ...]:
        """What this program does not know and passes by, each once, in words."""
        lines = (self.line, *(x.line for x in self.layers), *(x.line for x in self.groups))
        found = [f"the treatment {t.kind} (design {t.version}), passed by"
                 for line in lines for t in line if not t.known]  # fmt: skip
        found += [f"{what} in {x.name}" for x in self.layers for what in x.source.unknown]
        return tuple(dict.fromkeys(found))

    def layer(self, layer_id: str) -> Layer:
        """Return a layer by id."""
        return _by_id(self.layers, layer_id, "layer")

    def chord(self, chord_id: str) -> Chord:
        """Return a chord by id."""
        return _by_id(self.chords, chord_id, "chord")

    def group(self, group_id: str) -> Group:
        """Return a group by id."""
        return _by_id(self.groups, group_id, "group")

    def owner(self, at: LineAt) -> "Layer | Group | Loop":
        """Return what has a line."""
        if at is None:
            return self
        owners: tuple[Layer | Group, ...] = (*self.layers, *self.groups)
        return _by_id(owners, at, "layer or group")

    def line_of(self, at: LineAt) -> Line:
        """Return a line."""
        return self.owner(at).line

    def with_owner(self, at: LineAt, **changes: Any) -> "Loop":
        """Return the loop with fields of what has a line changed; of all that has one alike."""
        old = self.owner(at)
        if isinstance(old, Loop):
            return replace(self, **changes)
        new = replace(old, **changes)
        return replace(
            self,
            layers=tuple(new if one is old else one for one in self.layers),
            groups=tuple(new if one is old else one for one in self.groups),
        )

    def name_of(self, at: LineAt) -> str:
        """Return what has a line by its name, as words say it."""
        owner = self.owner(at)
        return "the whole loop" if isinstance(owner, Loop) else owner.name

    def heard(self) -> tuple[Layer, ...]:
        """Return the layers that sound: those that are not off or parked, nor is their group."""
        off = {group.id for group in self.groups if group.mute}
        return tuple(x for x in self.layers if not (x.parked or x.mute or x.group in off))

    def notes_of(self, layer: Layer) -> tuple[Note, ...]:
        """Return a layer's notes as played."""
        return layer.source.notes_in(Around(self.spans, self.key, bar_ticks(self.metre)))

    @property
    def striker(self) -> Layer | None:
        """The layer in which the chords themselves are heard: the first that strikes them."""
        heard = tuple(x for x in self.heard() if x.recorded is None)
        striking = [x for x in heard if x.follows and x.played.lens.kind in STRIKING]
        return next(iter(striking or heard), None)


def _by_id(items: tuple[_Item, ...], wanted: str, what: str) -> _Item:
    for item in items:
        if item.id == wanted:
            return item
    raise CloudriftError(f"there is no {what} {wanted!r}")


def new_id(prefix: str, taken: Iterable[str]) -> str:
    """Return the first free id such as ``t3``: short, stable, the same for the same edit."""
    used = set(taken)
    number = 1
    while f"{prefix}{number}" in used:
        number += 1
    return f"{prefix}{number}"
