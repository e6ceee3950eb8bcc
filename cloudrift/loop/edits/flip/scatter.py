"""Scattering a flip: a variation over chosen rules, always on the grid that it was cut at."""

import msgspec
import numpy as np
from msgspec.structs import replace

from cloudrift.ground.draws import MAX_VARIATION, rng_for
from cloudrift.loop.edits.flip.cutting import with_places
from cloudrift.loop.model.checks import within
from cloudrift.loop.model.flip import SHORTEST_TICKS, Flipped, SlicePlacement

STRIKES = (2, 3, 4)


class Rules(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What a scatter may do; chances and shares are in %.

    ``amount`` is how many places change. ``downbeats`` keeps what begins a bar; ``order`` takes
    pieces only from under the same chord; ``familiar`` is how often a piece comes from near by.
    """

    amount: float = 40.0
    downbeats: bool = True
    order: bool = False
    backward: float = 30.0
    octave: float = 0.0
    repeats: float = 15.0
    silence: float = 0.0
    familiar: float = 40.0
    variation: int = 1

    def __post_init__(self) -> None:
        for name in ("amount", "backward", "octave", "repeats", "silence", "familiar"):
            within(f"scatter: {name}", getattr(self, name), 0, 100, " %")
        within("scatter: variation", self.variation, 0, MAX_VARIATION)


def scattered(flip: Flipped, rules: Rules, bar: int) -> Flipped:
    """Return a flip with some of its places drawn again, a bar lasting that many ticks.

    Each place keeps its length and draws from a stream of its own, so that a rule changes what it
    is about and nothing else.
    """
    out = []
    for i, place in enumerate(flip.places):
        rng = rng_for(rules.variation, "scatter", i)
        chance = rng.uniform(0, 100, 6)
        kept = chance[0] >= rules.amount or (rules.downbeats and place.at_tick % bar == 0)
        out.append(place if kept else _drawn(flip, place, rules, rng, chance))
    return with_places(flip, out)


def _drawn(
    flip: Flipped, place: SlicePlacement, rules: Rules, rng: np.random.Generator, chance: np.ndarray
) -> SlicePlacement:
    start, end = _piece(flip, place, rules, rng, near=chance[5] < rules.familiar)
    new = SlicePlacement(
        at_tick=place.at_tick,
        length_ticks=place.length_ticks,
        from_tick=start,
        from_ticks=end - start,
    )
    if chance[1] < rules.silence:
        return replace(new, mute=True)
    strikes = int(rng.choice(STRIKES))
    if chance[2] < rules.repeats and place.length_ticks // strikes >= SHORTEST_TICKS:
        new = replace(new, times=strikes)
    up = 12.0 if rng.random() < 0.7 else -12.0
    return replace(
        new,
        backward=bool(chance[3] < rules.backward),
        semitones=up if chance[4] < rules.octave else 0.0,
    )


def _piece(
    flip: Flipped, place: SlicePlacement, rules: Rules, rng: np.random.Generator, *, near: bool
) -> tuple[int, int]:
    """Draw a piece: from near by, or from anywhere; under the same chord, if that is kept."""
    here = flip.piece_at(min(place.at_tick, flip.length_ticks - 1))
    numbers = list(range(len(flip.pieces)))
    if rules.order and flip.chords:
        wanted = flip.chord_at(flip.cuts[here])
        same = [n for n in numbers if _alike(flip.chord_at(flip.cuts[n]), wanted)]
        numbers = same or numbers
    if near:
        numbers = sorted(numbers, key=lambda n: (abs(n - here), n))[:3]
    return flip.pieces[int(rng.choice(numbers))]


def _alike(one: object, other: object) -> bool:
    return getattr(one, "voices", None) == getattr(other, "voices", None)
