"""Style cards: small open text files that say how a producer writes, and first loops from them."""

from cloudrift.style.card import Card
from cloudrift.style.card_files import find_card, house_cards, known_cards, read_card
from cloudrift.style.sketch import sketch, suggest_chords, typed_row, way_of_voicing, without_chords

__all__ = [
    "Card",
    "find_card",
    "house_cards",
    "known_cards",
    "read_card",
    "sketch",
    "suggest_chords",
    "typed_row",
    "way_of_voicing",
    "without_chords",
]
