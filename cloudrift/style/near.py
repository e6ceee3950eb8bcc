"""Which style cards a tempo and a key are at home in."""

import math
from collections.abc import Iterable
from dataclasses import dataclass

from cloudrift.loop.model import spec
from cloudrift.style.card import Card
from cloudrift.theory.key import Key

COUNTS = (1.0, 0.5, 2.0)  # a tempo may be counted half or twice as fast
OTHER_COUNT, OTHER_MODE, LATER_MODE = 0.1, 0.5, 0.02  # how far from home that is, in octaves


@dataclass(frozen=True, kw_only=True)
class Near:
    """A card; the tempo (BPM) as its style counts it; how far it is from what the card likes.

    ``apart`` is 0 where tempo and mode are what the card likes most.
    """

    card: Card
    tempo: float
    in_range: bool
    in_mode: bool
    apart: float

    @property
    def words(self) -> str:
        """What speaks for it and against it, in a line."""
        low, high = self.card.tempo.low, self.card.tempo.high
        where = "in" if self.in_range else "outside"
        modes = " or ".join(self.card.key.modes)
        scale = "its scale" if self.in_mode else f"prefers {modes}"
        return f"{self.tempo:g} BPM, {where} its {low:g} to {high:g}; {scale}"


def near_cards(cards: Iterable[Card], tempo: float, key: Key) -> list[Near]:
    """Return all cards for a tempo in BPM and a key, the one that is at home there first."""
    return sorted((_near(card, tempo, key) for card in cards), key=lambda one: one.apart)


def _near(card: Card, tempo: float, key: Key) -> Near:
    modes = card.key.modes
    in_mode = key.mode in modes
    of_mode = LATER_MODE * modes.index(key.mode) if in_mode else OTHER_MODE
    counted = [
        (_outside(card, tempo * times) + (OTHER_COUNT if times != 1 else 0), tempo * times)
        for times in COUNTS
        if spec.MIN_TEMPO_BPM <= tempo * times <= spec.MAX_TEMPO_BPM
    ]
    outside, counts = min(counted, default=(_outside(card, tempo), tempo))
    usual = abs(math.log2(counts / card.tempo.usual)) * 0.1
    return Near(
        card=card,
        tempo=round(counts, 2),
        in_range=_outside(card, counts) == 0,
        in_mode=in_mode,
        apart=outside + of_mode + usual,
    )


def _outside(card: Card, tempo: float) -> float:
    """How far a tempo lies outside of a card's, in octaves."""
    within = min(max(tempo, card.tempo.low), card.tempo.high)
    return abs(math.log2(tempo / within))
