"""Layers and lines from a card: its sounds, lenses, touch and treatments, with numbers drawn."""

from collections.abc import Callable
from typing import Protocol

import msgspec
import numpy as np
from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError, did_you_mean
from cloudrift.ground.settings import SettingsSpec, Value
from cloudrift.loop.model.loop import Layer
from cloudrift.loop.model.sound_use import SoundUse
from cloudrift.loop.model.source import FromChords
from cloudrift.notes.touch import Touch
from cloudrift.sound.catalogue import find_sound
from cloudrift.style.card import Card, CardLayer, CardTreatment, Drawn
from cloudrift.texture.catalogue import find_kind
from cloudrift.texture.treatment import Line, Treatment


class Hand(Protocol):
    """What decides where a card leaves a choice."""

    def between(self, low: float, high: float) -> float:
        """Return a number between two."""

    def falls(self, chance: float) -> bool:
        """Whether something of that chance (0-1) happens."""


class Drawing:
    """A hand that variations."""

    def __init__(self, rng: np.random.Generator) -> None:
        self._rng = rng

    def between(self, low: float, high: float) -> float:
        """Return a number between two, each as likely."""
        return float(self._rng.uniform(low, high))

    def falls(self, chance: float) -> bool:
        """Whether something of that chance (0-1) happens."""
        return bool(self._rng.random() < chance)


class Edge:
    """A hand that takes the lower (0) or the upper end (1) of everything, to look at a card."""

    def __init__(self, share: float) -> None:
        self._upper = share >= 0.5

    def between(self, low: float, high: float) -> float:
        """Return an end; raise CloudriftError if there is nothing between them."""
        if not low <= high:
            raise CloudriftError(
                f"from {low:g} to {high:g} is not a range; write the smaller first"
            )
        return high if self._upper else low

    def falls(self, chance: float) -> bool:
        """All that can happen does."""
        return chance > 0


def layers_of(card: Card, variation: int, hand: Callable[..., Hand]) -> tuple[Layer, ...]:
    """Return a card's layers; ``hand`` gives a hand for labels, so that each has its own."""
    return tuple(
        _layer(layer, number, variation, hand("layer", layer.name))
        for number, layer in enumerate(card.layers, 1)
        if hand("chance", layer.name).falls(layer.chance)
    )


def _layer(card: CardLayer, number: int, variation: int, hand: Hand) -> Layer:
    sound = find_sound(card.sound)
    touch = _touch(
        card, variation, hand
    )  # drawn first, as ever: the same variation is the same loop
    return Layer(
        id=f"l{number}",
        name=card.name,
        role=sound.role,
        source=FromChords(
            sound=SoundUse(
                name=sound.name,
                version=sound.version,
                settings=_settings(card.settings, sound.spec, hand, card.sound),
            ),
            lens=replace(card.lens, variation=variation),
            touch=touch,
        ),
        level_db=round(_number(card.level_db, hand), 1),
        pan=round(_number(card.pan, hand), 2),
        line=line_of(card.line, hand, variation),
    )


def _touch(card: CardLayer, variation: int, hand: Hand) -> Touch:
    drawn = {name: _drawn(value, hand) for name, value in card.touch.items()}
    for name, value in drawn.items():
        if name not in Touch.__struct_fields__:
            known = did_you_mean(name, Touch.__struct_fields__)
            raise CloudriftError(f"{card.name}: there is no touch called {name!r}{known}")
        if name in ("velocity", "top") and not isinstance(value, str):
            drawn[name] = round(value)
    try:
        return msgspec.convert({"variation": variation, **drawn}, Touch)
    except msgspec.ValidationError as error:
        said = str(error).replace("`$.", "`touch.")
        raise CloudriftError(f"{card.name}: {said}") from error


def line_of(cards: tuple[CardTreatment, ...], hand: Hand, variation: int) -> Line:
    """Return a card's treatments as a line."""
    line: list[Treatment] = []
    for card in cards:
        there = hand.falls(card.chance)
        blend = round(_number(card.blend, hand), 2)
        settings = _settings(card.settings, find_kind(card.kind).spec, hand, card.kind)
        if there:
            line.append(
                Treatment(
                    id=f"t{len(line) + 1}",
                    kind=card.kind,
                    blend=blend,
                    variation=variation,
                    settings=settings,
                )
            )
    return tuple(line)


def _settings(
    wanted: dict[str, Value | tuple[float, float]], spec: SettingsSpec, hand: Hand, where: str
) -> tuple[tuple[str, Value], ...]:
    drawn = {name: _drawn(value, hand) for name, value in wanted.items()}
    checked = dict(spec.check(drawn, where))
    for name, value in checked.items():
        if not isinstance(value, str):
            step = spec[name].step
            checked[name] = round(round(value / step) * step, 4)
    return spec.check(checked, where)


def _drawn(value: Value | tuple[float, float], hand: Hand) -> Value:
    return hand.between(*value) if isinstance(value, tuple) else value


def _number(value: Drawn, hand: Hand) -> float:
    return hand.between(*value) if isinstance(value, tuple) else float(value)
