"""Takes: what was played in, and what it becomes in a loop."""

from dataclasses import dataclass
from enum import Enum

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import plural
from cloudrift.loop.edits.layers import layer_edits, own_notes
from cloudrift.loop.edits.layers.from_notes import put_played
from cloudrift.loop.model.loop import Loop
from cloudrift.notes.note import Note
from cloudrift.notes.played import Played


class Becomes(Enum):
    """What is played becomes this."""

    CHORDS = "the chords"
    NEW = "a new layer"
    NOTES = "the layer's notes"
    MORE = "more of its notes"


@dataclass(frozen=True, kw_only=True)
class Take:
    """What was played, as it was played, and what it became."""

    number: int
    played: Played
    becomes: Becomes
    layer_id: str

    @property
    def text(self) -> str:
        """How it is called in a list."""
        return f"Take {self.number}: {plural(self.played.count, 'note')}"


def put_take(loop: Loop, take: Take, notes: tuple[Note, ...]) -> Loop:
    """Return a loop with a take as what it becomes."""
    if take.becomes is Becomes.CHORDS:
        return put_played(loop, notes)
    if take.becomes is Becomes.NEW:
        return _new_layer(loop, take, notes)
    if take.layer_id not in {layer.id for layer in loop.layers}:
        raise CloudriftError("the layer this take was recorded for no longer exists")
    if take.becomes is Becomes.NOTES:
        return own_notes.with_own(loop, take.layer_id, notes)
    loop = own_notes.detach(loop, take.layer_id)
    own = own_notes.own_of(loop, take.layer_id)
    there = {(n.start_tick, n.pitch) for n in own}
    more = [n for n in notes if (n.start_tick, n.pitch) not in there]
    return own_notes.with_own(loop, take.layer_id, [*own, *more])


def _new_layer(loop: Loop, take: Take, notes: tuple[Note, ...]) -> Loop:
    """A layer with the sound that was heard while it was played."""
    chosen = (x for x in loop.layers if x.id == take.layer_id and x.recorded is None)
    like = next(chosen, loop.striker)
    added = layer_edits.add_layer(loop, "felt upright", "Recorded")
    layer = added.layers[-1]
    if like is not None:
        added = layer_edits.set_source(added, layer.id, sound=like.played.sound)
        added = layer_edits.set_layer(added, layer.id, role=like.role)
    names = [x.name for x in loop.layers if x.name.startswith("Recorded")]
    name = f"Played in {len(names) + 1}" if names else "Recorded"
    added = layer_edits.set_layer(added, layer.id, name=name)
    return own_notes.with_own(added, layer.id, [replace(n, id=0) for n in notes])
