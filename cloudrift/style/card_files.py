"""Reading style cards (TOML). The format is described in ``docs/style-card.md``."""

import functools
from pathlib import Path
from typing import Any

import msgspec
import tomlkit
from msgspec.structs import replace
from platformdirs import user_data_path

from cloudrift.audio.files import make_folder, write_atomically
from cloudrift.ground.errors import CloudriftError, did_you_mean
from cloudrift.ground.reading import read_folder, read_toml, read_words, reading, shipped
from cloudrift.ground.words import file_slug, free_name
from cloudrift.notes.lens import Lens
from cloudrift.style.card import Card, CardLayer, Grammar, KeyChoice, TempoRange, Voicing
from cloudrift.style.form import find_form
from cloudrift.style.habits import habit_of
from cloudrift.style.lay import Edge, layers_of, line_of
from cloudrift.style.manner import find_manner
from cloudrift.style.voiced import voiced
from cloudrift.theory.key import SCALES, Key
from cloudrift.theory.symbols import parse_degree, parse_progression

SUFFIX = ".toml"


def read_card(text: str, where: str) -> Card:
    """Read a card; raise CloudriftError that names the place of what is wrong.

    What is read can be sketched from with any variation.
    """
    card = read_toml(text, where, Card)
    with reading(where, "style card"):
        try:
            _check_chords(card)
            _check_layers(card)
            for move in card.moves:
                habit_of(move)
            for name in card.groove.manners if card.groove else ():
                find_manner(name)
            for name in card.form.forms if card.form else ():
                find_form(name)
        except CloudriftError as error:
            raise CloudriftError(f"{where}: {error}") from error
    return card


def _check_chords(card: Card) -> None:
    """Look up every scale, key and chord; every chord has another one that may follow it."""
    for mode in card.key.modes:
        if mode not in SCALES:
            raise CloudriftError(
                f"key.modes: there is no scale called {mode!r}{did_you_mean(mode, SCALES)}"
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
            raise CloudriftError(f"chords.next: only {token} follows {token}")
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
    cards = shipped("cloudrift.style", "cards", lambda text, name: read_toml(text, name, Card))
    return {card.name: card for card in sorted(cards, key=lambda c: c.name)}


def blank_card() -> Card:
    """Return a card that asks nothing, to begin one of one's own with."""
    degrees = ("i", "iv", "v", "VI")
    return Card(
        name="Blank",
        about="Asks for nothing yet.",
        tempo=TempoRange(low=60, high=180, usual=100),
        key=KeyChoice(tonics=("C", "D", "E", "F", "G", "A"), modes=("minor",)),
        chords=Grammar(
            starts=("i",),
            ends=degrees[1:],
            rhythms=((1, 1, 1, 1), (2, 2)),
            next={one: tuple(x for x in degrees if x != one) for one in degrees},
        ),
        voicing=Voicing(low=55, high=74),
        layers=(
            CardLayer(name="Keys", sound="felt upright"),
            CardLayer(name="Low end", sound="round sub", lens=Lens(kind="roots")),
        ),
    )


def own_folder() -> Path:
    """Return where own cards are kept (``$XDG_DATA_HOME/cloudrift/cards``)."""
    return user_data_path("cloudrift") / "cards"


def own_cards(folder: Path | None = None) -> tuple[dict[str, Card], list[str]]:
    """Return a composer's own cards by name, and in words which files could not be read."""
    found, wrong = read_folder(
        folder or own_folder(),
        SUFFIX,
        lambda path: read_card(read_words(path, "style card"), str(path)),
    )
    return {card.name: card for card in sorted(found, key=lambda card: card.name)}, wrong


def known_cards(folder: Path | None = None) -> dict[str, Card]:
    """Return the cards of the house, and a composer's own after them."""
    return {**own_cards(folder)[0], **house_cards()}


def find_card(name: str) -> Card:
    """Return a card by name (any case), or read one from a path that ends in .toml."""
    if name.endswith(SUFFIX):
        return read_card(read_words(Path(name), "style card"), name)
    cards = known_cards()
    by_plain = {card.lower(): card for card in cards}
    if name.lower() not in by_plain:
        raise CloudriftError(f"there is no style card called {name!r}{did_you_mean(name, cards)}")
    return cards[by_plain[name.lower()]]


def write_card(card: Card) -> str:
    """Return a card as its file's text: what differs from the usual."""
    raw: dict[str, Any] = msgspec.to_builtins(card)
    for layer in raw["layers"]:
        layer["lens"] = _unusual(layer["lens"], Lens())
        layer["lens"].pop("variation", None)
    return tomlkit.dumps(_kept(raw))


def _unusual(raw: dict[str, object], usual: Lens) -> dict[str, object]:
    plain = msgspec.to_builtins(usual)
    return {name: value for name, value in raw.items() if value != plain[name]}


def _kept(raw: Any) -> Any:
    """Plain values with whole numbers written as such, and nothing that is empty."""
    if isinstance(raw, dict):
        return {
            name: _kept(value) for name, value in raw.items() if value not in ({}, [], (), None)
        }
    if isinstance(raw, (list, tuple)):
        return [_kept(one) for one in raw]
    return int(raw) if isinstance(raw, float) and raw.is_integer() else raw


def save_card(card: Card, folder: Path | None = None) -> Card:
    """Write an own card into the folder and return it as it is called there.

    Where its name is taken it gets a number: nothing is overwritten.
    """
    folder = folder or own_folder()
    taken = {one.casefold() for one in known_cards(folder)}
    name = free_name(card.name, taken) if card.name.casefold() in taken else card.name
    card = replace(card, name=name)
    path = folder / f"{file_slug(card.name, 'card')}{SUFFIX}"
    read_card(text := write_card(card), card.name)  # what is kept can be read
    make_folder(folder)
    write_atomically(path, lambda file: file.write(text.encode()))
    return card
