"""Marks of the arrangement: measured on its sections, before any of it is rendered."""

from collections.abc import Callable
from typing import Any

from msgspec.structs import replace

from cloudrift.loop.edits.arranging.section_loops import heard_in, loop_in, seconds_of
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.sections import Section
from cloudrift.loop.sounding import key_heard
from cloudrift.style.marks.kind import Found, Kind
from cloudrift.style.marks.view import View, names
from cloudrift.theory.key import Key

Sections = tuple[Section, ...]


def _document(view: View) -> Document:
    assert view.arrangement is not None
    return Document(loop=view.loop, arrangement=view.arrangement)


def _minutes(view: View, _sections: Sections) -> Found:
    return Found(value=seconds_of(_document(view)) / 60)


def _count(_view: View, sections: Sections) -> Found:
    return Found(value=float(len(sections)), where=names([one.name for one in sections]))


def _drums(view: View, section: Section) -> int:
    lanes = {lane.id for lane in view.loop.lanes}
    return sum(one.id in lanes for one in heard_in(view.loop, section))


def _layers(view: View, section: Section) -> int:
    return len(loop_in(view.loop, section).heard())


def _without_drums(view: View, sections: Sections) -> Found | None:
    if not view.loop.lanes:
        return None
    out = [one for one in sections if not _drums(view, one)]
    share = sum(one.bars for one in out) / sum(one.bars for one in sections)
    return Found(value=100 * share, where=names([one.name for one in out]))


def _first_drums(view: View, sections: Sections) -> Found | None:
    bars = 0
    for section in sections:
        if _drums(view, section):
            return Found(value=float(bars), where=section.name)
        bars += section.bars
    return None


def _fullness(view: View, sections: Sections) -> Found:
    counts = [_layers(view, one) for one in sections]
    thin, full = counts.index(min(counts)), counts.index(max(counts))
    return Found(
        value=float(counts[full] - counts[thin]),
        where=f"{sections[full].name} {counts[full]}, {sections[thin].name} {counts[thin]}",
    )


def _at_changes(_view: View, sections: Sections) -> Found | None:
    if len(sections) < 2:
        return None
    found = [len(one.seam.happens) for one in sections[1:]]
    where = names([one.name for one, count in zip(sections[1:], found, strict=True) if count])
    return Found(value=sum(found) / len(found), where=where)


def _elsewhere(view: View, sections: Sections) -> Found:
    here = key_heard(view.loop)
    other = [one for one in sections if _key_of(view, one) != here]
    share = sum(one.bars for one in other) / sum(one.bars for one in sections)
    return Found(value=100 * share, where=names([one.name for one in other]))


def _key_of(view: View, section: Section) -> Key:
    """The key that a section sounds in: of all layers, for few of them may leave it open."""
    if section.key is None and not (section.line or section.over or section.chords):
        return key_heard(view.loop)
    return key_heard(loop_in(view.loop, replace(section, parts=())))


def _under(_view: View, sections: Sections) -> Found:
    under = [one for one in sections if one.over]
    share = sum(one.bars for one in under) / sum(one.bars for one in sections)
    return Found(value=100 * share, where=names([one.name for one in under]))


def _kind(*, measure: Callable[[View, Sections], Found | None], **of: Any) -> Kind:
    """A kind of mark of the arrangement, measured where there is one."""

    def found(view: View) -> Found | None:
        sections = view.arrangement.sections if view.arrangement is not None else ()
        return measure(view, sections) if sections else None

    return Kind(group="Form", needs_form=True, measure=found, **of)


KINDS = (
    _kind(name="minutes", label="Arrangement length", unit="min", high=10, decimals=1,
         about="length of the arrangement", measure=_minutes),
    _kind(name="sections", label="Sections", unit="sections", high=24,
         about="number of sections", measure=_count),
    _kind(name="without_drums", label="Without drums", unit="%",
         about="share of bars without the groove bed",
         measure=_without_drums),
    _kind(name="first_drums", label="Drums enter after", unit="bars", high=64,
         about="bars before the first section with drums", measure=_first_drums),
    _kind(name="fullness", label="Fullest to thinnest", unit="layers", high=16,
         about="layers in the fullest section minus layers in the thinnest",
         measure=_fullness),
    _kind(name="at_changes", label="Events per seam", unit="events", high=6, decimals=1,
         about="mean number of events at a seam",
         measure=_at_changes),
    _kind(name="elsewhere", label="In another key", unit="%",
         about="share of bars in another key", measure=_elsewhere),
    _kind(name="under_treatment", label="With an effect", unit="%",
         about="share of bars with an effect on the whole section",
         measure=_under),
)  # fmt: skip
