"""Sections, the seams between them, and the arrangement that they make.

A section says only how it differs from the loop: who plays, at what level, in which pattern, in
which key, after which treatments. What a section is as a loop, ``arranging.section_loop`` makes.
"""

from typing import Literal

import msgspec

from cloudrift.audio.clips import is_clip_name
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import named
from cloudrift.loop.model import spec
from cloudrift.loop.model.checks import unique, within
from cloudrift.loop.model.chord import Chord
from cloudrift.loop.model.section_rides import SectionRide
from cloudrift.texture.treatment import Line
from cloudrift.theory.key import Key

MOST_SECTIONS = 64
MOST_MINUTES = 20.0
MOST_BARS = 128  # of a section
MOST_OFFSET_DB = 24.0
MOST_RIDES, MOST_TAKES = 8, 16
Sweep = Literal["", "closes", "opens"]


def _count(value: float, what: str) -> str:
    return f"{value:g} {what}{'s' * (value != 1)}"


class PartState(
    msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True, forbid_unknown_fields=True
):
    """What a layer or a lane does in a section, where that is not what it does in the loop.

    ``on``: it plays, also where it is off or parked in the loop; False: it does not; None: as in
    the loop. ``level_db`` is added to its level; ``pattern`` is what a lane plays (none: as it is).
    """

    id: str
    on: bool | None = None
    level_db: float = 0.0
    pattern: str = ""

    def __post_init__(self) -> None:
        within(
            f"{self.id} in a section: level",
            self.level_db,
            -spec.MAX_LEVEL_DB - 48,
            MOST_OFFSET_DB,
            " dB",
        )

    @property
    def plain(self) -> bool:
        """Whether it says nothing."""
        return self.on is None and not self.level_db and not self.pattern


class Seam(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What happens at the seam before a section.

    Before it: a ``riser`` over that many bars, at ``riser_db``; drums that end with their last
    backbeat (``cut``), or play a ``fill`` in the last bar; a filter over ``sweep_bars`` that
    *closes* before it or *opens* after it; a tempo that ``sag_share`` of is left at the end of
    ``sag_beats``; nothing for ``silence_beats``. Into it: ``lead_beats`` of what comes, backward.
    At it: a ``crash``, a ``tag``; the last beat in a ``burst`` of reverb that rings into it. All
    levels are in dB against full scale; 0 bars or beats, or a level of -60, is nothing.
    """

    riser_bars: float = 0.0
    riser_db: float = -27.0
    cut: bool = False
    fill: bool = False
    sweep: Sweep = ""
    sweep_bars: float = 2.0
    sag_beats: float = 0.0
    sag_share: float = 0.6
    silence_beats: float = 0.0
    lead_beats: float = 0.0
    crash_db: float = spec.MIN_LEVEL_DB
    tag_db: float = spec.MIN_LEVEL_DB
    burst_db: float = spec.MIN_LEVEL_DB

    def __post_init__(self) -> None:
        for name, words, low, high, unit in (
            ("riser_bars", "riser", 0, 16, " bars"),
            ("riser_db", "riser's end", -60, 0, " dB"),
            ("sweep_bars", "filter over", 0.25, 16, " bars"),
            ("sag_beats", "tempo drops over", 0, 16, " beats"),
            ("sag_share", "tempo drops to a share of", 0.25, 1, ""),
            ("silence_beats", "silence before", 0, 16, " beats"),
            ("lead_beats", "lead-in", 0, 8, " beats"),
            ("crash_db", "crash", -60, 0, " dB"),
            ("tag_db", "tag", -60, 0, " dB"),
            ("burst_db", "reverb burst", -60, 0, " dB"),
        ):
            within(f"the seam before a section: {words}", getattr(self, name), low, high, unit)

    @property
    def happens(self) -> tuple[str, ...]:
        """What happens, a few words each, in order of time."""
        found = (
            (
                f"riser, {_count(self.riser_bars, 'bar')}",
                self.riser_bars > 0 and self.riser_db > -60,
            ),
            (f"filter {self.sweep}", bool(self.sweep)),
            ("fill", self.fill),
            ("drums stop", self.cut),
            (f"tempo to {self.sag_share * 100:.0f} %", self.sag_beats > 0 and self.sag_share < 1),
            (f"reversed pickup, {_count(self.lead_beats, 'beat')}", self.lead_beats > 0),
            (f"silence for {_count(self.silence_beats, 'beat')}", self.silence_beats > 0),
            ("reverb burst", self.burst_db > spec.MIN_LEVEL_DB),
            ("crash", self.crash_db > spec.MIN_LEVEL_DB),
            ("tag", self.tag_db > spec.MIN_LEVEL_DB),
        )
        return tuple(words for words, there in found if there)


class Section(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A part of the arrangement: the loop for that many bars, and how it differs from it.

    ``key``, ``tempo`` (BPM; 0: the loop's) and ``chords`` are its own where it has them; ``line``
    is added after the whole loop's, ``over`` lies on all of it, the groove bed too; ``rides`` go on
    over its whole length. ``bed``: the groove bed plays. ``seam`` is what happens at the change
    into it.
    """

    id: str
    name: str
    bars: int
    parts: tuple[PartState, ...] = ()
    bed: bool = True
    level_db: float = 0.0
    key: Key | None = None
    tempo: float = 0.0
    chords: tuple[Chord, ...] = ()
    line: Line = ()
    over: Line = ()
    rides: tuple[SectionRide, ...] = ()
    seam: Seam = Seam()
    copied_from: str = ""

    def __post_init__(self) -> None:
        named(self, "a section")
        if not self.name.strip():
            raise CloudriftError("a section needs a name; type at least one letter")
        within(f"section {self.name}: bars", self.bars, 1, MOST_BARS)
        within(f"section {self.name}: level", self.level_db, -60, MOST_OFFSET_DB, " dB")
        if self.tempo:
            lowest, highest = spec.MIN_TEMPO_BPM, spec.MAX_TEMPO_BPM
            within(f"section {self.name}: tempo", self.tempo, lowest, highest, " BPM")
        unique(f"section {self.name}", (one.id for one in self.parts))
        within(f"section {self.name}: number of rides", len(self.rides), 0, MOST_RIDES)
        unique(f"section {self.name}: rides", (" ".join(one.what) for one in self.rides))
        longest = max(
            self.seam.riser_bars, self.seam.sweep_bars if self.seam.sweep == "opens" else 0.0
        )
        if self.seam.sweep == "opens" and longest > self.bars:
            raise CloudriftError(
                f"section {self.name}: its filter opens over {longest:g} bars, but it has "
                f"{self.bars}; use fewer"
            )

    def part(self, owner: str) -> PartState:
        """Return what a layer or a lane does here."""
        return next((one for one in self.parts if one.id == owner), PartState(id=owner))

    def with_part(self, part: PartState) -> "Section":
        """Return it with what a layer or lane does; what says nothing is not kept."""
        others = tuple(one for one in self.parts if one.id != part.id)
        parts = others if part.plain else (*others, part)
        return msgspec.structs.replace(self, parts=tuple(sorted(parts, key=lambda one: one.id)))


class VoiceTake(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A voice that was sung over the arrangement on trial, from ``at_s`` on.

    ``clips`` follow each other, for a recording may not be as long as an arrangement.
    """

    id: str
    name: str
    clips: tuple[str, ...]
    at_s: float = 0.0
    gain_db: float = 0.0

    def __post_init__(self) -> None:
        named(self, "a take of the guide vocal")
        within(f"{self.name}: begins", self.at_s, 0, 60 * MOST_MINUTES, " s")
        within(f"{self.name}: level", self.gain_db, -60, MOST_OFFSET_DB, " dB")
        within(f"{self.name}: number of clips", len(self.clips), 1, 2 * MOST_MINUTES)
        for clip in self.clips:
            if not is_clip_name(clip):
                raise CloudriftError(f"{self.name}: {clip[:60]!r} does not name a recording")


class Arrangement(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Sections in order, and a line for all of it (the sum).

    ``takes`` of a trial voice are heard over it, the one that ``voice`` names; never written.
    """

    sections: tuple[Section, ...] = ()
    line: Line = ()
    takes: tuple[VoiceTake, ...] = ()
    voice: str = ""
    form: str = ""
    variation: int = 1

    def __post_init__(self) -> None:
        within("number of sections", len(self.sections), 0, MOST_SECTIONS)
        unique("sections", (one.id for one in self.sections))
        ids = {"", *(one.id for one in self.sections)}
        for one in self.sections:
            if one.copied_from not in ids:
                raise CloudriftError(
                    f"section {one.name} says that it was copied from {one.copied_from[:60]!r}, "
                    "which does not exist"
                )
        within("number of takes of the guide vocal", len(self.takes), 0, MOST_TAKES)
        unique("takes of the guide vocal", (one.id for one in self.takes))

    def section(self, section_id: str) -> Section:
        """Return a section by id; raise CloudriftError for one that is not there."""
        found = next((one for one in self.sections if one.id == section_id), None)
        if found is None:
            raise CloudriftError("that section no longer exists")
        return found

    @property
    def take(self) -> VoiceTake | None:
        """The take that is heard, if any is."""
        return next((one for one in self.takes if one.id == self.voice), None)

    @property
    def bars(self) -> int:
        """How many bars all sections have."""
        return sum(one.bars for one in self.sections)
