"""Reading style cards (TOML). The format is described in ``docs/style-card.md``."""

import functools
from importlib import resources
from pathlib import Path

from cloudrift.ground.errors import CloudriftError, did_you_mean
from cloudrift.ground.reading import read_toml, read_words, reading
from cloudrift.style.card import Card
from cloudrift.style.lay import Edge, layers_of, line_of
from cloudrift.style.voiced import voiced
from cloudrift.theory.key import SCALES, Key
from cloudrift.theory.symbols import parse_degree, parse_progression


def read_card(text: str, where: str) -> Card:
    """Read a card; raise CloudriftError that names the place of what is wrong.

    What is read can be sketched from with any draw.
    """
    card = read_toml(text, where, Card)
    with reading(where, "style card"):
        try:
            _check_chords(card)
            _check_layers(card)
        except CloudriftError as error:
            raise CloudriftError(f"{where}: {error}") from error
    return card


def _check_chords(card: Card) -> None:
    """Look up every scale, key and chord; every chord has another one that may follow it."""
    for mode in card.key.modes:
        if mode not in SCALES:
            raise CloudriftError(
                f"key.modes: no scale is called {mode!r}{did_you_mean(mode, SCALES)}"
            )
    keys = [Key(tonic, mode) for tonic in card.key.tonics for mode in card.key.modes]
    tokens = {*card.chords.starts, *card.chords.ends, *card.chords.next}
    for following in card.chords.next.values():
        tokens.update(following)
    for token in sorted(tokens):
        for key in keys:
            tones = parse_degree(token, key)
        for spread in (False, True):
            voiced(tones, card.voicing, (), spread=spread)
    missing = sorted(t for t in tokens if t not in card.chords.next)
    if missing:
        raise CloudriftError(f"chords.next does not say what follows {', '.join(missing)}")
    for token, following in card.chords.next.items():
        if set(following) == {token}:
            raise CloudriftError(f"chords.next: nothing but {token} follows {token}")
    for row in card.chords.shelf.values():
        parse_progression(row, keys[0])


def _check_layers(card: Card) -> None:
    """Lay the layers and the line with every number at its lower, then at its upper end."""
    for share in (0.0, 1.0):
        layers_of(card, 1, lambda *_labels, at=share: Edge(at))
        line_of(card.line, Edge(share), 1)


@functools.cache
def house_cards() -> dict[str, Card]:
    """Return the cards that ship, by name. They are looked at by tests, not at every start."""
    folder = resources.files("cloudrift.style") / "cards"
    cards = [
        read_toml(file.read_text("utf-8"), file.name, Card)
        for file in sorted(folder.iterdir(), key=lambda f: f.name)
        if file.name.endswith(".toml")
    ]
    return {card.name: card for card in sorted(cards, key=lambda c: c.name)}


def find_card(name: str) -> Card:
    """Return a house card by name (any case), or read one from a path that ends in .toml."""
    if name.endswith(".toml"):
        return read_card(read_words(Path(name), "style card"), name)
    by_plain = {card.lower(): card for card in house_cards()}
    if name.lower() not in by_plain:
        raise CloudriftError(f"no style card is called {name!r}{did_you_mean(name, house_cards())}")
    return house_cards()[by_plain[name.lower()]]
