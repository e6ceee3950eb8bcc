"""Printing: the sound of a recipe, and what is known of it."""

import itertools
import threading
from collections.abc import Callable, Sequence
from typing import NamedTuple

import numpy as np

from cloudrift.audio.buffers import Stereo, to_db
from cloudrift.audio.clips import ClipStore
from cloudrift.audio.loudness import integrated_lufs
from cloudrift.audio.stretch import start_stretching
from cloudrift.ground.cancel import Moved, never, unheard
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.flip.prints import (
    chords_in,
    facts_of_print,
    followers,
    recipe_of,
    with_clip_of,
    with_reprint,
)
from cloudrift.loop.model.document import Document, Pass, PrintedPart, in_parts
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.recorded import Facts
from cloudrift.render.engine.engine import Engine, stretches
from cloudrift.render.plan.node import Node, steps
from cloudrift.render.plan.plan import Form, heard_node, loop_node
from cloudrift.sound.tones import ToneCache

HIGHEST_DB = -0.1  # what goes higher is kept softer, and turned up again where it plays


class Reprint(NamedTuple):
    """A print that was made again: what it was made from now, and the sound of that."""

    print_id: str
    loop: Loop
    passes: tuple[Pass, ...]
    parts: tuple[PrintedPart, ...]
    made: "Printed"


class Printed(NamedTuple):
    """A print's clip, what is known of it, and the gain that makes it as loud as it was."""

    clip: str
    facts: Facts
    gain_db: float


def printed(
    loop: Loop,
    name: str,
    clips: ClipStore,
    cancelled: Callable[[], bool] = never,
    passes: tuple[Pass, ...] = (),
    moved: Moved = unheard,
    engine: Engine | None = None,
) -> Printed:
    """Print all that is heard of a loop, as it goes round: the same loop makes the same clip.

    In ``passes``, it goes round once for each, and from the last into the first. It is rendered
    again rather than taken from what an edit has followed, so that a print depends on its loop to
    the last bit; an ``engine`` that has parts of it is sooner done, to be heard meanwhile.
    ``moved`` hears what share of the steps is made (0 to 1), and which was last.
    """
    fresh = engine or Engine(clips=clips)
    if stretches(loop):
        start_stretching()  # beside the layers, which come first
    try:
        node = print_node(loop, passes, fresh.tones)
        audio = fresh.audio(node, cancelled, _counted(node, moved))
    finally:
        if engine is None:
            fresh.close()
    return keep_print(audio, loop, name, passes, clips, soon=engine is not None)


def print_node(loop: Loop, passes: tuple[Pass, ...], tones: ToneCache) -> Node:
    """Return the step that a print is: a loop, or the passes of it."""
    outs = [frozenset(one.out) for one in passes]
    return going(loop, outs, tones) if outs else heard_node(loop, tones)


def keep_print(
    audio: Stereo,
    loop: Loop,
    name: str,
    passes: tuple[Pass, ...],
    clips: ClipStore,
    facts: Facts | None = None,
    *,
    soon: bool,
) -> Printed:
    """Keep the sound of a loop as a clip, and what is known of it; ``soon`` as for clips."""
    peak = to_db(float(np.abs(audio).max(initial=0.0)))
    if peak <= -119:
        raise CloudriftError("none of that plays, so there is nothing to print")
    gain_db = round(max(0.0, peak - HIGHEST_DB), 2)
    softer = audio * np.float32(10 ** (-gain_db / 20)) if gain_db else audio
    if facts is None:
        lufs = integrated_lufs(softer, loop.rate)
        facts = facts_of_print(loop, name, audio.shape[1], lufs, passes)
    return Printed(clips.record(softer, loop.rate, soon=soon), facts, gain_db)


def going(loop: Loop, outs: Sequence[frozenset[str]], tones: ToneCache) -> Node:
    """Return the step that makes a loop go round in passes, from the last into the first.

    In each, some layers or groups play nothing (``outs``); what they have played rings on.
    """
    return loop_node(loop, tones, Form(outs=tuple(outs)))


def _counted(node: Node, moved: Moved) -> Callable[[str], None]:
    """Return what hears of each step to a node that is made, and says how far that is."""
    total, done = len({one.key for one in steps(node)}), itertools.count(1)
    in_turn = threading.Lock()  # steps are made beside each other

    def step(label: str) -> None:
        with in_turn:
            number = next(done)
            moved(number / total, f"step {number} of {total}, {label}")

    return step


def part_of(moved: Moved, at: int, count: int) -> Moved:
    """Return what hears of one of several works as its share of all of them."""
    return lambda share, words: moved((at + share) / count, words)


def reprinted(
    document: Document,
    print_id: str,
    loop: Loop,
    passes: tuple[Pass, ...],
    clips: ClipStore,
    cancelled: Callable[[], bool] = never,
    moved: Moved = unheard,
    parts: tuple[PrintedPart, ...] = (),
    engine: Engine | None = None,
) -> list[Reprint]:
    """Print a print again from another loop, then all prints that were made of what it plays.

    ``parts`` say in what it differs from the loop; ``engine`` as in ``printed``.
    """
    name, others = recipe_of(document, print_id)[0].name, followers(document, print_id)
    shares = [part_of(moved, at, 1 + len(others)) for at in range(1 + len(others))]
    made = printed(in_parts(loop, parts), name, clips, cancelled, passes, shares[0], engine)
    out = [Reprint(print_id, loop, passes, parts, made)]
    for other, part in zip(others, shares[1:], strict=True):
        kept, of = recipe_of(document, other)
        for one in out:
            chords = chords_in(in_parts(one.loop, one.parts), one.passes)
            of = with_clip_of(of, one.print_id, *one.made, chords)
        recipe = kept.recipe
        loop = in_parts(of, recipe.parts)
        made = printed(loop, kept.name, clips, cancelled, recipe.passes, part, engine)
        out.append(Reprint(other, of, recipe.passes, recipe.parts, made))
    return out


def with_reprints(document: Document, reprints: list[Reprint]) -> Document:
    """Put prints that were made again in their places: all that was cut from them follows."""
    for one in reprints:
        document = with_reprint(document, one.print_id, one.loop, *one.made, one.passes, one.parts)
    return document
