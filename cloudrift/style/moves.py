"""Moves: a card's habits as edits of any loop, in the order of the work."""

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

from msgspec.structs import replace

from cloudrift.ground.draws import rng_for
from cloudrift.loop.edits.bed.beds import set_heard
from cloudrift.loop.edits.chords.bass import with_bass_heard
from cloudrift.loop.edits.chords.progression import put_chords
from cloudrift.loop.edits.flip import flips
from cloudrift.loop.edits.layers import line_edits
from cloudrift.loop.model.flip import Flipped
from cloudrift.loop.model.loop import Layer, Loop, new_id
from cloudrift.notes.time import bar_ticks
from cloudrift.style.card import Card, CardMove, CardTreatment
from cloudrift.style.groove import suggest_bed, written_strengths
from cloudrift.style.habits import habit_of
from cloudrift.style.lay import Drawing, layers_of, line_of
from cloudrift.style.manner import find_manner
from cloudrift.style.sketch import suggest_chords
from cloudrift.texture.treatment import Line

ORDER = ("Chords", "Layers", "Playing", "Texture", "Flip", "Groove")


@dataclass(frozen=True, kw_only=True)
class Move:
    """A habit: what it does in few words, and where it belongs.

    Where there is a ``lay``, all of the loop is printed first: it says how that print is laid, and
    the print plays instead of the layers.
    """

    group: str
    words: str
    edit: Callable[[Loop], Loop] | None = None
    lay: Callable[[Flipped, int], Flipped] | None = None


def moves_of(card: Card, variation: int = 1) -> tuple[Move, ...]:
    """Return what a card would do, in the order of the work: its chords, its layers one by one, its
    habits, its lines.

    ``variation`` decides what it leaves open.
    """
    out = [
        Move(
            group="Chords",
            words="a progression from its grammar",
            edit=partial(_with_row, card, variation),
        )
    ]
    every = replace(card, layers=tuple(replace(x, chance=1.0) for x in card.layers))
    layers = layers_of(every, variation, lambda *labels: Drawing(rng_for(variation, *labels)))
    out += [
        Move(
            group="Layers",
            words=f"add {layer.name}: {layer.source.sound_text.lower()}",
            edit=partial(_with_layer, layer),
        )
        for layer in layers
    ]
    for number, treatment in enumerate(card.line):
        line = line_of(
            (replace(treatment, chance=1.0),),
            Drawing(rng_for(variation, "move", number)),
            variation,
        )
        out.append(
            Move(
                group=_group_of(treatment),
                words=f"{line[0].of.label.lower()} on the whole loop: {line[0].says}",
                edit=partial(_with_line, line),
            )
        )
    out += [_habit(move) for move in card.moves]
    if card.groove is not None:
        busy = sum(card.groove.busy) / 200
        for name in card.groove.manners:
            edit = partial(_with_bed, name, busy, variation)
            out.append(Move(group="Groove", words=f"a groove bed, {name}", edit=edit))
    return tuple(sorted(out, key=lambda move: ORDER.index(move.group)))


def _with_bed(name: str, busy: float, variation: int, loop: Loop) -> Loop:
    drawn = suggest_bed(
        loop, find_manner(name), written_strengths(loop), variation=variation, busy=busy
    )
    return set_heard(drawn, on=True)


def _habit(move: CardMove) -> Move:
    habit = habit_of(move)
    edit, lay = habit.edit, habit.lay
    return Move(
        group=habit.group,
        words=habit.text(move),
        edit=(lambda loop: edit(loop, move)) if edit else None,
        lay=(lambda flip, bar: lay(flip, move, bar)) if lay else None,
    )


def with_print_laid(loop: Loop, layer_id: str, lay: Callable[[Flipped, int], Flipped]) -> Loop:
    """Return a loop in which a flip is laid as a move says, and plays instead of the layers."""
    bar = bar_ticks(loop.metre)
    loop = flips.with_flip(loop, layer_id, lambda flip: lay(flip, bar))
    return flips.use_instead(loop, layer_id, ())


def _with_layer(layer: Layer, loop: Loop) -> Loop:
    new = replace(layer, id=new_id("l", loop.ids))
    return with_bass_heard(replace(loop, layers=(*loop.layers, new)))


def _group_of(treatment: CardTreatment) -> str:
    return "Flip" if treatment.kind in ("shift", "reverse") else "Texture"


def _with_row(card: Card, variation: int, loop: Loop) -> Loop:
    row = suggest_chords(card, loop, variation)
    return put_chords(loop, row, bars=loop.bars)


def _with_line(line: Line, loop: Loop) -> Loop:
    """Put treatments after what is on the whole loop; one of their kind gives way."""
    kinds = {t.kind for t in line}
    kept = tuple(t for t in loop.line if t.kind not in kinds)
    ids = {t.id for t in kept}
    new = []
    for treatment in line:
        made = replace(treatment, id=new_id("t", ids))
        ids.add(made.id)
        new.append(made)
    return line_edits.set_line(loop, None, (*kept, *new))
