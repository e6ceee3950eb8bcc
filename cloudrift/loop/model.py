"""The loop as a value: frozen all the way down, checked wherever it is made."""

import functools
from collections.abc import Iterable
from fractions import Fraction
from typing import NamedTuple, TypeVar

import msgspec

from cloudrift.audio.buffers import DEFAULT_RATE, RATES
from cloudrift.ground.draws import MAX_DRAW
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.settings import Field, Settings
from cloudrift.ground.words import check_name, plural
from cloudrift.loop import spec
from cloudrift.notes.lens import Lens, look
from cloudrift.notes.note import HIGHEST, LOWEST, MOST, Note
from cloudrift.notes.span import Span
from cloudrift.notes.time import Clock, bar_ticks
from cloudrift.notes.touch import ChordTouch, Touch, play
from cloudrift.sound.catalogue import find_design, unknown_sound
from cloudrift.sound.instrument import Instrument, Role
from cloudrift.sound.own import OwnSound
from cloudrift.texture.ride import Ride, check_ride
from cloudrift.texture.treatment import Line, shift_st, time_ratio
from cloudrift.theory.key import Key
from cloudrift.theory.naming import ChordReading, read_chord

LEVEL = Field(name="level_db", label="Level", default=0, unit="dB", low=spec.MIN_LEVEL_DB,
              high=spec.MAX_LEVEL_DB, step=0.5, off_low=True)  # fmt: skip
MOST_MS = 10_000.0  # that a note is away from its place, or glides
STRIKING = ("all", "top")  # lenses that see a chord as something struck at once


def _within(where: str, value: float, low: float, high: float, unit: str = "") -> None:
    if not low <= value <= high:
        raise CloudriftError(
            f"{where} is {value:g}{unit}, but must lie between {low:g} and {high:g}{unit}"
        )


def _unique(where: str, ids: Iterable[str]) -> None:
    seen: set[str] = set()
    for one in ids:
        if one in seen:
            raise CloudriftError(f"{where}: the id {one!r} is there twice")
        seen.add(one)


class Chord(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A chord in its place. ``voices`` are MIDI numbers, low to high; ``root`` a pitch class.

    The voices are the truth; the root says what was meant where they could read as two chords.
    ``muted`` voices are kept but silent, ``tied`` ones ring on from the chord before. It is struck
    ``late_ticks`` after its place, then at ``strikes`` (ticks after that; none: once, at 0), each
    stroke held for the ``gate`` share of its time. ``touch`` is its own, if it has one.
    """

    id: str
    start_tick: int
    length_ticks: int
    voices: tuple[int, ...]
    root: int
    muted: tuple[int, ...] = ()
    tied: tuple[int, ...] = ()
    late_ticks: int = 0
    strikes: tuple[int, ...] = ()
    gate: float = 1.0
    touch: ChordTouch | None = None

    def __post_init__(self) -> None:
        where = f"chord {self.id}"
        _within(f"{where}: root", self.root, 0, 11)
        _within(f"{where}: number of voices", len(self.voices), 1, spec.MAX_VOICES)
        for voice in self.voices:
            _within(f"{where}: voice", voice, spec.LOWEST_VOICE, spec.HIGHEST_VOICE)
        _within(f"{where}: gate", self.gate, spec.MIN_GATE, 1.0)
        if self.start_tick < 0 or self.length_ticks < 1:
            raise CloudriftError(f"{where} must start at tick 0 or later and last at least 1 tick")
        for name in ("muted", "tied"):
            strange = set(getattr(self, name)) - set(self.voices)
            if strange:
                raise CloudriftError(f"{where}: {name} names {min(strange)}, which is no voice")
        if not 0 <= self.late_ticks < self.length_ticks:
            raise CloudriftError(
                f"{where} is {self.late_ticks} ticks late, but lasts only {self.length_ticks}"
            )
        if len(self.strikes) > spec.MAX_STRIKES:
            raise CloudriftError(f"{where} is struck more than {spec.MAX_STRIKES} times")
        if list(self.strikes) != sorted(set(self.strikes)) or min(self.strikes, default=0) < 0:
            raise CloudriftError(f"{where}: strikes must rise from 0 ticks, each there once")

    @property
    def end_tick(self) -> int:
        """The first tick behind it."""
        return self.start_tick + self.length_ticks

    @property
    def sounding(self) -> tuple[int, ...]:
        """The voices that are not muted."""
        return tuple(v for v in self.voices if v not in self.muted)

    @property
    def hits(self) -> tuple[tuple[int, int], ...]:
        """Where it is struck and how long each stroke is held, in ticks from the loop's start.

        Strikes that a shorter chord has left no room for are passed over, but come again with it.
        """
        first = self.start_tick + self.late_ticks
        starts = [first + strike for strike in self.strikes or (0,)]
        starts = [s for s in starts if s < self.end_tick] or [first]
        ends = [*starts[1:], self.end_tick]
        return tuple(
            (start, max(1, round((end - start) * self.gate)))
            for start, end in zip(starts, ends, strict=True)
        )

    def read(self, key: Key) -> ChordReading:
        """Name it in a key."""
        return read_chord(self.voices, key, root_hint=self.root)


_Item = TypeVar("_Item", bound="Chord | Layer | Group")


class SoundUse(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Which sound a layer plays, of which design, with which settings off their defaults.

    An own sound is carried along, recordings and all. One that is not known here, or a newer
    design, is kept as it is, and silent.
    """

    name: str
    version: int = 1
    settings: Settings = ()
    own: OwnSound | None = None

    def __post_init__(self) -> None:
        if self.known:
            self.of.spec.check(self.settings, f"sound {self.name}")

    @property
    def known(self) -> bool:
        """Whether this program knows it, in its design."""
        return self.own.known if self.own else find_design(self.name, self.version) is not None

    @property
    def fields(self) -> tuple[Field, ...]:
        """What can be set of it: nothing of one that is not known."""
        return self.of.spec.fields if self.known else ()

    @property
    def of(self) -> Instrument:
        """The instrument, in the design that the loop was made with."""
        if self.own:
            return self.own.instrument
        return find_design(self.name, self.version) or unknown_sound(self.name, self.version)


# Notes that have been looked at, by the identity of their tuple: an edit of anything else leaves
# them the same object, and looking at thousands again would cost more than the edit.
_LOOKED_AT: dict[int, "_Looked"] = {}
_LOOKED_AT_MOST = 512


class _Looked(NamedTuple):
    """Notes that were looked at, where the last of them ends, and those that are not muted."""

    notes: tuple[Note, ...]
    end_tick: int
    sounding: tuple[Note, ...]


def looked_at(own: tuple[Note, ...], where: str) -> _Looked:
    """Check own notes, once, and return what is known of them.

    They are in order, each with an id, in reach; a wrong one is named by its place.
    """
    known = _LOOKED_AT.get(id(own))
    if known is not None and known.notes is own:
        return known
    _within(f"{where}: number of notes", len(own), 0, MOST)
    if len({note.id for note in own}) != len(own) or any(note.id < 1 for note in own):
        raise CloudriftError(f"{where}: each note needs an id of its own, from 1 up")
    before, end = (-1, 0), 0
    for i, note in enumerate(own):
        start, length, pitch = note.start_tick, note.length_ticks, note.pitch
        place = (start, pitch)
        if place < before or start < 0 or length < 1:
            raise CloudriftError(
                f"{where}: note {i} at tick {start} is out of order or has no length"
            )
        if not (abs(note.offset_ms) <= MOST_MS and 0 <= note.glide_ms <= MOST_MS):
            raise CloudriftError(
                f"{where}: note {i} is {note.offset_ms:g} ms away or glides for {note.glide_ms:g} "
                f"ms; neither may be more than {MOST_MS:g} ms"
            )
        if not (LOWEST <= pitch <= HIGHEST and 1 <= note.velocity <= 127):
            raise CloudriftError(
                f"{where}: note {i} has pitch {pitch} and velocity {note.velocity}; they "
                f"must lie between {LOWEST} and {HIGHEST} and between 1 and 127"
            )
        before, end = place, max(end, start + length)
    if len(_LOOKED_AT) >= _LOOKED_AT_MOST:
        _LOOKED_AT.clear()
    sounding = tuple(n for n in own if not n.muted)
    known = _Looked(own, end, own if len(sounding) == len(own) else sounding)
    _LOOKED_AT[id(own)] = known
    return known


class OtherSound(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A layer's second sound: kept aside (``every_bars`` 0), or in turn with the first."""

    use: SoundUse
    every_bars: int = 0

    def __post_init__(self) -> None:
        _within("bars until the sounds take turns", self.every_bars, 0, 16)


class Layer(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A sound that looks at the chords through a lens, with its touch, place and treatments.

    ``level_db`` at its lowest is silence; ``pan`` goes from -1 (left) to 1 (right). A parked layer
    is kept, silent and out of the way. With notes of its ``own`` it has let go of the chords: lens
    and touch rest. It may belong to a ``group``, which has a line of its own. ``other`` is a second
    sound, kept aside or taking turns with the first. A ``level_ride`` (dB) stands in for the level.
    ``line_blend`` (0-1) is how much of the treated sound is heard against the bare one.
    """

    id: str
    name: str
    role: Role
    sound: SoundUse
    lens: Lens = Lens()
    touch: Touch = Touch()
    level_db: float = 0.0
    pan: float = 0.0
    mute: bool = False
    parked: bool = False
    line: Line = ()
    line_blend: float = 1.0
    own: tuple[Note, ...] | None = None
    group: str = ""
    other: OtherSound | None = None
    level_ride: Ride | None = None

    def __post_init__(self) -> None:
        where = f"layer {self.id}"
        if self.level_ride:
            check_ride(self.level_ride, LEVEL, where)
        check_name("a layer", self.name)
        _within(f"{where}: level", self.level_db, spec.MIN_LEVEL_DB, spec.MAX_LEVEL_DB, " dB")
        _within(f"{where}: pan", self.pan, -1, 1)
        _check_line(where, self.line, self.line_blend)
        if self.own:
            looked_at(self.own, where)

    @property
    def follows(self) -> bool:
        """Whether it follows the chords."""
        return self.own is None

    @property
    def text(self) -> str:
        """What it plays, in words."""
        if self.own is None:
            return self.lens.text
        return f"{plural(len(self.own), 'note')} of its own" if self.own else "no notes yet"

    @property
    def all_sounds(self) -> tuple[SoundUse, ...]:
        """The sounds that it has, also one kept aside."""
        return (self.sound, self.other.use) if self.other else (self.sound,)

    @property
    def sounds(self) -> tuple[SoundUse, ...]:
        """The sounds that are heard in it: one, or two in turn."""
        return self.all_sounds if self.other and self.other.every_bars else (self.sound,)


def _check_line(where: str, line: Line, blend: float) -> None:
    _within(f"{where}: number of treatments", len(line), 0, spec.MAX_TREATMENTS)
    _within(f"{where}: blend of its line", blend, 0, 1)
    _unique(where, (t.id for t in line))
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
        _within(f"{where}: level", self.level_db, spec.MIN_LEVEL_DB, spec.MAX_LEVEL_DB, " dB")
        _within(f"{where}: pan", self.pan, -1, 1)
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
        _within("tempo", self.tempo, spec.MIN_TEMPO_BPM, spec.MAX_TEMPO_BPM, " BPM")
        _within("bars", self.bars, spec.MIN_BARS, spec.MAX_BARS)
        _within("draw", self.draw, 0, MAX_DRAW)
        if self.rate not in RATES:
            raise CloudriftError(f"rate is {self.rate} Hz, but must be one of {RATES}")
        if self.metre[0] not in spec.BEATS or self.metre[1] not in spec.BEAT_UNITS:
            raise CloudriftError(
                f"metre {self.metre[0]}/{self.metre[1]} is not supported; take 2 to 12 beats "
                "of quarters or eighths"
            )
        _within("number of layers", len(self.layers), 0, spec.MAX_LAYERS)
        ids = [*(layer.id for layer in self.layers), *(group.id for group in self.groups)]
        _unique("layers and groups", ids)
        there = {"", *(group.id for group in self.groups)}
        for layer in self.layers:
            if layer.group not in there:
                raise CloudriftError(f"layer {layer.id} is in group {layer.group}, which is not")
            if layer.own and looked_at(layer.own, layer.id).end_tick > self.ticks:
                raise CloudriftError(
                    f"layer {layer.id} has a note that ends behind the loop's end at {self.ticks}"
                )
        _unique("chords", (chord.id for chord in self.chords))
        _check_line("the whole loop", self.line, self.line_blend)
        self._check_chord_places()
        _within("length that is heard", self.sounding_frames / self.rate, 0, spec.MAX_SOUNDING_S,
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
        found += [f"the sound {use.name} (design {use.version}), silent in {x.name}"
                  for x in self.layers for use in x.all_sounds if not use.known]  # fmt: skip
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

    def owner(self, owner: str | None) -> "Layer | Group | Loop":
        """Return what has a line: a layer or a group by id, or the whole loop for None."""
        if owner is None:
            return self
        owners: tuple[Layer | Group, ...] = (*self.layers, *self.groups)
        return _by_id(owners, owner, "layer or group")

    def line_of(self, owner: str | None) -> Line:
        """Return the line of a layer or a group, or of the whole loop for None."""
        return self.owner(owner).line

    def heard(self) -> tuple[Layer, ...]:
        """Return the layers that sound: those that are not off or parked, nor is their group."""
        off = {group.id for group in self.groups if group.mute}
        return tuple(x for x in self.layers if not (x.parked or x.mute or x.group in off))

    def notes_of(self, layer: Layer) -> tuple[Note, ...]:
        """Return a layer's notes as played.

        A chord's own touch is for the layers that strike whole chords; a pad under it, a broken
        chord over it and the bass go on in their own way.
        """
        if layer.own is not None:
            return looked_at(layer.own, layer.id).sounding if layer.own else ()
        return _notes(layer.lens, layer.touch, self.spans, self.key, bar_ticks(self.metre))

    @property
    def striker(self) -> Layer | None:
        """The layer in which the chords themselves are heard: the first that strikes them."""
        heard = self.heard()
        striking = [x for x in heard if x.follows and x.lens.kind in STRIKING]
        return next(iter(striking or heard), None)


@functools.lru_cache(maxsize=256)
def _notes(
    lens: Lens, touch: Touch, spans: tuple[Span, ...], key: Key, bar: int
) -> tuple[Note, ...]:
    own = {}
    if lens.kind in STRIKING:
        own = {i: span.touch for i, span in enumerate(spans) if span.touch is not None}
    return play(look(lens, spans, key, bar), touch, own)


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
