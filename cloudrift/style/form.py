"""Forms: orders of sections to arrange a loop in. ``docs/arranging.md`` has the format."""

import functools
from collections.abc import Mapping
from typing import Annotated, Literal

import msgspec
import numpy as np
from msgspec.structs import replace

from cloudrift.ground.draws import rng_for
from cloudrift.ground.errors import CloudriftError, did_you_mean
from cloudrift.ground.reading import read_toml, shipped
from cloudrift.loop.edits.arranging.arranging import arrange, relative_of
from cloudrift.loop.edits.bed.beds import BARE, SECOND
from cloudrift.loop.model.bed import hits_of
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.layer import Layer
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.sections import MOST_BARS, Arrangement, PartState, Seam, Section
from cloudrift.style.card import Card
from cloudrift.texture.catalogue import find_kind
from cloudrift.texture.finish import Finish
from cloudrift.texture.finish_files import house_finishes, own_finishes
from cloudrift.texture.treatment import Line, Treatment

Turns = Annotated[float, msgspec.Meta(gt=0, le=16)]
Who = Literal["all", "most", "few", "one", "texture", "sub"]
Drums = Literal["none", "all", "no low", "hats", "backbeat", "scattered", "bare", "other"]
Over = Literal["", "underwater", "thin", "dark"]
HATS, BACKS, KICKS = ("closed hat", "open hat"), ("snare", "clap", "snap"), ("kick", "low kick")
SHARES: dict[str, float] = {"all": 1.0, "most": 0.75, "few": 0.5, "one": 0.0}
# The order in which layers are missed least when they go.
SPARE = ("bell", "grain", "lead", "strings", "voice", "pluck", "bass", "pad", "keys")
WHOLE_LOOP = "whole loop"  # a tag of finishes
THIN_DB, SCATTERED_DB = -8.0, -6.0


class FormSection(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A section of a form.

    Parameters
    ----------
    turns : how often the loop goes round in it.
    who : how many of the layers play; ``texture``: only what is held; ``sub``: and what is low.
    drums : which of the bed; *other* plays pattern B, *bare* the bare one.
    over : what lies on all of it.
    again : the name of an earlier section that this is a copy of.
    change : of a copy: one more layer is in, or one is out, by the variation.
    relative : in the relative key.
    slower_st : slowed by that many semitones, as tape is; the bed goes along in time, not in pitch.
    low : low drums and basses play.
    """

    name: str
    turns: Turns = 1
    who: Who = "all"
    drums: Drums = "all"
    over: Over = ""
    level_db: float = 0.0
    again: str = ""
    change: bool = False
    low: bool = True
    relative: bool = False
    slower_st: Annotated[int, msgspec.Meta(ge=0, le=12)] = 0
    seam: Seam = Seam()


class Form(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """An order of sections, under a name."""

    name: str
    about: str
    sections: Annotated[tuple[FormSection, ...], msgspec.Meta(min_length=1, max_length=24)]


def read_form(text: str, where: str) -> Form:
    """Read a form; raise CloudriftError that names the place of what is wrong."""
    form = read_toml(text, where, Form)
    names: list[str] = []
    for i, section in enumerate(form.sections):
        if section.again and section.again not in names:
            raise CloudriftError(
                f"{where}: sections[{i}] is {section.again!r} again, which does not come before it"
                f"{did_you_mean(section.again, names)}"
            )
        names.append(section.name)
    return form


@functools.cache
def forms() -> dict[str, Form]:
    """Return the forms that ship, by name."""
    found = shipped("cloudrift.style", "forms", read_form)
    return {one.name: one for one in sorted(found, key=lambda one: one.name)}


def find_form(name: str) -> Form:
    """Return a form by name; raise CloudriftError that says the nearest."""
    known = forms()
    if name not in known:
        raise CloudriftError(f"there is no form called {name!r}{did_you_mean(name, known)}")
    return known[name]


def suggest_form(document: Document, form: Form, variation: int = 1) -> Document:
    """Arrange a document in a form; ``variation`` decides which layers play.

    What was arranged before gives way; the line of all of it stays.
    """
    loop = document.loop
    made: list[Section] = []
    by_name: dict[str, Section] = {}
    for number, of in enumerate(form.sections, 1):
        rng = rng_for(variation, "form", form.name, number)
        bars = min(max(1, round(of.turns * loop.bars)), MOST_BARS)
        first = by_name.get(of.again)
        if first is not None:
            section = replace(
                first,
                id=f"s{number}",
                name=of.name,
                bars=bars,
                seam=of.seam,
                copied_from=first.id,
                level_db=of.level_db,
            )
            section = _changed(section, loop, rng) if of.change else section
        else:
            section = Section(
                id=f"s{number}",
                name=of.name,
                bars=bars,
                parts=_parts(loop, of, rng),
                bed=of.drums != "none",
                level_db=of.level_db,
                seam=of.seam,
                over=over_line(of.over),
                key=relative_of(loop.key) if of.relative else None,
                line=slowed_line(of.slower_st),
            )
        made.append(section)
        by_name.setdefault(of.name, section)
    arrangement = Arrangement(
        sections=tuple(made), line=document.arrangement.line, form=form.name, variation=variation
    )
    return arrange(replace(document, arrangement=arrangement))


def form_of(card: Card, variation: int) -> Form | None:
    """Return the form that a variation takes of a card's; None where it has none."""
    if card.form is None:
        return None
    forms_ = card.form.forms
    return find_form(forms_[int(rng_for(variation, "form of", card.name).integers(len(forms_)))])


def arranged_in_style(document: Document, card: Card, variation: int) -> Document:
    """Return a document arranged in a form of a card, where it has any."""
    form = form_of(card, variation)
    return document if form is None else suggest_form(document, form, variation)


def _parts(loop: Loop, of: FormSection, rng: np.random.Generator) -> tuple[PartState, ...]:
    """Who does otherwise than in the loop."""
    playing = loop.heard()
    out = [PartState(id=x.id, on=False) for x in playing if x not in _who(playing, of, rng)]
    for lane in loop.lanes:
        state = _lane(lane, of)
        if not state.plain:
            out.append(state)
    return tuple(sorted(out, key=lambda one: one.id))


def _who(
    playing: tuple[Layer, ...], of: FormSection, rng: np.random.Generator
) -> tuple[Layer, ...]:
    able = [x for x in playing if of.low or x.role != "bass"]
    if of.who in ("texture", "sub"):
        roles = ("pad", "strings", "voice", "grain", *(("bass",) if of.who == "sub" else ()))
        held = [x for x in able if x.role in roles]
        return tuple(held or able[:1])
    if of.who == "all":
        return tuple(able)
    # What can be spared goes first; among equals the variation decides.
    order = sorted(
        able, key=lambda x: (SPARE.index(x.role) if x.role in SPARE else 0, float(rng.random()))
    )
    kept = max(1, round(SHARES[of.who] * len(able)))
    chosen = order[len(order) - kept :]
    if of.who == "one" and len(able) > 1:  # the main melody, rather than what lies under it
        chosen = [next((x for x in able if x.role == "keys"), able[0])]
    return tuple(x for x in able if x in chosen)


def _lane(lane: Layer, of: FormSection) -> PartState:
    sounds, low = {use.name for use in lane.source.sounds}, hits_of(lane).on_roots
    names = {one.name for one in hits_of(lane).patterns}
    state = PartState(id=lane.id)
    out = {
        "none": False,
        "all": False,
        "other": False,
        "bare": False,
        "no low": low or bool(sounds & set(KICKS)),
        "hats": not sounds & set(HATS),
        "backbeat": not sounds & {*HATS, *BACKS},
        "scattered": low or bool(sounds & {*KICKS, *HATS}),
    }[of.drums]
    if out or (low and not of.low):
        return replace(state, on=False)
    if of.drums == "scattered":
        state = replace(state, level_db=SCATTERED_DB)
    wanted = {"other": SECOND, "bare": BARE, "scattered": BARE}.get(of.drums, "")
    return replace(state, pattern=wanted) if wanted in names else state


def _changed(section: Section, loop: Loop, rng: np.random.Generator) -> Section:
    """A copy with one small thing changed: a layer more, or one less, or other drums."""
    out = [x for x in loop.heard() if section.part(x.id).on is False]
    if out:
        back = out[int(rng.integers(len(out)))]
        return section.with_part(replace(section.part(back.id), on=None))
    spare = [x for x in loop.heard() if x.role not in ("bass", "keys")]
    lanes = [x for x in loop.lanes if any(p.name == SECOND for p in hits_of(x).patterns)]
    if lanes and (not spare or rng.random() < 0.5):
        for lane in lanes:
            section = section.with_part(replace(section.part(lane.id), pattern=SECOND))
        return section
    if not spare:
        return section
    one = spare[int(rng.integers(len(spare)))]
    return section.with_part(replace(section.part(one.id), level_db=THIN_DB))


def slowed_line(semitones: int) -> Line:
    """Return what a section adds to the whole loop's line to be so much slower, and lower."""
    if not semitones:
        return ()
    settings: tuple[tuple[str, float | str], ...] = (
        ("semitones", -float(semitones)),
        ("way", "like tape"),
    )
    version = find_kind("shift").version
    return (Treatment(id="t1", kind="shift", version=version, settings=settings),)


def slower_st(line: Line) -> int:
    """Return by how many semitones a section's line makes it slower; 0 for a line of its own."""
    return next((count for count in range(1, 13) if slowed_line(count) == line), 0)


def over_finishes() -> dict[str, Finish]:
    """Return the finishes that can lie on all of a section, by name: for a whole loop, or own."""
    found = (*house_finishes(), *own_finishes()[0])
    return {one.name: one for one in found if not one.house or WHOLE_LOOP in one.tags}


def over_in(loop: Loop, what: str, finishes: Mapping[str, Finish]) -> Line:
    """Return what lies on all of a section: one of ``over_line``, or a finish by name."""
    finish = finishes.get(what)
    return over_line(what) if finish is None else finish.laid_in(loop.key, loop.tempo)


def over_line(what: str) -> Line:
    """Return what lies on all of a section: underwater, through a small speaker, dark."""
    cuts: dict[str, dict[str, float]] = {
        "underwater": {"low_cut_hz": 90.0, "high_cut_hz": 620.0},
        "thin": {"low_cut_hz": 420.0, "high_cut_hz": 4200.0},
        "dark": {"high_cut_hz": 1800.0},
    }
    if what not in cuts:
        return ()
    kind = find_kind("cuts")
    return (
        Treatment(
            id="t1", kind="cuts", version=kind.version, settings=tuple(sorted(cuts[what].items()))
        ),
    )
