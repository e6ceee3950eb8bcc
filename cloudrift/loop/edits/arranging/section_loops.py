"""What a section is as a loop, and how long an arrangement lasts."""

from collections.abc import Iterable
from typing import Any

from msgspec.structs import replace

from cloudrift.ground.lru import by_identity
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.chords.progression import put_chords
from cloudrift.loop.model.bed import Bed, hits_of
from cloudrift.loop.model.document import WHOLE, Document
from cloudrift.loop.model.layer import Layer, louder, new_id
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.sections import PartState, Section
from cloudrift.texture.treatment import Treatment, time_ratio


def section_loop(document: Document, section_id: str = WHOLE) -> Loop:
    """Return the loop that a section is; that of the document for none.

    Plan, pictures and files work on it unchanged. It is as long as the loop: a section that has
    more bars turns it. Raises CloudriftError for one that is not there.
    """
    if section_id == WHOLE:
        return document.loop
    return loop_in(document.loop, document.arrangement.section(section_id))


@by_identity(512)
def loop_in(loop: Loop, section: Section) -> Loop:
    """Return a loop as it is in a section.

    It is asked for by pictures, marks and sheets alike after each edit, so what was made of the
    very same values is kept for a while.
    """
    if section.key is not None and section.key != loop.key:
        loop = loop_edits.set_key(loop, section.key)
    if section.tempo:
        loop = loop_edits.set_tempo(loop, section.tempo)
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
        changes |= louder(layer, part.level_db)
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
    """What of a section says how long it lasts is its lines and its tempo: to make the whole loop
    takes long.
    """
    if section.tempo:
        loop = loop_edits.set_tempo(loop, section.tempo)
    frames = round(float(loop.exact_frames) * time_ratio((*loop.line, *section.line)))
    return section.bars * frames / loop.rate / loop.bars


def heard_in(loop: Loop, section: Section) -> tuple[Layer, ...]:
    """Return the layers and lanes that are heard in a section."""
    made = loop_in(loop, section)
    bed: Bed | None = made.bed
    return (*made.heard(), *(bed.heard if bed else ()))
