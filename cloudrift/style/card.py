"""Reading style cards (TOML). The format is described in ``docs/style-card.md``."""

import functools
from importlib import resources
from pathlib import Path
from typing import Annotated

import msgspec

from cloudrift.ground.errors import CloudriftError, did_you_mean
from cloudrift.ground.reading import read_toml, read_words, reading
from cloudrift.ground.settings import Value
from cloudrift.loop import spec
from cloudrift.notes.lens import Lens
from cloudrift.sound.catalogue import find_sound
from cloudrift.texture.catalogue import find_kind
from cloudrift.theory.key import SCALES, Key
from cloudrift.theory.symbols import parse_degree, parse_progression

# A number, or two between which a draw falls.
Drawn = float | tuple[float, float]
Tempo = Annotated[float, msgspec.Meta(ge=spec.MIN_TEMPO_BPM, le=spec.MAX_TEMPO_BPM)]
Chance = Annotated[float, msgspec.Meta(ge=0, le=1)]


class TempoRange(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Tempos in BPM."""

    low: Tempo
    high: Tempo
    usual: Tempo


class KeyChoice(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Tonics and scales that the style goes for; earlier scales are drawn more often."""

    tonics: tuple[str, ...]
    modes: tuple[str, ...]


class Grammar(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """How chords follow: where it starts, what may come next, what it likes to end on.

    ``rhythms`` are chord lengths in bars; one whose sum divides the loop is drawn. ``shelf`` holds
    typical progressions by name, as rows of degrees.
    """

    starts: tuple[str, ...]
    next: dict[str, tuple[str, ...]]
    ends: tuple[str, ...]
    rhythms: tuple[tuple[float, ...], ...]
    vary_end: Chance = 0.5
    shelf: dict[str, str] = {}


class Voicing(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Where the chords sit: register of the upper voices (MIDI), spread, bass octaves below."""

    low: int
    high: int
    spread: Chance = 0.0
    bass_octaves: int = 1


class CardTreatment(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A treatment; numbers may be drawn between two."""

    kind: str
    blend: Drawn = 1.0
    chance: Chance = 1.0
    settings: dict[str, Value | tuple[float, float]] = {}


class CardLayer(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A layer; ``chance`` says how often it is there."""

    name: str
    sound: str
    chance: Chance = 1.0
    level_db: Drawn = 0.0
    pan: Drawn = 0.0
    lens: Lens = Lens()
    touch: dict[str, Value | tuple[float, float]] = {}
    settings: dict[str, Value | tuple[float, float]] = {}
    line: tuple[CardTreatment, ...] = ()


class Card(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A style card."""

    name: str
    about: str
    tempo: TempoRange
    key: KeyChoice
    chords: Grammar
    voicing: Voicing
    layers: tuple[CardLayer, ...]
    line: tuple[CardTreatment, ...] = ()

    @property
    def layer_counts(self) -> tuple[int, int]:
        """How many layers loops of this style have, at least and at most."""
        return sum(layer.chance >= 1 for layer in self.layers), len(self.layers)


def read_card(text: str, where: str) -> Card:
    """Read a card; raise CloudriftError that names the place of what is wrong."""
    card = read_toml(text, where, Card)
    with reading(where, "style card"):
        _check(card, where)
    return card


def _check(card: Card, where: str) -> None:
    """Look up every name that the card uses, so that a wrong one is found on reading."""
    for mode in card.key.modes:
        if mode not in SCALES:
            known = did_you_mean(mode, SCALES)
            raise CloudriftError(f"{where}: key.modes: no scale is called {mode!r}{known}")
    keys = [Key(tonic, card.key.modes[0]) for tonic in card.key.tonics]
    tokens = {*card.chords.starts, *card.chords.ends, *card.chords.next}
    for following in card.chords.next.values():
        tokens.update(following)
    try:
        for token in tokens:
            parse_degree(token, keys[0])
        for row in card.chords.shelf.values():
            parse_progression(row, keys[0])
        for layer in card.layers:
            find_sound(layer.sound)
        for treatment in (*card.line, *(t for layer in card.layers for t in layer.line)):
            find_kind(treatment.kind)
    except CloudriftError as error:
        raise CloudriftError(f"{where}: {error}") from error
    missing = sorted(t for t in tokens if t not in card.chords.next)
    if missing:
        raise CloudriftError(f"{where}: chords.next does not say what follows {', '.join(missing)}")


@functools.cache
def house_cards() -> dict[str, Card]:
    """Return the cards that ship, by name."""
    folder = resources.files("cloudrift.style") / "cards"
    cards = [
        read_card(file.read_text("utf-8"), file.name)
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
