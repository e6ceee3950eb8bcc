"""The score that a print carries along: written when it is printed, read wherever it plays."""

from collections.abc import Callable

import numpy as np
from msgspec.structs import replace

from cloudrift.loop.model.document import Document, Pass, in_parts, in_pass
from cloudrift.loop.model.known_score import MOST_KNOWN, MOST_VOICES, KnownNote, KnownScore
from cloudrift.loop.model.layer import Layer
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.sounding.heard import heard
from cloudrift.loop.sounding.rows import Rows, together
from cloudrift.loop.sounding.score import sounding
from cloudrift.notes.time import TICKS_PER_QUARTER

LEAST_DB = -60.0  # under the loudest note: what is softer is not kept


def known_score(printed: Loop, passes: tuple[Pass, ...] = ()) -> KnownScore:
    """Return the score of what a loop is printed to, in milliseconds of the print."""
    ms = 60_000 / printed.sounding_tempo / TICKS_PER_QUARTER
    voices = tuple(dict.fromkeys(x.name for x in printed.heard()))[:MOST_VOICES]
    parts: list[Rows] = []
    chords = []
    for turn, loop in enumerate([in_pass(printed, one) for one in passes] or [printed]):
        later = turn * printed.ticks
        for layer in loop.heard():
            rows = sounding(loop, layer).notes
            rows = rows[~np.isnan(rows["cents"])].copy()
            rows["who"] = voices.index(layer.name) if layer.name in voices else -1
            rows["start"] += later
            rows["end"] += later
            parts.append(rows)
        chords += [
            (
                round((one.start_tick + later) * ms),
                round((one.end_tick - one.start_tick) * ms),
                round(100 * one.root + one.cents) % 1200,
                tuple(voice for voice in one.voices if 0 <= voice <= 127),
            )
            for one in heard(loop).chords
        ]
    return KnownScore(
        notes=_notes(together(parts), ms), chords=tuple(chords[:MOST_KNOWN]), voices=voices
    )


def _notes(rows: Rows, ms: float) -> tuple[KnownNote, ...]:
    if not len(rows):
        return ()
    rows = rows[(rows["db"] > rows["db"].max() + LEAST_DB) & (rows["cents"] >= 0)]
    rows = rows[rows["cents"] <= 12_700]
    if len(rows) > MOST_KNOWN:  # the loudest say most
        rows = rows[np.argsort(-rows["db"], kind="stable")[:MOST_KNOWN]]
    rows = rows[np.lexsort((rows["cents"], rows["start"]))]
    return tuple(
        (round(r["start"] * ms), max(1, round((r["end"] - r["start"]) * ms)), round(r["cents"]),
         round(10 * min(max(r["db"], -120), 60)), max(int(r["who"]), 0))
        for r in rows
    )  # fmt: skip


def with_scores(document: Document) -> Document:
    """Return a document in which all that was cut from prints carries their score.

    Files of programs that kept none get theirs from the recipes.
    """
    prints = {one.id: one for one in document.prints}
    loops = {one.content: one.loop for one in document.recipes}
    made: dict[str, KnownScore] = {}
    making: set[str] = set()

    def score_of(print_id: str) -> KnownScore | None:
        if print_id in making or print_id not in prints:
            return None  # a stranger's file may go in a circle
        if print_id not in made:
            making.add(print_id)
            recipe = prints[print_id].recipe
            loop = in_parts(follow(loops[recipe.loop]), recipe.parts)
            made[print_id] = known_score(loop, recipe.passes)
            making.discard(print_id)
        return made[print_id]

    def follow(loop: Loop) -> Loop:
        layers = tuple(_with_score(x, score_of) for x in loop.layers)
        same = all(a is b for a, b in zip(layers, loop.layers, strict=True))
        return loop if same else replace(loop, layers=layers)

    return document.with_loop(follow(document.loop))


def _with_score(layer: Layer, score_of: Callable[[str], KnownScore | None]) -> Layer:
    flip = layer.flipped
    if flip is None or not flip.print_id or flip.of.facts.score is not None:
        return layer
    score = score_of(flip.print_id)
    if score is None:
        return layer
    of = replace(flip.of, facts=replace(flip.of.facts, score=score))
    return replace(layer, source=replace(flip, of=of))
