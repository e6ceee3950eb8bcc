"""A flip as a loop of its own: in what it sounds in, its chords what is heard now."""

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.document import Document
from cloudrift.loop.flipping import chords_now, heard_in, shift_of
from cloudrift.loop.flips import bars_of, flip_in
from cloudrift.loop.model import Loop
from cloudrift.notes.time import bar_ticks


def own_loop(loop: Loop, layer_id: str) -> Loop:
    """Return a loop with a flip alone, in the key that it sounds in, at the tempo that it goes at.

    It is as long as the flip. Its chords are what is heard now, place by place: in the new order,
    shifted. So lenses, another bass and a style card work on it at once. Raises CloudriftError
    where its key is not known.
    """
    flip, layer = flip_in(loop, layer_id), loop.layer(layer_id)
    facts = flip.of.facts
    if facts.key is None:
        raise CloudriftError(f"the key of {layer.name} is not known; say it in Layers first")
    shift = round(shift_of(flip, loop.tempo))
    bars = bars_of(flip, loop)
    chords = chords_now(heard_in(flip, bars * bar_ticks(loop.metre)), shift)
    return replace(
        loop, bars=bars, title=f"{loop.title} flipped".strip()[:60], key=facts.key.shifted(shift),
        chords=chords, groups=(), line=(),
        layers=(replace(layer, parked=False, mute=False, group=""),),
    )  # fmt: skip


def own_document(document: Document, layer_id: str) -> Document:
    """Return the same with the print that it was cut from, so that the way back goes along."""
    loop = own_loop(document.loop, layer_id)
    wanted = flip_in(document.loop, layer_id).print_id
    prints = tuple(one for one in document.prints if one.id == wanted)
    used = {one.recipe.loop for one in prints}
    recipes = tuple(one for one in document.recipes if one.content in used)
    return Document(loop=loop, prints=prints, recipes=recipes)
