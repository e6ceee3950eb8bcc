"""The notes of a loop as MIDI files: written, heard, a file for each layer, the groove bed."""

from functools import partial

import numpy as np
from numpy.typing import NDArray

from cloudrift.deliver.making import Making
from cloudrift.deliver.names import slug
from cloudrift.deliver.parcel import Parcels
from cloudrift.loop.edits.bed.bed_midi import bed_parts
from cloudrift.loop.model.layer import Layer
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.sounding import key_heard, notes_of
from cloudrift.loop.sounding.heard import FAINT_DB, PLAIN
from cloudrift.loop.sounding.rows import Rows
from cloudrift.loop.sounding.score import sounding
from cloudrift.notes.midi import midi_file
from cloudrift.notes.note import HIGHEST, LOWEST, Note, in_order
from cloudrift.theory.key import Key

LEAST_TICKS = 15  # what is shorter is no note
LOUD_VELOCITY = 100  # of the loudest note that is known of a print


def _with_notes(loop: Loop) -> list[Layer]:
    return [layer for layer in loop.heard() if layer.recorded is None]


def midi_of(loop: Loop, layers: list[Layer]) -> bytes:
    """Return layers' notes as played, a track a layer, as a MIDI file."""
    parts = [(layer.name, notes_of(loop, layer)) for layer in layers]
    return _file_of(loop, parts, loop.key, loop.tempo)


def heard_midi_of(loop: Loop) -> bytes:
    """Return what sounds of each layer as a MIDI file: when and as high as it is after all lines.

    Prints and flips are in it with the notes that are known of them, each to its nearest key.
    """
    parts = [(layer.name, heard_notes(loop, layer)) for layer in loop.heard()]
    parts = [(name, notes) for name, notes in parts if notes]
    return _file_of(loop, parts, key_heard(loop), loop.sounding_tempo)


def heard_notes(loop: Loop, layer: Layer) -> tuple[Note, ...]:
    """Return the notes that sound of a layer, each to its nearest key, at its velocity.

    What is heard softer than the loudest by FAINT_DB, or only guessed, is left out. Of a note that
    goes round the loop's end the longer part is there: a file does not go round.
    """
    rows = _sure(loop, layer)
    if not len(rows):
        return ()
    written = () if layer.recorded else notes_of(loop, layer)
    loudest = float(rows["db"].max())
    rows = rows[~_rest_round_end(rows, loop.ticks)]
    out: dict[tuple[int, int], Note] = {}
    for row in rows[rows["db"] > loudest + FAINT_DB]:
        pitch = round(row["cents"] / 100)
        start = round(row["start"])
        length = round(row["end"]) - start
        if length < LEAST_TICKS or not LOWEST <= pitch <= HIGHEST:
            continue
        velocity = (
            written[int(row["note"])].velocity
            if written
            else round(LOUD_VELOCITY * 10 ** ((row["db"] - loudest) / 40))
        )
        note = Note(start_tick=start, length_ticks=length, pitch=pitch, velocity=max(1, velocity))
        had = out.get((start, pitch))
        if had is None or had.length_ticks < length:
            out[start, pitch] = note
    return in_order(out.values())


def _sure(loop: Loop, layer: Layer) -> Rows:
    """What sounds of a layer at pitches that are known."""
    rows = sounding(loop, layer).notes
    return rows[~np.isnan(rows["cents"]) & (rows["sure"] >= PLAIN)]


def _rest_round_end(rows: Rows, ticks: int) -> NDArray[np.bool_]:
    """Which rows are the shorter part of one that goes round the loop's end."""
    out = np.zeros(len(rows), bool)
    same = ("note", "who", "cents")
    last = np.flatnonzero(rows["end"] >= ticks - 0.5)
    for first in np.flatnonzero(rows["start"] < 0.5):
        for other in last:
            if all(rows[name][first] == rows[name][other] for name in same) and first != other:
                long = [float(rows["end"][at] - rows["start"][at]) for at in (first, other)]
                out[first if long[0] < long[1] else other] = True
    return out


def _file_of(
    loop: Loop, parts: list[tuple[str, tuple[Note, ...]]], key: Key, tempo: float
) -> bytes:
    return midi_file(
        parts,
        tempo=tempo,
        metre=loop.metre,
        signature=key.signature_name,
        loop_ticks=loop.ticks,
        title=loop.title,
    )


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
    if any(len(_sure(shelf.loop, layer)) for layer in shelf.loop.heard()):
        shelf.bytes(
            "heard midi",
            ("heard",),
            ".mid",
            "the notes that sound, after all treatments, in the sounding key and tempo",
            lambda making: heard_midi_of(making.loop),
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
