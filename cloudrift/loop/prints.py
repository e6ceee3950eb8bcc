"""Prints: sound that was made of a loop, with the way back to it.

A print's sound is a function of its recipe: the loop that it was made from and what of it. The
sound is kept beside, so that it opens at once; the loop is kept once, by its content, however many
prints were made from it.
"""

import hashlib

import msgspec
from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import NAME_TYPED, free_name
from cloudrift.loop.document import Document, Print, Recipe, RecipeLoop
from cloudrift.loop.edits import bare_of
from cloudrift.loop.flipping import cut, cuts_at, flip_of, moved
from cloudrift.loop.model import Layer, Loop, new_id
from cloudrift.loop.recorded import Facts, FromRecording


def hash_of(loop: Loop) -> str:
    """Return the name of a loop's content."""
    return hashlib.blake2b(msgspec.json.encode(loop), digest_size=12).hexdigest()


def loop_to_print(loop: Loop, layers: tuple[str, ...] = (), *, bare: bool = False) -> Loop:
    """Return the loop that sounds as a print is to: all that is heard of it, or some layers alone.

    Layers (or groups) are printed through their own lines and without the whole loop's, for they
    go back into the loop. Raises CloudriftError where nothing would be heard.
    """
    if bare:
        loop = bare_of(loop)
    if layers:
        wanted = {x.id for x in loop.layers if x.id in layers or x.group in layers}
        kept = tuple(replace(x, mute=False, parked=False)
                     for x in loop.layers if x.id in wanted)  # fmt: skip
        opened = tuple(replace(group, mute=False) for group in loop.groups)
        loop = replace(loop, layers=kept, groups=opened, line=())
    if not loop.heard():
        raise CloudriftError("nothing of that is heard, so there is nothing to print")
    return loop


def facts_of_print(printed: Loop, name: str, frames: int, lufs: float) -> Facts:
    """Return what is known of a print: it is in the key and the tempo that its loop sounds in."""
    length = round(frames / printed.rate, 9)
    beat = 60 / printed.sounding_tempo
    beats = tuple(round(i * beat, 5) for i in range(int(length / beat + 1e-6)))
    return Facts(
        name=name, kind="loop", length_s=length, key=printed.sounding_key,
        tempo=printed.sounding_tempo, beats_s=beats[:1024], lufs=round(max(lufs, -100.0), 2),
        origin=f"printed from {printed.title}"[:80] if printed.title else "printed",
        maker="", licence="",
    )  # fmt: skip


def with_print(
    document: Document, printed: Loop, clip: str, facts: Facts, layers: tuple[str, ...],
    gain_db: float,
) -> Document:  # fmt: skip
    """Add a print to a document, and a parked layer in which it is a flip that changes nothing.

    ``printed`` is what it was made from; ``gain_db`` brings its sound back to what it was.
    """
    loop = document.loop
    made = Print(id=new_id("p", (one.id for one in document.prints)), name=facts.name, clip=clip,
                 recipe=Recipe(loop=hash_of(printed), layers=layers))  # fmt: skip
    shift = (printed.sounding_key.pc - printed.key.pc + 6) % 12 - 6
    chords = tuple(moved(chord, shift) for chord in printed.chords)
    of = FromRecording(clip=clip, facts=facts, fit="tempo", gain_db=gain_db)
    flip = flip_of(of, printed.ticks, chords, made.id)
    if chords:
        flip = cut(flip, cuts_at(flip, "chords", loop.metre))
    names = [layer.name for layer in loop.layers]
    layer = Layer(id=new_id("l", [*(x.id for x in loop.layers), *(g.id for g in loop.groups)]),
                  name=free_name(facts.name[:NAME_TYPED], names), role="keys", source=flip,
                  parked=True)  # fmt: skip
    loop = replace(loop, layers=(*loop.layers, layer))
    recipes = {one.content: one for one in document.recipes}
    recipes[hash_of(printed)] = RecipeLoop(content=hash_of(printed), loop=printed)
    return replace(document, loop=loop, prints=(*document.prints, made),
                   recipes=tuple(recipes.values()))  # fmt: skip


def recipe_of(document: Document, print_id: str) -> tuple[Print, Loop]:
    """Return a print and the loop that it was made from."""
    found = next((one for one in document.prints if one.id == print_id), None)
    if found is None:
        raise CloudriftError("that print is not there any more; print it anew")
    loop = next(one.loop for one in document.recipes if one.content == found.recipe.loop)
    return found, loop


def with_reprint(
    document: Document, print_id: str, printed: Loop, clip: str, facts: Facts, gain_db: float
) -> Document:  # fmt: skip
    """Put another sound in a print's place, made from another loop: all cut from it follows."""
    old, _loop = recipe_of(document, print_id)
    made = replace(old, clip=clip, recipe=replace(old.recipe, loop=hash_of(printed)))
    prints = tuple(made if one.id == print_id else one for one in document.prints)
    layers = []
    for layer in document.loop.layers:
        flip = layer.flipped
        if flip is not None and flip.print_id == print_id:
            of = replace(flip.of, clip=clip, gain_db=gain_db,
                         facts=replace(facts, name=flip.of.facts.name))  # fmt: skip
            layer = replace(layer, source=replace(flip, of=of))  # noqa: PLW2901
        layers.append(layer)
    used = {one.recipe.loop for one in prints}
    recipes = {one.content: one for one in document.recipes if one.content in used}
    recipes[hash_of(printed)] = RecipeLoop(content=hash_of(printed), loop=printed)
    loop = replace(document.loop, layers=tuple(layers))
    return replace(document, loop=loop, prints=prints, recipes=tuple(recipes.values()))
