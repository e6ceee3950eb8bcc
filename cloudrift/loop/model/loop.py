"""The loop as a value: frozen all the way down, checked wherever it is made."""

from fractions import Fraction
from typing import Any, TypeVar

import msgspec
from msgspec.structs import replace

from cloudrift.audio.buffers import DEFAULT_RATE, RATES
from cloudrift.ground.draws import MAX_VARIATION
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.lru import by_identity
from cloudrift.ground.words import named
from cloudrift.loop.model import spec
from cloudrift.loop.model.around import SourceContext
from cloudrift.loop.model.bed import BED, Bed
from cloudrift.loop.model.checks import unique, within
from cloudrift.loop.model.chord import Chord
from cloudrift.loop.model.layer import LEVEL, Group, Layer, LineAt, check_line, new_id
from cloudrift.loop.model.source import STRIKING
from cloudrift.notes.span import Span
from cloudrift.notes.time import Clock, bar_ticks
from cloudrift.texture.treatment import Line, time_ratio
from cloudrift.theory.key import Key

__all__ = ["LEVEL", "Chord", "Group", "Layer", "LineAt", "Loop", "new_id"]

_Item = TypeVar("_Item", bound=Chord | Layer | Group)


class Loop(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A melodic loop: everything that its sound, its pictures and its files are made from.

    ``bed`` is the groove that it is tried against: played beside it, and no part of it. ``over``
    and ``level_db`` are what a section of an arrangement lays on both; a loop by itself has none.
    ``chords_from`` says where its chords are from, where they came in with a file.
    """

    title: str
    key: Key
    tempo: float
    bars: int = 8
    metre: tuple[int, int] = (4, 4)
    rate: int = DEFAULT_RATE
    kit: str = ""
    style: str = ""
    variation: int = 1
    chords: tuple[Chord, ...] = ()
    layers: tuple[Layer, ...] = ()
    groups: tuple[Group, ...] = ()
    line: Line = ()
    line_blend: float = 1.0
    bed: Bed | None = None
    over: Line = ()
    level_db: float = 0.0
    chords_from: str = ""

    def __post_init__(self) -> None:
        for field in ("title", "kit", "style", "chords_from"):
            named(self, "a loop", field, may_be_empty=True)
        within("tempo", self.tempo, spec.MIN_TEMPO_BPM, spec.MAX_TEMPO_BPM, " BPM")
        within("bars", self.bars, spec.MIN_BARS, spec.MAX_BARS)
        within("variation", self.variation, 0, MAX_VARIATION)
        if self.rate not in RATES:
            raise CloudriftError(f"rate is {self.rate} Hz, but must be one of {RATES}")
        if self.metre[0] not in spec.BEATS or self.metre[1] not in spec.BEAT_UNITS:
            raise CloudriftError(
                f"metre {self.metre[0]}/{self.metre[1]} is not supported; use 2 to 12 beats of "
                "quarters or eighths"
            )
        within("number of layers", len(self.layers), 0, spec.MAX_LAYERS)
        unique("layers, groups and lanes", self.ids)
        there = {"", *(group.id for group in self.groups)}
        for layer in self.layers:
            if layer.group not in there:
                raise CloudriftError(
                    f"layer {layer.id} is in group {layer.group}, which does not exist"
                )
            if layer.source.end_tick > self.ticks:
                raise CloudriftError(
                    f"layer {layer.id} has a note that ends after the loop's end at {self.ticks}"
                )
        unique("chords", (chord.id for chord in self.chords))
        check_line("the whole loop", self.line, self.line_blend)
        check_line("a section", self.over, 1.0)
        if time_ratio(self.over) != 1:
            raise CloudriftError("a treatment on a section can't change its length")
        self._check_chord_places()
        within("sounding length", self.sounding_frames / self.rate, 0, spec.MAX_SOUNDING_S, " s")

    def _check_chord_places(self) -> None:
        end = 0
        for chord in self.chords:
            if chord.start_tick < end:
                raise CloudriftError(f"chord {chord.id} starts before the one before it has ended")
            end = chord.start_tick + chord.length_ticks
        if end > self.ticks:
            raise CloudriftError(
                f"the last chord ends at tick {end}, after the loop's end at {self.ticks}"
            )

    @property
    def ticks(self) -> int:
        """The length in ticks."""
        return bar_ticks(self.metre) * self.bars

    def tick_at(self, share: float) -> int:
        """Return the tick nearest to a share of the length (0-1): it may lie a hair before one."""
        return round(share * self.ticks) % self.ticks

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
        return _spans_of(self.chords)

    @property
    def sounding_tempo(self) -> float:
        """The tempo that is heard, in BPM."""
        return self.tempo / time_ratio(self.line)

    @property
    def sounding_frames(self) -> int:
        """The sounding length, in whole frames."""
        return round(float(self.exact_frames) * time_ratio(self.line))

    @property
    def unknown(self) -> tuple[str, ...]:
        """What this program does not know and passes by, each once, in words."""
        owners: tuple[Layer | Group, ...] = (
            *self.layers,
            *self.groups,
            *self.lanes,
            *self.bed_group,
        )
        found = [
            f"the treatment {t.kind} (design {t.version}), bypassed"
            for line in (self.line, *(x.line for x in owners))
            for t in line
            if not t.known
        ]
        found += [
            f"{what} in {x.name}" for x in (*self.layers, *self.lanes) for what in x.source.unknown
        ]
        return tuple(dict.fromkeys(found))

    def layer(self, layer_id: str) -> Layer:
        """Return a layer, or a lane of the groove bed, by id."""
        return _by_id((*self.layers, *self.lanes), layer_id, "layer")

    def chord(self, chord_id: str) -> Chord:
        """Return a chord by id."""
        return _by_id(self.chords, chord_id, "chord")

    def group(self, group_id: str) -> Group:
        """Return a group, or that of the groove bed, by id."""
        return _by_id((*self.groups, *self.bed_group), group_id, "group")

    @property
    def lanes(self) -> tuple[Layer, ...]:
        """The lanes of the groove bed."""
        return self.bed.lanes if self.bed else ()

    @property
    def bed_group(self) -> tuple[Group, ...]:
        """The group that the lanes of the groove bed are in, where there is one."""
        return (self.bed.group,) if self.bed else ()

    def owner(self, at: LineAt) -> "Layer | Group | Loop":
        """Return what has a line."""
        if at is None:
            return self
        owners: tuple[Layer | Group, ...] = (
            *self.layers,
            *self.groups,
            *self.lanes,
            *self.bed_group,
        )
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

        def with_new(owners: tuple[_Item, ...]) -> Any:
            return tuple(new if one is old else one for one in owners)

        if self.bed is None or not any(old is one for one in (*self.lanes, *self.bed_group)):
            return replace(self, layers=with_new(self.layers), groups=with_new(self.groups))
        (group,) = with_new(self.bed_group)
        return replace(self, bed=replace(self.bed, lanes=with_new(self.lanes), group=group))

    def name_of(self, at: LineAt) -> str:
        """Return what has a line by its name, as words say it."""
        owner = self.owner(at)
        return "the whole loop" if isinstance(owner, Loop) else owner.name

    def heard(self) -> tuple[Layer, ...]:
        """Return the layers that sound: those that are not off or parked, nor is their group."""
        off = {group.id for group in self.groups if group.mute}
        return tuple(x for x in self.layers if not (x.parked or x.mute or x.group in off))

    @property
    def ids(self) -> tuple[str, ...]:
        """The ids of all that has a line: of layers, groups, lanes, and of the groove bed."""
        owners: tuple[Layer | Group, ...] = (*self.layers, *self.groups, *self.lanes)
        return (*(one.id for one in owners), BED)

    def members(self, group_id: str) -> tuple[Layer, ...]:
        """Return the layers of a group that sound; the lanes of the groove bed for its group."""
        if group_id == BED and self.bed:
            return self.bed.heard
        return tuple(x for x in self.heard() if x.group == group_id)

    @property
    def around(self) -> SourceContext:
        """What layers may know of the loop."""
        return SourceContext(self.spans, self.key, bar_ticks(self.metre))

    @property
    def striker(self) -> Layer | None:
        """The layer in which the chords themselves are heard: the first that strikes them."""
        heard = tuple(x for x in self.heard() if x.recorded is None)
        striking = [x for x in heard if x.follows and x.played.lens.kind in STRIKING]
        return next(iter(striking or heard), None)


@by_identity(64)
def _spans_of(chords: tuple[Chord, ...]) -> tuple[Span, ...]:
    return tuple(map(_span_of, chords))


@by_identity(1024)
def _span_of(chord: Chord) -> Span:
    """A chord that an edit leaves alone is the same object in the loop after it."""
    return Span(start_tick=chord.start_tick, length_ticks=chord.length_ticks,
                voices=chord.sounding, root=chord.root, hits=chord.hits, tied=chord.tied,
                touch=chord.touch)  # fmt: skip


def _by_id(items: tuple[_Item, ...], wanted: str, what: str) -> _Item:
    for item in items:
        if item.id == wanted:
            return item
    raise CloudriftError(f"there is no {what} {wanted!r}")
