"""What a section could differ by: small changes, as composers make them to a hook again."""

from collections.abc import Callable
from dataclasses import dataclass

from msgspec.structs import replace

from cloudrift.loop.edits.arranging.arranging import relative_of
from cloudrift.loop.edits.arranging.section_loops import heard_in
from cloudrift.loop.edits.bed.beds import BARE, SECOND
from cloudrift.loop.model.bed import hits_of
from cloudrift.loop.model.chord import Chord
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.sections import Section
from cloudrift.notes.time import TICKS_PER_QUARTER
from cloudrift.style.form import over_line

THINNER_DB, MOST = -5.0, 10
HATS = ("closed hat", "open hat")


@dataclass(frozen=True, kw_only=True)
class Variation:
    """A small change of a section, in few words."""

    words: str
    edit: Callable[[Section], Section]


def variations(document: Document, section: Section) -> list[Variation]:
    """Return what a section could differ by: no more than a few, none that it does already."""
    loop = document.loop
    heard = {x.id for x in heard_in(loop, section)}
    found: list[Variation] = []
    flips = [x for x in loop.layers if x.flipped is not None and x.id not in heard]
    for flip in flips[:1]:
        found.append(
            Variation(words=f"{flip.name} instead of the rest", edit=_instead(document, flip.id))
        )
    for layer in loop.layers:
        if layer.id not in heard and layer.flipped is None and not layer.parked:
            found.append(Variation(words=f"{layer.name} on", edit=_part(layer.id, on=True)))
    spare = [x for x in loop.layers if x.id in heard and x.role in ("pluck", "lead", "bell")]
    for layer in spare[:1]:
        found.append(Variation(words=f"{layer.name} off", edit=_part(layer.id, on=False)))
        found.append(
            Variation(
                words=f"{layer.name} {THINNER_DB:g} dB".replace("-", "−"),
                edit=_part(layer.id, level_db=THINNER_DB),
            )
        )
    lanes = [x for x in loop.lanes if x.id in heard]
    hats = [x for x in lanes if {use.name for use in x.source.sounds} & set(HATS)]
    if hats and len(hats) < len(lanes):
        found.append(
            Variation(
                words="without hats, for a breath", edit=_parts([x.id for x in hats], on=False)
            )
        )
    for name, words in ((SECOND, "drums play pattern B"), (BARE, "drums bare")):
        of = [
            x.id
            for x in lanes
            if any(one.name == name for one in hits_of(x).patterns)
            and section.part(x.id).pattern != name
        ]
        if of:
            found.append(Variation(words=words, edit=_parts(of, pattern=name)))
    low = [x.id for x in lanes if hits_of(x).on_roots]
    if low:
        found.append(Variation(words="low drums off", edit=_parts(low, on=False)))
    chords = section.chords or loop.chords
    if len(chords) > 2 and not section.chords:
        found += [
            Variation(words=words, edit=_with_chords(made))
            for words, made in (
                ("another first chord", _other_first(chords)),
                ("the last chord late", _late_last(chords)),
            )
            if made != chords
        ]
    if section.key is None:
        key = relative_of(loop.key)
        found.append(Variation(words=f"in {key.text}", edit=lambda one: replace(one, key=key)))
    if not section.over:
        water = over_line("underwater")
        found.append(Variation(words="underwater", edit=lambda one: replace(one, over=water)))
    return found[:MOST]


def _part(owner: str, **changes: object) -> Callable[[Section], Section]:
    return lambda one: one.with_part(replace(one.part(owner), **changes))


def _parts(owners: list[str], **changes: object) -> Callable[[Section], Section]:
    def edit(section: Section) -> Section:
        for owner in owners:
            section = section.with_part(replace(section.part(owner), **changes))
        return section

    return edit


def _with_chords(chords: tuple[Chord, ...]) -> Callable[[Section], Section]:
    return lambda one: replace(one, chords=chords)


def _other_first(chords: tuple[Chord, ...]) -> tuple[Chord, ...]:
    """Begin with what the third chord plays, and go on as before."""
    first, third = chords[0], chords[2]
    made = replace(
        third,
        id=first.id,
        start_tick=first.start_tick,
        late_ticks=0,
        strikes=(),
        length_ticks=first.length_ticks,
    )
    return (made, *chords[1:])


def _late_last(chords: tuple[Chord, ...]) -> tuple[Chord, ...]:
    """Let the last chord come half a beat late."""
    last = chords[-1]
    late = min(TICKS_PER_QUARTER // 2, last.length_ticks // 2)
    return chords if last.late_ticks else (*chords[:-1], replace(last, late_ticks=late))


def _instead(document: Document, flip: str) -> Callable[[Section], Section]:
    others = [x.id for x in document.loop.layers if x.id != flip and x.role != "bass"]

    def edit(section: Section) -> Section:
        return _part(flip, on=True)(_parts(others, on=False)(section))

    return edit
