"""Arranging: what a section is as a loop, and edits of sections and seams.

Edits go from one document to the next, for sections stand beside the loop.
"""

from collections.abc import Callable
from typing import Any

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import NAME_TYPED, free_name
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.arranging.section_loops import seconds_of
from cloudrift.loop.model.bed import hits_of
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.layer import new_id
from cloudrift.loop.model.section_rides import SectionRide, check_section_ride
from cloudrift.loop.model.sections import (
    MOST_MINUTES,
    MOST_SECTIONS,
    MOST_TAKES,
    Arrangement,
    Section,
    VoiceTake,
)
from cloudrift.theory.key import Key

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
                f"it has {', '.join(there)}"
                if there
                else "only lanes of the groove bed have patterns"
            )
            raise CloudriftError(f"{layer.name} has no pattern {name!r}; {known}")
    return change_section(
        document, section_id, lambda one: one.with_part(replace(one.part(owner), **changes))
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
                f"the seam into {sections[at].name} would start {reach:g} beats before it, but "
                f"{sections[at - 1].name} has {beats}; use fewer"
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
        raise CloudriftError(f"there are {MOST_TAKES} takes already; delete one first")
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
        raise CloudriftError(f"there are {MOST_SECTIONS} sections already; delete one first")
    bars = bars or min(2 * document.loop.bars, 64)
    names = [one.name for one in arrangement.sections]
    made = Section(id=_new(arrangement), name=free_name(name, names), bars=bars)
    return arrange(document, sections=(*arrangement.sections, made))


def copy_section(document: Document, section_id: str) -> tuple[Document, str]:
    """Put a copy of a section after it, which remembers where it is from; return its id too."""
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
    """Let all sections come round that many times: a minute becomes three."""
    once, total = document.arrangement.sections, list(document.arrangement.sections)
    if not once:
        raise CloudriftError("no sections yet; suggest an arrangement, or add a section")
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


def set_key(document: Document, section_id: str, key: Key | None) -> Document:
    """Give a section a key of its own, or the loop's (None); chords of its own go along."""
    section, own = document.arrangement.section(section_id), document.loop.key
    key = None if key == own else key
    chords = section.chords
    if chords:
        there = replace(document.loop, key=section.key or own, chords=chords, layers=())
        chords = loop_edits.set_key(there, key or own).chords
    return set_section(document, section_id, key=key, chords=chords)


def set_tempo(document: Document, section_id: str, tempo: float) -> Document:
    """Give a section a tempo of its own (BPM); that of the loop is no longer its own."""
    tempo = round(float(tempo), 2)
    own = 0.0 if abs(tempo - document.loop.tempo) < 0.005 else tempo
    return set_section(document, section_id, tempo=own)


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
