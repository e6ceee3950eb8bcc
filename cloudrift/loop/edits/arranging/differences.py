"""In what a section is another than the one it was copied from, and the way back."""

from collections.abc import Callable
from functools import partial

from cloudrift.ground.words import number
from cloudrift.loop.edits.arranging.arranging import change_section, set_section
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.layer import Layer
from cloudrift.loop.model.sections import PartState, Section


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
        ("bars", f"{here.bars} bars instead of {there.bars}"),
        ("bed", "with the groove bed" if here.bed else "without the groove bed"),
        ("level_db", f"{number(here.level_db - there.level_db, '+g')} dB"),
        ("key", f"in {here.key.text}" if here.key else "in the loop's key"),
        ("tempo", f"at {here.tempo:g} BPM" if here.tempo else "at the loop's tempo"),
        ("chords", "chords of its own" if here.chords else "the loop's chords"),
        ("line", "other treatments on the loop"),
        ("over", "other treatments on the whole section"),
        ("rides", "other rides"),
        ("seam", f"seam before it: {', '.join(here.seam.happens) or 'plain'}"),
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
        parts.append("on" if plays else "off")
    if before.level_db != now.level_db:
        parts.append(f"{number(now.level_db - before.level_db, '+g')} dB")
    if before.pattern != now.pattern:
        parts.append(f"plays pattern {now.pattern}" if now.pattern else "plays as in the loop")
    return ", ".join(parts)
