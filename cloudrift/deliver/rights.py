"""The rights sheet: every sound that went into a loop, whose it is, and who made the loop."""

import dataclasses
import json
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Literal

from msgspec.structs import replace

from cloudrift.deliver.cells import csv_of
from cloudrift.deliver.licences import Terms, terms_of
from cloudrift.deliver.page import in_list, page, table, words
from cloudrift.ground.words import number, together
from cloudrift.loop.edits.arranging.section_loops import section_loop
from cloudrift.loop.model.credits import ROYALTY_FREE, WHOLE, Credits
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.layer import Layer
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.recorded import FromRecording
from cloudrift.loop.model.sound_use import SoundUse
from cloudrift.loop.model.source import OwnNotes
from cloudrift.sound.catalogue import find_design

What = Literal["house sound", "own sound", "recording", "notes"]
Part = Literal["loop", "groove bed", "arrangement"]
HOUSE_MAKER, HOUSE_LICENCE = "Cloudrift", "made by the program, royalty-free"
SHARES_OFF = 0.01  # % that rounding may leave


@dataclass(frozen=True, kw_only=True)
class Entry:
    """One thing that went in, and where it is used.

    ``id`` stays the same as long as it is the same: of a recording the hash of its clip. ``where``
    are the layers (or lanes, or prints) it is in; ``parts`` what of all that is delivered has it.
    """

    id: str
    what: What
    name: str
    maker: str = ""
    licence: str = ""
    source: str = ""
    clip: str = ""
    where: tuple[str, ...] = ()
    parts: tuple[Part, ...] = ()
    confirmed: bool = False

    @property
    def terms(self) -> Terms:
        """What its licence lets one do; what the composer has looked into is clear.

        Notes that somebody is named for were shared by them: they are to be named.
        """
        terms = terms_of(self.licence)
        if self.what == "notes" and self.maker and not self.licence:
            terms = Terms(clear=True, credit=True)
        return dataclasses.replace(terms, clear=True, why="") if self.confirmed else terms

    @property
    def in_the_way(self) -> str:
        """What keeps it from being handed on royalty-free, and where it is used; or nothing."""
        terms = self.terms
        if terms.clear:
            return ""
        return f"{self.name}, in {together(self.where)}: {terms.why}"


@dataclass(frozen=True, kw_only=True)
class Sheet:
    """A rights sheet: of what, the entries, who made it, and what is still open, in sentences."""

    title: str
    entries: tuple[Entry, ...]
    credits: Credits
    open: tuple[str, ...]

    @property
    def complete(self) -> bool:
        """Whether it can be handed on under its licence."""
        return not self.open

    @property
    def to_name(self) -> tuple[str, ...]:
        """Who is to be named: makers whose licence asks it, each once."""
        found = (one.maker or one.name for one in self.entries if one.terms.credit)
        return tuple(dict.fromkeys(found))

    @property
    def licence_words(self) -> str:
        """The licence as files carry it, with whom to name."""
        licence = self.credits.licence or "licence not stated"
        return f"{licence}; name {together(self.to_name)}" if self.to_name else licence


def rights_of(document: Document, title: str = "") -> Sheet:
    """Return the rights sheet of a document: its loop, its groove bed, its arrangement."""
    found: dict[str, Entry] = {}
    loop = document.loop
    _gather(found, document, loop.heard(), "loop")
    if loop.bed is not None:
        _gather(found, document, loop.bed.heard, "groove bed")
    for section in document.arrangement.sections:
        made = section_loop(document, section.id)
        _gather(
            found, document, (*made.heard(), *(made.bed.heard if made.bed else ())), "arrangement"
        )
    if loop.chords and loop.chords_from:
        entry = _notes_entry(loop.chords_from, "", "the chords")
        _add(found, dataclasses.replace(entry, parts=("loop",)))
    confirmed = set(document.credits.confirmed)
    entries = tuple(
        dataclasses.replace(one, confirmed=one.id in confirmed) for one in found.values()
    )
    return Sheet(
        title=title or loop.title,
        entries=entries,
        credits=document.credits,
        open=_open(entries, document.credits),
    )


def rights_of_kit(title: str, sheets: Sequence[Sheet]) -> Sheet:
    """Return the sheet of several together: each entry once, people with their shares of all.

    A share is the mean of that person's in all of them. It is open what is open in any of them.
    """
    found: dict[str, Entry] = {}
    for sheet in sheets:
        for one in sheet.entries:
            where = tuple(f"{sheet.title}: {place}" for place in one.where)
            _add(found, dataclasses.replace(one, where=where))
    people: dict[str, Any] = {}
    for sheet in sheets:
        for person in sheet.credits.people:
            had = people.get(person.name)
            share = person.share / len(sheets) + (had.share if had else 0.0)
            did = tuple(dict.fromkeys((*(had.did if had else ()), *person.did)))
            people[person.name] = replace(person, share=min(WHOLE, share), did=did)
    first = sheets[0].credits if sheets else Credits()
    licences = {sheet.credits.licence for sheet in sheets}
    credits = Credits(
        people=tuple(replace(one, share=round(one.share, 2)) for one in people.values()),
        maker=first.maker,
        licence=first.licence if len(licences) == 1 else "",
    )
    open_ = [f"{sheet.title}: {line}" for sheet in sheets for line in sheet.open]
    if len(licences) > 1:
        open_.append(f"its loops are under {len(licences)} licences; give them all the same")
    return Sheet(title=title, entries=tuple(found.values()), credits=credits, open=tuple(open_))


# --- gathering ------------------------------------------------------------------------------------


def _gather(
    found: dict[str, Entry], document: Document, layers: Iterable[Layer], part: Part
) -> None:
    for layer in layers:
        for entry in _of_layer(document, layer, layer.name, frozenset()):
            _add(found, dataclasses.replace(entry, parts=(part,)))


def _add(found: dict[str, Entry], entry: Entry) -> None:
    had = found.get(entry.id)
    if had is None:
        found[entry.id] = entry
        return
    found[entry.id] = dataclasses.replace(
        had,
        where=tuple(dict.fromkeys((*had.where, *entry.where))),
        parts=tuple(dict.fromkeys((*had.parts, *entry.parts))),
        confirmed=had.confirmed and entry.confirmed,
    )


def _of_layer(
    document: Document, layer: Layer, where: str, through: frozenset[str]
) -> Iterator[Entry]:
    """What went into a layer; of one cut from a print, what went into that (``through`` it)."""
    source = layer.source
    flipped = layer.flipped
    if flipped is not None and flipped.print_id not in through:
        made = next((one for one in document.prints if one.id == flipped.print_id), None)
        if made is not None:
            recipe = document.printed(made)
            if recipe.chords and recipe.chords_from:
                yield _notes_entry(recipe.chords_from, "", f"the chords ({made.name})")
            for one in _printed(recipe, made.recipe.layers):
                yield from _of_layer(
                    document, one, f"{where} ({made.name})", through | {flipped.print_id}
                )
            return
    for use in source.sounds:
        yield from _of_sound(use, where)
    for recording in source.recordings:
        if isinstance(recording, FromRecording):
            yield _of_recording(recording, where)
    if isinstance(source, OwnNotes) and (source.origin or source.by):
        yield _notes_entry(source.origin, source.by, where)


def _notes_entry(origin: str, by: str, where: str) -> Entry:
    return Entry(
        id=f"notes {origin} {by}",
        what="notes",
        name=origin or f"notes by {by}",
        maker=by,
        source=origin,
        where=(where,),
    )


def _printed(loop: Loop, layers: Sequence[str]) -> list[Layer]:
    """What a print was made of: some of the layers, or of the groups, or all."""
    return [one for one in loop.heard() if not layers or not {one.id, one.group}.isdisjoint(layers)]


def _of_sound(use: SoundUse, where: str) -> Iterator[Entry]:
    own = use.own
    if own is None or own.house:
        name, version = (own.house, own.version) if own else (use.name, use.version)
        found = find_design(name, version)
        yield Entry(
            id=f"house {name} {version}",
            what="house sound",
            maker=HOUSE_MAKER,
            name=found.label if found else name,
            licence=HOUSE_LICENCE,
            source=f"design {version}",
            where=(where,),
        )
        return
    for recording in own.recordings:
        yield Entry(
            id=recording.clip,
            what="own sound",
            name=own.name,
            licence=own.licence,
            source=own.licence,
            clip=recording.clip,
            where=(where,),
        )


def _of_recording(recording: FromRecording, where: str) -> Entry:
    facts = recording.facts
    return Entry(
        id=recording.clip,
        what="recording",
        name=facts.name or "a recording",
        maker=facts.maker,
        licence=facts.licence,
        source=facts.origin,
        clip=recording.clip,
        where=(where,),
    )


# --- what is open ---------------------------------------------------------------------------------


def _open(entries: Sequence[Entry], credits: Credits) -> tuple[str, ...]:
    free = credits.licence == ROYALTY_FREE  # else all that is asked is to know each licence
    out = [one.in_the_way for one in entries if one.in_the_way and (free or not one.licence)]
    if not credits.licence:
        out.insert(0, "the licence that it is passed on under is not stated")
    if not credits.people:
        out.append("no author is named")
    elif abs(credits.shares - WHOLE) > SHARES_OFF:
        out.append(f"the shares add up to {number(credits.shares, '.2f')} %, not 100 %")
    return tuple(out)


# --- written --------------------------------------------------------------------------------------

COLUMNS = ("what", "name", "maker", "licence", "source", "recording", "used in", "part of", "clear")


def rows_of(sheet: Sheet) -> list[tuple[str, ...]]:
    """Return what the sheet lists, a row each, in the order of ``COLUMNS``."""
    return [
        (
            one.what,
            one.name,
            one.maker,
            one.licence,
            one.source,
            one.clip,
            "; ".join(one.where),
            ", ".join(one.parts),
            _clear(one),
        )
        for one in sheet.entries
    ]


def _clear(entry: Entry) -> str:
    terms = entry.terms
    if terms.clear:
        return "yes, confirmed by the composer" if entry.confirmed else "yes"
    return f"no: {terms.why}"


def as_text(sheet: Sheet) -> str:
    """Return the sheet as plain text."""
    credits = sheet.credits
    lines = [f"Rights sheet: {sheet.title}", f"Licence: {sheet.licence_words}"]
    if credits.maker:
        lines.append(f"Passed on by: {credits.maker}")
    lines += ["", "People"]
    lines += [
        f"  {one.name}: {', '.join(one.did) or 'named'}, {number(one.share, '.2f')} %"
        for one in credits.people
    ] or ["  no one is named"]
    lines += ["", "What went in"]
    for one in sheet.entries:
        facts = [one.what, *(x for x in (one.maker, one.licence) if x)]
        if one.source and one.source != one.licence:
            facts.append(one.source)
        lines.append(f"  {one.name}: {'; '.join(facts)}")
        lines.append(f"    used in {'; '.join(one.where)}")
        if one.clip:
            lines.append(f"    recording {one.clip}")
    lines += ["", "Open" if sheet.open else "Nothing is open."]
    lines += [f"  {line}" for line in sheet.open]
    return "\n".join(lines) + "\n"


def as_csv(sheet: Sheet) -> str:
    """Return the entries as CSV (RFC 4180): people first, as rows of their own kind."""
    people = [
        (
            "person",
            person.name,
            "",
            "",
            ", ".join(person.did),
            "",
            f"{number(person.share, '.2f')} %",
            "",
            "",
        )
        for person in sheet.credits.people
    ]
    return csv_of((COLUMNS, *people, *rows_of(sheet)))


def as_dict(sheet: Sheet) -> dict[str, Any]:
    """Return the sheet for JSON."""
    credits = sheet.credits
    return {
        "title": sheet.title, "licence": credits.licence, "maker": credits.maker,
        "name": list(sheet.to_name), "complete": sheet.complete, "open": list(sheet.open),
        "people": [{"name": one.name, "did": list(one.did), "share": one.share}
                   for one in credits.people],
        "entries": [
            {"id": one.id, "what": one.what, "name": one.name, "maker": one.maker,
             "licence": one.licence, "source": one.source, "clip": one.clip,
             "where": list(one.where), "parts": list(one.parts), "clear": bool(one.terms.clear),
             "credit": one.terms.credit, "not_alone": one.terms.not_alone,
             "confirmed": one.confirmed, "why": one.terms.why}
            for one in sheet.entries
        ],
    }  # fmt: skip


def as_json(sheet: Sheet) -> str:
    """Return the sheet as JSON, for programs."""
    return json.dumps(as_dict(sheet), indent=1, ensure_ascii=False) + "\n"


def as_html(sheet: Sheet) -> str:
    """Return the sheet as a page to print."""
    return page(
        f"Rights sheet: {sheet.title}",
        words("h1", sheet.title),
        words("p", "Rights sheet", "about"),
        parts_of_page(sheet),
    )


def parts_of_page(sheet: Sheet) -> str:
    """Return what the sheet says as HTML, without its title: a part of a page."""
    credits = sheet.credits
    people = [
        (one.name, ", ".join(one.did), f"{number(one.share, '.2f')} %") for one in credits.people
    ]
    entries = [
        (one.name, one.what, one.maker, one.licence, "; ".join(one.where), _clear(one))
        for one in sheet.entries
    ]
    return "\n".join(
        (
            words("p", f"Licence: {sheet.licence_words}"),
            words("p", f"Passed on by {credits.maker}") if credits.maker else "",
            in_list(sheet.open, "open") or words("p", "Nothing is open.", "good"),
            words("h2", "People"),
            table(("Name", "Role", "Share"), people, (2,)),
            words("h2", "What went in"),
            table(("Name", "What", "Maker", "Licence", "Used in", "Clear"), entries),
            in_list(f"{one.name}: recording {one.clip}" for one in sheet.entries if one.clip),
        )
    )
