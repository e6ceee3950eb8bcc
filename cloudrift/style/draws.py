"""Many sketches of a card: each drawn, rendered and measured in a process of its own."""

import functools
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cloudrift.ground.cancel import never
from cloudrift.loop.model.loop import Loop
from cloudrift.render.engine.beside import each_beside
from cloudrift.render.engine.engine import Engine
from cloudrift.render.measure.sound_facts import facts_of_loop
from cloudrift.render.measure.strata import strata
from cloudrift.style.card import Card
from cloudrift.style.marks import checked, look, met_of
from cloudrift.style.marks.view import View
from cloudrift.style.sketch import sketch

LEAST, MOST = 12, 48
PROCESSES = 2


@dataclass(frozen=True, kw_only=True)
class Sketched:
    """A draw: its loop, how many marks of its card it meets, and how loud each layer is over it."""

    variation: int
    loop: Loop
    met: int
    asked: int
    strata: tuple[tuple[str, NDArray[np.float32]], ...]

    @property
    def chords(self) -> str:
        """Its chords by name, each once in a row."""
        view = View(self.loop)
        names = [view.name_of(chord) for chord in self.loop.chords]
        half = len(names) // 2
        once = names[:half] if half and names[:half] == names[half:] else names
        return " ".join(once)


@functools.cache
def _engine() -> Engine:
    """The engine of a process: what its tones are made from serves one sketch after another."""
    return Engine()


def sketched(card: Card, variation: int, bars: int) -> Sketched:
    """Draw, render and measure one sketch."""
    loop = sketch(card, variation=variation, bars=bars, title=f"{card.name} {variation}"[:60])
    engine = _engine()
    facts = facts_of_loop(engine, loop)
    met, asked = met_of(look(checked(card.marks, card.name)[0], loop, facts))
    return Sketched(
        variation=variation, loop=loop, met=met, asked=asked, strata=tuple(strata(engine, loop))
    )


def many(
    card: Card, draws: Sequence[int], bars: int, cancelled: Callable[[], bool] = never
) -> Iterator[Sketched]:
    """Sketch on both cores, behind all that plays; hand each out as it stands."""
    yield from each_beside(
        functools.partial(sketched, card, bars=bars), draws, PROCESSES, cancelled
    )


def unlike(one: Loop, other: Loop) -> float:
    """Return how unlike two sketches are, 0 to 1: in chords, in who plays, in key and tempo."""
    chords = [{(c.root - loop.key.pc, c.start_tick) for c in loop.chords} for loop in (one, other)]
    layers = [{x.name for x in loop.layers} for loop in (one, other)]
    apart = [1 - len(a & b) / max(len(a | b), 1) for a, b in (chords, layers)]
    key = (one.key != other.key) * 0.5 + min(abs(one.tempo - other.tempo) / 20, 0.5)
    return (2 * apart[0] + apart[1] + key) / 4


def by_unlikeness(found: Sequence[Sketched]) -> list[Sketched]:
    """Return sketches so that each is as unlike those before it as can be."""
    left = list(found)
    out = left[:1]
    left = left[1:]
    while left:
        furthest = max(left, key=lambda one: min(unlike(one.loop, x.loop) for x in out))
        out.append(furthest)
        left.remove(furthest)
    return out
