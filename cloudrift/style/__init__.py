"""Style cards: small open text files that say how a producer writes, and first loops from them."""

from cloudrift.style.card import Card, find_card, house_cards, read_card
from cloudrift.style.sketch import sketch

__all__ = ["Card", "find_card", "house_cards", "read_card", "sketch"]
