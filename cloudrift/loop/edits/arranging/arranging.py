"""Arranging: what a section is as a loop, and edits of sections and seams.

Edits go from one document to the next, for sections stand beside the loop.
"""

import functools
from collections.abc import Callable, Iterable
from functools import partial
from typing import Any

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import NAME_TYPED, free_name, number
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.chords.progression import put_chords
from cloudrift.loop.model import spec
from cloudrift.loop.model.bed import Bed, hits_of
from cloudrift.loop.model.document import WHOLE, Document
from cloudrift.loop.model.layer import Layer, new_id
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.section_rides import SectionRide, check_section_ride
from cloudrift.loop.model.sections import (
    MOST_MINUTES,
    MOST_SECTIONS,
    MOST_TAKES,
    Arrangement,
    PartState,
    Section,
    VoiceTake,
)
from cloudrift.texture.treatment import Treatment, time_ratio
from cloudrift.theory.key import Key


def section_loop(document: Document, section_id: str = WHOLE) -> Loop:
    """Return the loop that a section is; that of the document for none.

    Plan, pictures and files work on it unchanged. It is as long as the loop: a section that has
    more bars turns it. Raises CloudriftError for one that is not there.
    """
    if section_id == WHOLE:
        return document.loop
    return loop_in(document.loop, document.arrangement.section(section_id))


def loop_in(loop: Loop, section: Section) -> Loop:
    """Return a loop as it is in a section.

    It is asked for by pictures, marks and sheets alike after each edit, so what was made of the
    very same values is kept for a while.
    """
    return _loop_in(_Same(loop), _Same(section))


class _Same:
    """A value known by being that very one: to compare loops takes longer than to make one."""

    __slots__ = ("value",)

    def __init__(self, value: Any) -> None:
        self.value = value

    def __hash__(self) -> int:
        return id(self.value)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Same) and self.value is other.value


@functools.lru_cache(maxsize=512)
def _loop_in(of: _Same, in_section: _Same) -> Loop:
    loop: Loop = of.value
    section: Section = in_section.value
    if section.key is not None and section.key != loop.key:
        loop = loop_edits.set_key(loop, section.key)
    if section.chords:
        loop = put_chords(loop, section.chords, bars=loop.bars)
    if section.line:
        loop = replace(loop, line=(*loop.line, *_fresh(section.line, loop)))
    bed = loop.bed
    if bed is not None:
        lanes = tuple(_in(lane, section.part(lane.id)) for lane in bed.lanes)
        bed = replace(bed, lanes=lanes, group=replace(bed.group, mute=not section.bed))
    return replace(
        loop,
        layers=tuple(_in(layer, section.part(layer.id)) for layer in loop.layers),
        bed=bed,
        over=section.over,
        level_db=section.level_db,
    )


def _in(layer: Layer, part: PartState) -> Layer:
    if part.plain:
        return layer
    changes: dict[str, Any] = {}
    if part.on is not None:
        changes = {"mute": not part.on, "parked": layer.parked and not part.on}
    if part.level_db:
        changes["level_db"] = min(
            max(layer.level_db + part.level_db, spec.MIN_LEVEL_DB), spec.MAX_LEVEL_DB
        )
    layer = replace(layer, **changes)
    if part.pattern and any(one.name == part.pattern for one in hits_of(layer).patterns):
        layer = replace(layer, source=replace(hits_of(layer), plays=part.pattern))
    return layer


def _fresh(line: Iterable[Treatment], loop: Loop) -> list[Treatment]:
    """Treatments under ids that the whole loop's line has not got."""
    taken = [t.id for t in loop.line]
    out = []
    for treatment in line:
        made = replace(treatment, id=new_id("t", taken))
        taken.append(made.id)
        out.append(made)
    return out


def seconds_of(document: Document) -> float:
    """Return how long the arrangement lasts, without what its seams add."""
    return sum(_section_s(document.loop, section) for section in document.arrangement.sections)


def _section_s(loop: Loop, section: Section) -> float:
    """What of a section says how long it lasts is its lines: to make the whole loop takes long."""
    frames = round(float(loop.exact_frames) * time_ratio((*loop.line, *section.line)))
    return section.bars * frames / loop.rate / loop.bars


# --- edits ----------------------------------------------------------------------------------------


def arrange(document: Document, **changes: Any) -> Document:
    """Return a document with fields of its arrangement changed; one too long is refused."""
    made = replace(document, arrangement=replace(document.arrangement, **changes))
    minutes = seconds_of(made) / 60
    if minutes > MOST_MINUTES:
        raise CloudriftError(
            f"that would last {minutes:.1f} minutes, but {MOST_MINUTES:g} are the most; make a "
            "section shorter"
        )
    return made


def change_section(
    document: Document, section_id: str, edit: Callable[[Section], Section]
) -> Document:
    """Change a section."""
    document.arrangement.section(section_id)
    return arrange(
        document,
        sections=tuple(
            edit(one) if one.id == section_id else one for one in document.arrangement.sections
        ),
    )


def set_section(document: Document, section_id: str, **changes: Any) -> Document:
    """Set fields of a section."""
    return change_section(document, section_id, lambda one: replace(one, **changes))


def set_part(document: Document, section_id: str, owner: str, **changes: Any) -> Document:
    """Say what a layer or a lane does in a section: ``on``, ``level_db``, ``pattern``.

    Raises CloudriftError for a pattern that a lane has not got, or a layer at all.
    """
    layer = document.loop.layer(owner)
    if name := changes.get("pattern"):
        there = (
            [one.name for one in hits_of(layer).patterns] if layer in document.loop.lanes else []
        )
        if name not in there:
            known = (
                f"it has {', '.join(there)}" if there else "only lanes of the groove bed have any"
            )
            raise CloudriftError(f"{layer.name} has no pattern {name!r}; {known}")
    return change_section(
        document,
        section_id,
        lambda one: one.with_part(replace(one.part(owner), **changes)),
    )


def set_seam(document: Document, section_id: str, **changes: Any) -> Document:
    """Change what happens at the change into a section.

    Raises CloudriftError for what would begin before the section before it does.
    """
    made = change_section(
        document, section_id, lambda one: replace(one, seam=replace(one.seam, **changes))
    )
    sections = made.arrangement.sections
    at = next(i for i, one in enumerate(sections) if one.id == section_id)
    seam, a_bar = sections[at].seam, document.loop.metre[0]
    if at:
        beats = a_bar * sections[at - 1].bars
        closing = seam.sweep_bars * a_bar if seam.sweep == "closes" else 0.0
        reach = max(
            seam.riser_bars * a_bar, closing, seam.sag_beats, seam.silence_beats, seam.lead_beats
        )
        if reach > beats:
            raise CloudriftError(
                f"the change into {sections[at].name} would begin {reach:g} beats before it, but "
                f"{sections[at - 1].name} has {beats}; take fewer"
            )
    return made


def set_ride(
    document: Document,
    section_id: str,
    ride: SectionRide | None,
    *,
    what: tuple[str, str, str] | None = None,
) -> Document:
    """Let a value ride over a section, in the place of what it rode before; None: it stands again.

    Raises CloudriftError for what is not there or cannot ride.
    """
    if ride is not None:
        check_section_ride(document.loop, ride)
        what = ride.what
    return change_section(
        document,
        section_id,
        lambda one: replace(
            one, rides=(*(x for x in one.rides if x.what != what), *([ride] if ride else []))
        ),
    )


def add_take(document: Document, clips: tuple[str, ...], at_s: float) -> Document:
    """Keep a take of a trial voice, and let it be heard; raise CloudriftError for one too many."""
    arrangement = document.arrangement
    if len(arrangement.takes) == MOST_TAKES:
        raise CloudriftError(f"there are {MOST_TAKES} takes already; forget one first")
    names = {one.name for one in arrangement.takes}
    number = next(n for n in range(1, MOST_TAKES + 1) if f"Take {n}" not in names)
    made = VoiceTake(
        id=new_id("v", (one.id for one in arrangement.takes)),
        clips=clips,
        name=f"Take {number}",
        at_s=round(at_s, 4),
    )
    return arrange(document, takes=(*arrangement.takes, made), voice=made.id)


def set_take(document: Document, take_id: str, **changes: Any) -> Document:
    """Set fields of a take of a trial voice."""
    return arrange(
        document,
        takes=tuple(
            replace(one, **changes) if one.id == take_id else one
            for one in document.arrangement.takes
        ),
    )


def forget_take(document: Document, take_id: str) -> Document:
    """Let a take go; where it was heard, the one before it is."""
    kept = tuple(one for one in document.arrangement.takes if one.id != take_id)
    heard = document.arrangement.voice
    if heard == take_id:
        heard = kept[-1].id if kept else ""
    return arrange(document, takes=kept, voice=heard)


def _new(arrangement: Arrangement) -> str:
    return new_id("s", (one.id for one in arrangement.sections))


def add_section(document: Document, name: str = "Section", bars: int = 0) -> Document:
    """Put a section at the end: the loop as it is, twice round unless said otherwise."""
    arrangement = document.arrangement
    if len(arrangement.sections) == MOST_SECTIONS:
        raise CloudriftError(f"there are {MOST_SECTIONS} sections already; take one out first")
    bars = bars or min(2 * document.loop.bars, 64)
    names = [one.name for one in arrangement.sections]
    made = Section(id=_new(arrangement), name=free_name(name, names), bars=bars)
    return arrange(document, sections=(*arrangement.sections, made))


def copy_section(document: Document, section_id: str) -> tuple[Document, str]:
    """Put a copy of a section behind it, which remembers where it is from; return its id too."""
    arrangement = document.arrangement
    old = arrangement.section(section_id)
    names = [one.name for one in arrangement.sections]
    made = replace(
        old,
        id=_new(arrangement),
        name=free_name(old.name[:NAME_TYPED], names),
        copied_from=section_id,
    )
    at = arrangement.sections.index(old) + 1
    sections = (*arrangement.sections[:at], made, *arrangement.sections[at:])
    return arrange(document, sections=sections), made.id


def remove_section(document: Document, section_id: str) -> Document:
    """Take a section out; copies of it stand by themselves."""
    arrangement = document.arrangement
    arrangement.section(section_id)
    kept = (one for one in arrangement.sections if one.id != section_id)
    sections = tuple(
        replace(one, copied_from="") if one.copied_from == section_id else one for one in kept
    )
    return arrange(document, sections=sections)


def move_section(document: Document, section_id: str, by: int) -> Document:
    """Move a section earlier or later, as far as it goes."""
    sections = list(document.arrangement.sections)
    at = sections.index(document.arrangement.section(section_id))
    sections.insert(min(max(at + by, 0), len(sections) - 1), sections.pop(at))
    return arrange(document, sections=tuple(sections))


def repeat_all(document: Document, times: int = 2) -> Document:
    """Let all sections come round so many times: a minute becomes three."""
    once, total = document.arrangement.sections, list(document.arrangement.sections)
    if not once:
        raise CloudriftError("there is no section yet; draw a form, or add one")
    if len(once) * times > MOST_SECTIONS:
        raise CloudriftError(f"that would be more than {MOST_SECTIONS} sections")
    for _ in range(times - 1):
        for one in once:
            names, ids = [x.name for x in total], [x.id for x in total]
            total.append(
                replace(
                    one,
                    id=new_id("s", ids),
                    copied_from=one.id,
                    name=free_name(one.name[:NAME_TYPED], names),
                )
            )
    return arrange(document, sections=tuple(total))


def set_bars(document: Document, section_id: str, bars: int) -> Document:
    """Give a section another length in bars."""
    return set_section(document, section_id, bars=bars)


def relative_of(key: Key) -> Key:
    """Return the relative key: of minor the major on its third, of major the minor on its sixth.

    Of a mode it is the major or minor of the same notes, where there is one.
    """
    minor = 3 in {(pc - key.pc) % 12 for pc in key.scale}
    mode, usual = ("major", 3) if minor else ("minor", -3)
    plain = Key("C", mode)  # spelled as is usual in that mode
    found = [plain.shifted(key.pc + by) for by in (usual, *range(12))]
    return next((one for one in found if set(one.scale) == set(key.scale)), found[0])


# --- differing ------------------------------------------------------------------------------------


class Difference:
    """One thing in which a section differs from the one it was copied from."""

    def __init__(self, words: str, back: Callable[[Document], Document]) -> None:
        """``back`` takes it back."""
        self.words, self.back = words, back


def differences(document: Document, section_id: str) -> list[Difference]:
    """Return in what a section differs from the one that it was copied from."""
    arrangement = document.arrangement
    here = arrangement.section(section_id)
    if not here.copied_from:
        return []
    there = arrangement.section(here.copied_from)
    out = []
    for owner in document.loop.layers:
        one, other = there.part(owner.id), here.part(owner.id)
        if one != other:
            out.append(
                Difference(
                    f"{owner.name} {_part_words(owner, one, other)}", _back_parts(section_id, [one])
                )
            )
    out += _lanes_differ(document, there, here)
    for name, words in (
        ("bars", f"{here.bars} bars rather than {there.bars}"),
        ("bed", "with the groove bed" if here.bed else "without the groove bed"),
        ("level_db", f"{number(here.level_db - there.level_db, '+g')} dB"),
        ("key", f"in {here.key.text}" if here.key else "in the loop's key"),
        ("chords", "chords of its own" if here.chords else "the loop's chords"),
        ("line", "other treatments on the loop"),
        ("over", "other treatments on all of it"),
        ("rides", "other rides"),
        ("seam", f"the change into it: {', '.join(here.seam.happens) or 'plain'}"),
    ):
        if getattr(here, name) != getattr(there, name):
            out.append(Difference(words, _back(section_id, name, getattr(there, name))))
    return out


def _lanes_differ(document: Document, there: Section, here: Section) -> list[Difference]:
    """What lanes do otherwise; where all of them do the same otherwise, that is one thing."""
    changed: dict[str, list[tuple[Layer, PartState]]] = {}
    for lane in document.loop.lanes:
        one, other = there.part(lane.id), here.part(lane.id)
        if one != other:
            changed.setdefault(_part_words(lane, one, other), []).append((lane, one))
    out = []
    for words, of in changed.items():
        if len(of) == len(document.loop.lanes) > 1:
            said = words.replace("plays", "play").replace("is ", "are ")
            out.append(
                Difference(f"all drums {said}", _back_parts(here.id, [one for _lane, one in of]))
            )
        else:
            out += [
                Difference(f"{lane.name} {words}", _back_parts(here.id, [one])) for lane, one in of
            ]
    return out


def _back_parts(section_id: str, parts: list[PartState]) -> Callable[[Document], Document]:
    def back(document: Document) -> Document:
        for part in parts:
            document = change_section(document, section_id, partial(_with_part, part))
        return document

    return back


def _with_part(part: PartState, section: Section) -> Section:
    return section.with_part(part)


def _back(section_id: str, name: str, value: object) -> Callable[[Document], Document]:
    return lambda document: set_section(document, section_id, **{name: value})


def _part_words(owner: Layer, before: PartState, now: PartState) -> str:
    parts = []
    if before.on != now.on:
        plays = not owner.mute and not owner.parked if now.on is None else now.on
        parts.append("is in" if plays else "is out")
    if before.level_db != now.level_db:
        parts.append(f"{number(now.level_db - before.level_db, '+g')} dB")
    if before.pattern != now.pattern:
        parts.append(f"plays pattern {now.pattern}" if now.pattern else "plays as in the loop")
    return ", ".join(parts)


def heard_in(loop: Loop, section: Section) -> tuple[Layer, ...]:
    """Return the layers and lanes that are heard in a section."""
    made = loop_in(loop, section)
    bed: Bed | None = made.bed
    return (*made.heard(), *(bed.heard if bed else ()))
