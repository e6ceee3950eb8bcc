"""What the groove bed plays under what is heard: lanes on roots follow the roots that sound."""

from cloudrift.loop.model.around import SourceContext, Swing
from cloudrift.loop.model.bed import BED
from cloudrift.loop.model.layer import Layer
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.sounding.heard import heard
from cloudrift.notes.note import Note
from cloudrift.notes.time import bar_ticks


def around_bed(loop: Loop) -> SourceContext:
    """Return what lanes may know of a loop: the key and the roots that are heard, and the swing."""
    found = heard(loop)
    swing = loop.bed.swings if loop.bed else Swing()
    return SourceContext(
        loop.spans, found.key, bar_ticks(loop.metre), loop.ticks, found.roots, swing
    )


def notes_of(loop: Loop, layer: Layer) -> tuple[Note, ...]:
    """Return a layer's notes as played; of a lane, those of the first sound of its stack."""
    return layer.source.notes_in(around_bed(loop) if layer.group == BED else loop.around)
