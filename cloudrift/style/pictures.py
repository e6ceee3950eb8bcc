"""Pictures of the house cards: what a sketch of each looks like, as data made beforehand."""

import functools
from importlib import resources
from typing import Annotated

import msgspec

PICTURES = "pictures.json"
Height = Annotated[int, msgspec.Meta(ge=0, le=255)]


class CardPicture(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A sketch, small.

    ``chords`` are names and where they begin, 0 to 1; ``strata`` the role of each layer and its
    energy over the loop, 0 to 255 of what all of them reach together.
    """

    chords: tuple[tuple[str, float], ...] = ()
    strata: tuple[tuple[str, tuple[Height, ...]], ...] = ()


@functools.cache
def card_pictures() -> dict[str, CardPicture]:
    """Return the pictures that ship, by the card's name (``tools/card_pictures.py`` makes them)."""
    data = (resources.files("cloudrift.style") / "cards" / PICTURES).read_bytes()
    return msgspec.json.decode(data, type=dict[str, CardPicture])
