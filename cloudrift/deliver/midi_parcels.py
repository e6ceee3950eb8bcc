"""The notes of a loop as MIDI files: written, heard, a file for each layer, the groove bed."""

from functools import partial

from msgspec.structs import replace

from cloudrift.deliver.making import Making
from cloudrift.deliver.names import slug
from cloudrift.deliver.parcel import Parcels
from cloudrift.loop.edits.bed.bed_midi import bed_parts
from cloudrift.loop.model.layer import Layer
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.sounding import key_heard, notes_of
from cloudrift.notes.midi import midi_file
from cloudrift.notes.note import Note


def _with_notes(loop: Loop) -> list[Layer]:
    return [layer for layer in loop.heard() if layer.recorded is None]


def midi_of(loop: Loop, layers: list[Layer], *, heard: bool = False) -> bytes:
    """Return layers' notes as played, a track a layer, as a MIDI file; in the key and tempo heard.

    What is moved out of the MIDI range by that is left an octave nearer.
    """
    key, tempo = (key_heard(loop), loop.sounding_tempo) if heard else (loop.key, loop.tempo)
    shift = (key.pc - loop.key.pc + 6) % 12 - 6
    parts = [
        (layer.name, tuple(_moved(note, shift) for note in notes_of(loop, layer)))
        for layer in layers
    ]
    return midi_file(
        parts,
        tempo=tempo,
        metre=loop.metre,
        signature=key.signature_name,
        loop_ticks=loop.ticks,
        title=loop.title,
    )


def _moved(note: Note, semitones: int) -> Note:
    pitch = note.pitch + semitones
    while not 0 <= pitch <= 127:
        pitch += 12 if pitch < 0 else -12
    return replace(note, pitch=pitch) if semitones else note


def add_midi(shelf: Parcels) -> None:
    """Add the written notes as one file."""
    layers = _with_notes(shelf.loop)
    if layers:
        shelf.bytes(
            "midi",
            (),
            ".mid",
            "the notes as played, one track per layer",
            lambda making: midi_of(making.loop, layers),
            treated=False,
        )


def add_heard_midi(shelf: Parcels) -> None:
    """Add the notes as they are heard, as one file."""
    layers = _with_notes(shelf.loop)
    if layers:
        shelf.bytes(
            "heard midi",
            ("heard",),
            ".mid",
            "the notes in the sounding key and tempo",
            lambda making: midi_of(making.loop, layers, heard=True),
            treated=True,
        )


def add_layer_midi(shelf: Parcels) -> None:
    """Add a file of notes for each layer."""
    for number, layer in enumerate(_with_notes(shelf.loop), 1):
        shelf.bytes(
            "layer midi",
            (f"notes-{number}-{slug(layer.name)}",),
            ".mid",
            f"the notes of {layer.name}",
            partial(_of_one, layer=layer),
            treated=False,
        )


def _of_one(making: Making, *, layer: Layer) -> bytes:
    return midi_of(making.loop, [layer])


def bed_midi_of(loop: Loop) -> bytes:
    """Return what the lanes of the groove bed play, a track a lane, at the tempo that is heard."""
    parts, drums = bed_parts(loop)
    return midi_file(
        parts,
        tempo=loop.sounding_tempo,
        metre=loop.metre,
        drums=drums,
        signature=key_heard(loop).signature_name,
        loop_ticks=loop.ticks,
        title=loop.title,
    )
