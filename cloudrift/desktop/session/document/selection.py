"""What is selected, and what is left of that when the loop changes."""

from collections.abc import Mapping
from dataclasses import dataclass, replace

from cloudrift.loop.model.bed import BED
from cloudrift.loop.model.loop import LineAt, Loop


@dataclass(frozen=True, kw_only=True)
class Selection:
    """What is selected: a chord and one of its voices, a layer, a line (None: the whole loop's).

    ``more`` are further chords selected with the one in front; ``through`` says that the voice is
    meant in all chords that its thread goes through. ``notes`` are ids of the layer's own notes.
    """

    chord_id: str = ""
    more: tuple[str, ...] = ()
    voice: int = -1
    through: bool = False
    layer_id: str = ""
    line_of: LineAt = None
    treatment_id: str = ""
    notes: frozenset[int] = frozenset()

    @property
    def chord_ids(self) -> tuple[str, ...]:
        """All selected chords."""
        return (self.chord_id, *self.more) if self.chord_id else ()


def first_selection(loop: Loop) -> Selection:
    """Return what is selected in a loop that was just opened."""
    return Selection(
        chord_id=loop.chords[0].id if loop.chords else "",
        layer_id=loop.layers[0].id if loop.layers else "",
        line_of=None,
    )


def owners_of(loop: Loop) -> set[object]:
    """Return the ids of all whose line can be selected; of the groove bed only where it is."""
    return {one for one in loop.ids if one != BED or loop.bed}


def only_there(what: Mapping[str, object], loop: Loop) -> dict[str, object]:
    """Drop from a wish to select whatever the loop has not got.

    A picture of a loop that was may still ask, on its way out.
    """
    chords: set[object] = {"", *(chord.id for chord in loop.chords)}
    layers: set[object] = {"", *(layer.id for layer in loop.layers)}
    owners: set[object] = {None, *owners_of(loop)}
    known: dict[str, set[object]] = {"chord_id": chords, "layer_id": layers, "line_of": owners}
    return {
        name: value for name, value in what.items() if name not in known or value in known[name]
    }


def still_there(selection: Selection, loop: Loop) -> Selection:
    """Drop what no longer exists from a selection."""
    first = first_selection(loop)
    chords = {chord.id: chord for chord in loop.chords}
    more = tuple(c for c in selection.more if c in chords and selection.chord_id in chords)
    selection = replace(selection, more=more)
    if selection.chord_id not in chords:
        selection = replace(selection, chord_id=first.chord_id, voice=-1)
    elif selection.voice >= len(chords[selection.chord_id].voices):
        selection = replace(selection, voice=-1)
    layers = {layer.id for layer in loop.layers}
    if selection.layer_id not in layers:
        selection = replace(selection, layer_id=first.layer_id)
    if selection.notes:
        own = loop.layer(selection.layer_id).own if selection.layer_id else None
        there = {note.id for note in own or ()}
        selection = replace(selection, notes=selection.notes & there)
    if selection.line_of is not None and selection.line_of not in owners_of(loop):
        selection = replace(selection, line_of=None)
    return selection
