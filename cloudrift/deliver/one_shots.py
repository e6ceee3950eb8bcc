"""Each sound that a loop uses, struck once: for a sampler."""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from cloudrift.audio.buffers import Stereo
from cloudrift.deliver.names import slug
from cloudrift.deliver.rights import rights_of
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.sound_use import SoundUse
from cloudrift.loop.sounding import notes_of
from cloudrift.notes.note import Note
from cloudrift.notes.time import TICKS_PER_QUARTER, Clock
from cloudrift.render.engine.engine import Engine, trimmed
from cloudrift.sound.part import Part

HELD_S, TAIL_S = 2.0, 8.0
VELOCITY = 104
MIDDLE = 60  # where nothing else is known


@dataclass(frozen=True, kw_only=True)
class OneShot:
    """A sound as a layer has set it, and the note it is struck at."""

    name: str
    use: SoundUse
    pitch: int
    note: str  # its name, for a file: ``c4``

    @property
    def file_name(self) -> str:
        """Its name as a file, without an ending."""
        return f"sound-{slug(self.name)}-{self.note}"

    def render(self, engine: Engine, rate: int) -> Stereo:
        """Return it struck once, with what rings on: (2, frames)."""
        clock = Clock.of(60, rate)  # a quarter lasts a second
        ticks = round(HELD_S * TICKS_PER_QUARTER)
        held = Note(start_tick=0, length_ticks=ticks, pitch=self.pitch, velocity=VELOCITY)
        part = Part(
            notes=(held,),
            instrument=self.use.of,
            settings=self.use.settings,
            clock=clock,
            loop_ticks=ticks,
            frames=clock.frames(ticks) + int(TAIL_S * rate),
            once=True,
        )
        return trimmed(part.render(engine.tones), 1, rate)


def one_shots(document: Document) -> tuple[OneShot, ...]:
    """Return each sound that is used in a document, once, struck where it is mostly played.

    Sounds of recordings whose licence does not let them be handed on by themselves are left out.
    """
    loop = document.loop
    kept_back = {
        one.clip
        for one in rights_of(document).entries
        if one.clip and (one.terms.not_alone or not one.terms.clear)
    }
    found: dict[SoundUse, OneShot] = {}
    for use, pitch in _used(loop):
        own = use.own
        if use in found or not use.known:
            continue
        if own is not None and any(one.clip in kept_back for one in own.recordings):
            continue
        name = loop.key.spell_pitch(pitch).lower().replace("♯", "sharp").replace("♭", "flat")
        found[use] = OneShot(name=use.of.label, use=use, pitch=pitch, note=name)
    return tuple(found.values())


def _used(loop: Loop) -> Iterator[tuple[SoundUse, int]]:
    bed = loop.bed.heard if loop.bed else ()
    for layer in (*loop.heard(), *bed):
        notes = notes_of(loop, layer) if layer.recorded is None else ()
        pitches = [note.pitch for note in notes]
        middle = int(np.median(pitches)) if pitches else MIDDLE
        tonics = [middle + step for step in range(-6, 6) if (middle + step) % 12 == loop.key.pc]
        for use in layer.source.sounds:
            yield use, tonics[0] if pitches else middle
