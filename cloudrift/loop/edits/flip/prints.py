"""Prints: sound that was made of a loop, with the way back to it.

A print's sound is a function of its recipe: the loop that it was made from and what of it. The
sound is kept beside, so that it opens at once; the loop is kept once, by its content, however many
prints were made from it.
"""

import hashlib

import msgspec
from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import NAME_TYPED, free_name, number, together
from cloudrift.loop.edits.flip.cutting import cut, cuts_at, flip_of
from cloudrift.loop.edits.flip.flips import with_layers_of
from cloudrift.loop.edits.layers.line_edits import bare_of
from cloudrift.loop.model.chord import Chord, lasting
from cloudrift.loop.model.document import (
    Document,
    Pass,
    Print,
    PrintedPart,
    Recipe,
    RecipeLoop,
    in_parts,
    in_pass,
)
from cloudrift.loop.model.flip import Flipped, Label
from cloudrift.loop.model.loop import Layer, Loop, new_id
from cloudrift.loop.model.recorded import Facts, FromRecording
from cloudrift.loop.sounding import chords_heard, key_heard
from cloudrift.loop.sounding.known import known_score
from cloudrift.notes.time import TICKS_PER_QUARTER


def hash_of(loop: Loop) -> str:
    """Return the name of a loop's content."""
    return hashlib.blake2b(msgspec.json.encode(loop), digest_size=12).hexdigest()


def loop_to_print(loop: Loop, layers: tuple[str, ...] = (), *, bare: bool = False) -> Loop:
    """Return the loop that sounds as a print is to: all that is heard of it, or some layers alone.

    Layers (or groups) are printed through their own lines and without the whole loop's, for they
    go back into the loop. Flips that are not heard are no part of it, nor is the groove bed. Raises
    CloudriftError where nothing would be heard.
    """
    loop = replace(loop, bed=None)
    if bare:
        loop = bare_of(loop)
    if layers:
        wanted = {x.id for x in loop.layers if x.id in layers or x.group in layers}
        kept = tuple(replace(x, mute=False, parked=False) for x in loop.layers if x.id in wanted)
        opened = tuple(replace(group, mute=False) for group in loop.groups)
        loop = replace(loop, layers=kept, groups=opened, line=())
    heard = {x.id for x in loop.heard()}
    loop = replace(loop, layers=tuple(x for x in loop.layers if not x.flipped or x.id in heard))
    if not heard:
        raise CloudriftError("none of that plays, so there is nothing to print")
    return loop


def facts_of_print(
    printed: Loop, name: str, frames: int, lufs: float, passes: tuple[Pass, ...] = ()
) -> Facts:
    """Return what is known of a print: the key, the tempo and the notes that its loop sounds in."""
    length = round(frames / printed.rate, 9)
    beat = 60 / printed.sounding_tempo
    beats = tuple(round(i * beat, 5) for i in range(int(length / beat + 1e-6)))
    return Facts(
        name=name,
        kind="loop",
        length_s=length,
        key=key_heard(printed),
        tempo=printed.sounding_tempo,
        beats_s=beats[:1024],
        lufs=round(max(lufs, -100.0), 2),
        origin=f"printed from {printed.title}"[:80] if printed.title else "printed",
        maker="",
        licence="",
        score=known_score(printed, passes),
    )


def with_print(
    document: Document,
    printed: Loop,
    clip: str,
    facts: Facts,
    layers: tuple[str, ...],
    gain_db: float,
    passes: tuple[Pass, ...] = (),
    *,
    bare: bool = False,
) -> Document:
    """Add a print to a document, and a parked layer in which it is a flip that changes nothing.

    ``printed`` is what it was made from; ``gain_db`` brings its sound back to what it was. Each of
    its ``passes`` has a label. ``bare``: it was to have no treatment.
    """
    made = Print(
        id=new_id("p", (one.id for one in document.prints)),
        name=facts.name,
        clip=clip,
        recipe=Recipe(loop=hash_of(printed), layers=layers, passes=passes, bare=bare),
        gain_db=gain_db,
    )
    document = _with_flip(document, made, printed, facts)
    recipes = (*document.recipes, RecipeLoop(content=hash_of(printed), loop=printed))
    return _tidied(replace(document, prints=(*document.prints, made), recipes=recipes))


def _with_flip(document: Document, made: Print, printed: Loop, facts: Facts) -> Document:
    """Add a parked layer in which a print is a flip that changes nothing."""
    loop = document.loop
    flip = _flip_of(made, printed, facts)
    if flip.chords:
        flip = cut(flip, cuts_at(flip, "chords", loop.metre))
    names = [layer.name for layer in loop.layers]
    layer = Layer(
        id=new_id("l", loop.ids),
        name=free_name(made.name[:NAME_TYPED], names),
        role="keys",
        source=flip,
        parked=True,
    )
    return document.with_loop(replace(loop, layers=(*loop.layers, layer)))


def _flip_of(made: Print, printed: Loop, facts: Facts) -> Flipped:
    """A print as a flip in which nothing is moved."""
    chords = chords_in(printed, made.recipe.passes)
    of = FromRecording(clip=made.clip, facts=facts, fit="tempo", gain_db=made.gain_db)
    labels = tuple(
        Label(at_tick=turn * printed.ticks, name=one.name)
        for turn, one in enumerate(made.recipe.passes)
    )
    ticks = printed.ticks * max(1, len(labels))
    return replace(flip_of(of, ticks, chords, made.id), labels=labels)


def chords_in(printed: Loop, passes: tuple[Pass, ...]) -> tuple[Chord, ...]:
    """Return the chords of a print: those that sound in what it was made from, in each pass."""
    turns = [in_pass(printed, one) for one in passes] or [printed]
    return tuple(
        replace(
            chord,
            id=f"c{turn}.{i + 1}" if turn else chord.id,
            start_tick=chord.start_tick + turn * printed.ticks,
        )
        for turn, loop in enumerate(turns)
        for i, chord in enumerate(_from_bar_lines(chords_heard(loop)))
    )


def _from_bar_lines(chords: tuple[Chord, ...]) -> list[Chord]:
    """Return chords that begin where the one before ends, where they are late by less than a beat:
    a piece that is cut at a chord has what rings before it.
    """
    out: list[Chord] = []
    for chord in chords:
        end = out[-1].end_tick if out else 0
        late = chord.start_tick - end
        out.append(lasting(chord, end, chord.end_tick) if 0 < late < TICKS_PER_QUARTER else chord)
    return out


def recipe_of(document: Document, print_id: str) -> tuple[Print, Loop]:
    """Return a print and the loop that it was made from."""
    found = next((one for one in document.prints if one.id == print_id), None)
    if found is None:
        raise CloudriftError("that print no longer exists; print again")
    return found, document.source_of(found)


def with_part(recipe: Recipe, part: PrintedPart) -> tuple[PrintedPart, ...]:
    """Return the parts of a recipe with one more, or otherwise; what says nothing is not kept."""
    others = tuple(one for one in recipe.parts if one.id != part.id)
    return tuple(sorted(others if part.plain else (*others, part), key=lambda one: one.id))


def soloed_parts(recipe: Recipe, loop: Loop, ids: frozenset[str]) -> tuple[PrintedPart, ...]:
    """Return the parts of a recipe in which only some layers of its loop are on; none: all are."""
    parts = recipe.parts
    for layer in loop.heard():
        part = replace(recipe.part(layer.id), on=not ids or layer.id in ids)
        parts = with_part(replace(recipe, parts=parts), part)
    return parts


def part_words(loop: Loop, part: PrintedPart) -> str:
    """Say in what a print differs from its loop: ``Undertow off``, ``Dusk keys -3 dB``."""
    at = part.id or None
    if at is not None and at not in loop.ids:
        return ""
    line = {x.id: x.of.label.lower() for x in loop.line_of(at) if x.known}
    says = [] if part.on else ["off"]
    says += [f"{number(part.level_db, '+g')} dB"] if part.level_db else []
    says += [f"without {line[x]}" for x in part.bypassed if x in line]
    return f"{loop.name_of(at)} {', '.join(says)}" if says else ""


def can_be_remade(document: Document, print_id: str) -> str:
    """Say why a print can't be made again from its recipe; nothing where it can."""
    found = next((one for one in document.prints if one.id == print_id), None)
    if found is None:
        return "Its recipe is gone: it can't be made again, only cut up."
    unknown = document.source_of(found).unknown
    if unknown:
        return (
            f"It was printed with {together(unknown)} of a newer program: it can't be made "
            "again here."
        )
    return ""


def with_reprint(
    document: Document,
    print_id: str,
    printed: Loop,
    clip: str,
    facts: Facts,
    gain_db: float,
    passes: tuple[Pass, ...] = (),
    parts: tuple[PrintedPart, ...] = (),
) -> Document:
    """Put another sound in a print's place, made from another loop: all cut from it follows.

    ``parts`` say in what it differs from that loop. What was printed from that does so when it is
    reprinted, too: see ``followers``.
    """
    old, _loop = recipe_of(document, print_id)
    recipe = replace(old.recipe, loop=hash_of(printed), passes=passes, parts=parts)
    made = replace(old, clip=clip, recipe=recipe, gain_db=gain_db)
    prints = tuple(made if one.id == print_id else one for one in document.prints)
    recipes = (*document.recipes, RecipeLoop(content=hash_of(printed), loop=printed))
    chords = chords_in(in_parts(printed, parts), passes)
    loop = with_clip_of(document.loop, print_id, clip, facts, gain_db, chords)
    return _tidied(replace(document, loop=loop, prints=prints, recipes=recipes))


def with_guessed_bare(document: Document) -> Document:
    """Return a document of a program that did not say which prints were to be bare: those whose
    loop has no treatment.
    """
    bare = {one.content for one in document.recipes if not _lines_of(one.loop)}
    prints = tuple(
        replace(one, recipe=replace(one.recipe, bare=True)) if one.recipe.loop in bare else one
        for one in document.prints
    )
    return replace(document, prints=prints)


def _lines_of(loop: Loop) -> bool:
    lines = (loop.line, *(x.line for x in loop.layers), *(x.line for x in loop.groups))
    return any(lines)


def with_clip_of(
    loop: Loop, print_id: str, clip: str, facts: Facts, gain_db: float, chords: tuple[Chord, ...]
) -> Loop:
    """Return a loop in which all that was cut from a print is cut from another clip of it.

    ``chords`` are those that sound in that; what is laid over other bars keeps those it had.
    """

    def follow(layer: Layer) -> Layer:
        flip = layer.flipped
        if flip is None or flip.print_id != print_id:
            return layer
        of = replace(
            flip.of, clip=clip, gain_db=gain_db, facts=replace(facts, name=flip.of.facts.name)
        )
        fits = chords and flip.chords and chords[-1].end_tick <= flip.length_ticks
        fits = fits and flip.longer == 1
        return replace(layer, source=replace(flip, of=of, chords=chords if fits else flip.chords))

    return replace(loop, layers=tuple(follow(layer) for layer in loop.layers))


def _tidied(document: Document) -> Document:
    """Return a document with each loop that a print was made from once, and no other."""
    used = {one.recipe.loop for one in document.prints}
    recipes = {one.content: one for one in document.recipes if one.content in used}
    return replace(document, recipes=tuple(recipes.values()))


def prints_in(loop: Loop) -> frozenset[str]:
    """Return the prints that layers of a loop are cut from."""
    return frozenset(x.flipped.print_id for x in loop.layers if x.flipped) - {""}


def followers(document: Document, print_id: str) -> tuple[str, ...]:
    """Return the prints made of loops in which a print plays, and of those, as they follow."""
    loops = {one.content: one.loop for one in document.recipes}
    uses = {one.id: prints_in(loops[one.recipe.loop]) for one in document.prints}
    made = {print_id}
    while more := {one for one, of in uses.items() if of & made and one not in made}:
        made |= more
    # Each after all that it is made of; where a stranger's file goes in a circle, as they come.
    waiting, out = [one.id for one in document.prints if one.id in made - {print_id}], []
    while waiting:
        ready = [one for one in waiting if not uses[one] & set(waiting) - {one}] or waiting[:1]
        out += ready
        waiting = [one for one in waiting if one not in ready]
    return tuple(out)


def printable(document: Document, print_id: str) -> Loop:
    """Return the open loop without what comes of a print: that can't be printed into itself."""
    of = {print_id, *followers(document, print_id)}
    kept = tuple(x for x in document.loop.layers if not (x.flipped and x.flipped.print_id in of))
    return with_layers_of(document.loop, document.loop, kept)


def rename_print(document: Document, print_id: str, name: str) -> Document:
    """Call a print something else."""
    recipe_of(document, print_id)
    prints = (replace(x, name=name) if x.id == print_id else x for x in document.prints)
    return replace(document, prints=tuple(prints))


def forget_print(document: Document, print_id: str) -> Document:
    """Take a print off the document, and the way back to its loop where no other has the same.

    What is cut from it stays, as a recording that was cut: its sound is in it.
    """
    recipe_of(document, print_id)
    layers = tuple(
        replace(x, source=replace(x.flipped, print_id=""))
        if x.flipped and x.flipped.print_id == print_id
        else x
        for x in document.loop.layers
    )
    prints = tuple(one for one in document.prints if one.id != print_id)
    loop = replace(document.loop, layers=layers)
    return _tidied(replace(document, loop=loop, prints=prints))


def flip_anew(document: Document, print_id: str, frames: int, lufs: float) -> Document:
    """Add another flip of a print, in which nothing is moved: it is changed on its own.

    ``frames`` and ``lufs`` are those of its clip.
    """
    made, printed = recipe_of(document, print_id)
    facts = facts_of_print(printed, made.name, frames, lufs, made.recipe.passes)
    return _with_flip(document, made, printed, facts)
