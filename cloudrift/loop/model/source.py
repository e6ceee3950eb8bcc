"""Where a layer's sound comes from: notes that follow the chords, notes of its own, a recording,
the pieces of one, or the hits of a drum.

A source is one of a tagged union: each answers what any of them can be asked (what it plays, how
long it rings, what it carries along), and each kind has a step of its own that renders it.
"""

import functools
from typing import ClassVar, NamedTuple, Union

import msgspec
from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import named, plural
from cloudrift.loop.model.around import SourceContext
from cloudrift.loop.model.checks import within
from cloudrift.loop.model.flip import Flipped
from cloudrift.loop.model.hits import Hits
from cloudrift.loop.model.recorded import FromRecording
from cloudrift.loop.model.sound_use import SoundUse
from cloudrift.notes.lens import Lens, look
from cloudrift.notes.note import HIGHEST, LOWEST, MOST, Note
from cloudrift.notes.span import Span
from cloudrift.notes.touch import Touch, play
from cloudrift.sound.own import Recording
from cloudrift.theory.key import Key

MOST_MS = 10_000.0  # that a note is away from its place, or glides
STRIKING = ("all", "top")  # lenses that see a chord as something struck at once


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
    within(f"{where}: number of notes", len(own), 0, MOST)
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
        if not -1 <= note.pan <= 1:
            raise CloudriftError(f"{where}: note {i} is panned to {note.pan:g}; it must be -1 to 1")
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
        within("bars between alternating sounds", self.every_bars, 0, 16)


class PlayedSource(
    msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, tag_field="kind"
):
    """Notes played with a sound. ``other`` is a second one, kept aside or in turn with the first.

    Where notes do not follow the chords, lens and touch rest until they do again.
    """

    follows: ClassVar[bool]  # whether it follows the chords

    sound: SoundUse
    other: OtherSound | None = None
    lens: Lens = Lens()
    touch: Touch = Touch()

    @property
    def all_sounds(self) -> tuple[SoundUse, ...]:
        """The sounds that it has, also one kept aside."""
        return (self.sound, self.other.use) if self.other else (self.sound,)

    @property
    def sounds(self) -> tuple[SoundUse, ...]:
        """The sounds that are heard in it: one, or two in turn."""
        return self.all_sounds if self.other and self.other.every_bars else (self.sound,)

    @property
    def sound_text(self) -> str:
        """What it is played with, in words."""
        return " / ".join(
            use.of.label if use.known else f"{use.of.label}: silent" for use in self.sounds
        )

    @property
    def is_silent(self) -> bool:
        """Whether nothing can be heard of it: none of its sounds is known here."""
        return not any(use.known for use in self.sounds)

    def rings_s(self, _tempo: float) -> float:
        """Return how long it goes on after its last note, in seconds."""
        return max(use.rings_s for use in self.sounds)

    @property
    def recordings(self) -> tuple[Recording, ...]:
        """The recordings that it carries along."""
        owns = (use.own for use in self.all_sounds if use.own)
        return tuple(one for own in owns for one in own.recordings)

    @property
    def unknown(self) -> tuple[str, ...]:
        """What of it this program does not know, in words."""
        return tuple(
            f"the sound {use.name} (design {use.version}), silent"
            for use in self.all_sounds
            if not use.known
        )


class FromChords(PlayedSource, frozen=True, kw_only=True, tag="chords"):
    """A sound that looks at the chords through a lens, played with a touch."""

    follows = True
    end_tick: ClassVar[int] = 0  # it is as long as the chords are

    def check(self, where: str) -> None:
        """It is right wherever it is."""

    @property
    def text(self) -> str:
        """What it plays, in words."""
        return self.lens.text

    def notes_in(self, around: SourceContext) -> tuple[Note, ...]:
        """Return its notes as played.

        A chord's own touch is for what strikes whole chords; a pad under it, a broken chord over
        it and the bass go on in their own way.
        """
        return _from_chords(self.lens, self.touch, around.spans, around.key, around.bar_ticks)


class OwnNotes(PlayedSource, frozen=True, kw_only=True, tag="notes"):
    """A sound that has let go of the chords and plays ``notes`` of its own.

    ``origin`` says where they are from (``the file ….mid``; nothing: written here), ``by`` who
    wrote them.
    """

    follows = False

    notes: tuple[Note, ...] = ()
    origin: str = ""
    by: str = ""

    def check(self, where: str) -> None:
        """Raise CloudriftError that names the place of a wrong note."""
        for field, what in (("origin", "an origin"), ("by", "a person")):
            named(self, what, field, may_be_empty=True)
        looked_at(self.notes, where)

    @property
    def end_tick(self) -> int:
        """Where its last note ends."""
        return looked_at(self.notes, "own notes").end_tick

    @property
    def text(self) -> str:
        """What it plays, in words."""
        return f"{plural(len(self.notes), 'note')} of its own" if self.notes else "no notes yet"

    def notes_in(self, around: SourceContext) -> tuple[Note, ...]:
        """Return its notes as played: all that are not muted."""
        del around  # they are what they are
        return looked_at(self.notes, "own notes").sounding


Source = Union[FromChords, OwnNotes, FromRecording, Flipped, Hits]  # noqa: UP007 - more of them come


def with_notes(source: PlayedSource, notes: tuple[Note, ...] | None) -> PlayedSource:
    """Return a source with notes of its own; for None one that follows the chords again."""
    if notes is None:
        return FromChords(
            sound=source.sound, other=source.other, lens=source.lens, touch=source.touch
        )
    if isinstance(source, OwnNotes):
        return replace(source, notes=notes)
    return OwnNotes(
        sound=source.sound, other=source.other, lens=source.lens, touch=source.touch, notes=notes
    )


@functools.lru_cache(maxsize=256)
def _from_chords(
    lens: Lens, touch: Touch, spans: tuple[Span, ...], key: Key, bar: int
) -> tuple[Note, ...]:
    own = {}
    if lens.kind in STRIKING:
        own = {i: span.touch for i, span in enumerate(spans) if span.touch is not None}
    return play(look(lens, spans, key, bar), touch, own)
