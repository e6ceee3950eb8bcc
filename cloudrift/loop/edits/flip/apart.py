"""A flip as a loop of its own: in what it sounds in, its chords what is heard now."""

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.flip.flips import bars_of, flip_in
from cloudrift.loop.edits.layers.recordings import usual_gain
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.flip import Flipped
from cloudrift.loop.model.layer import Layer
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.sounding import chords_heard, key_heard


def own_loop(loop: Loop, layer_id: str) -> Loop:
    """Return a loop with a flip alone, in the key that it sounds in, at the tempo that it goes at.

    It is as long as the flip. Its chords are what is heard now, place by place: in the new order,
    shifted. So lenses, another bass and a style card work on it at once. It is as loud as it was
    printed or recorded, whatever its level among other layers. Raises CloudriftError where its key
    is not known.
    """
    flip, layer = flip_in(loop, layer_id), loop.layer(layer_id)
    facts = flip.of.facts
    if facts.key is None:
        raise CloudriftError(f"the key of {layer.name} is not known; enter it in Layers first")
    alone = replace(
        loop,
        bars=bars_of(flip, loop),
        title=f"{loop.title} flipped".strip()[:60],
        key=facts.key,
        chords=(),
        groups=(),
        line=(),
        layers=(_as_it_was(layer, flip),),
    )
    return replace(alone, key=key_heard(alone), chords=chords_heard(alone))


def _as_it_was(layer: Layer, flip: Flipped) -> Layer:
    """A flip's layer at no level of its own; a recording without the gain it was laid in with."""
    if not flip.print_id and flip.of.gain_db == usual_gain(flip.of.facts):
        flip = replace(flip, of=replace(flip.of, gain_db=0.0))
    return replace(layer, source=flip, parked=False, mute=False, group="", level_db=0.0, pan=0.0,
                   level_ride=None)  # fmt: skip


def own_document(document: Document, layer_id: str) -> Document:
    """Return the same with the print that it was cut from, so that the way back goes along."""
    loop = own_loop(document.loop, layer_id)
    wanted = flip_in(document.loop, layer_id).print_id
    prints = tuple(one for one in document.prints if one.id == wanted)
    used = {one.recipe.loop for one in prints}
    recipes = tuple(one for one in document.recipes if one.content in used)
    return Document(loop=loop, prints=prints, recipes=recipes)
