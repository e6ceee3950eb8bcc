"""Phrases as recipes: small loops that are written down, and rendered when they are asked for."""

import functools
import re
from typing import Any

import msgspec
from msgspec.structs import replace

from cloudrift.exchange.service import Offer
from cloudrift.ground.draws import rng_for
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.reading import read_toml, shipped
from cloudrift.loop.edits.chords.progression import put_row
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.edits.layers.finishes import lay_finish
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.recorded import RecordingKind
from cloudrift.style.beginnings import empty_loop
from cloudrift.texture.finish_files import house_finishes
from cloudrift.theory.key import Key, parse_key
from cloudrift.theory.symbols import parse_progression


class Recipe(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A phrase: which sounds play a row of chords through which lenses, and what is laid on it.

    ``play`` is a list of sound, lens and octaves; sounds without a pitch play as they do.
    ``says`` is what its label claims instead of what is so.
    """

    name: str
    kind: RecordingKind
    words: str
    maker: str
    licence: str
    key: str
    tempo: float
    bars: int
    row: str
    variation: int
    play: tuple[tuple[str, str, int], ...]
    finish: str = ""
    says: dict[str, Any] = {}

    @property
    def id(self) -> str:
        """Its name as it is asked for."""
        return re.sub(r"[^a-z0-9]+", "-", self.name.lower()).strip("-")

    @property
    def true_key(self) -> Key:
        """The key that it is in."""
        return parse_key(self.key)

    @property
    def offer(self) -> Offer:
        """What its label says."""
        tuned = self.kind != "bed"
        return Offer(
            id=self.id,
            name=self.name,
            maker=self.maker,
            licence=self.licence,
            kind=self.kind,
            words=tuple(self.words.split()),
            bars=self.bars,
            key=parse_key(str(self.says.get("key", self.key))) if tuned else None,
            tempo=float(self.says.get("tempo", self.tempo)) if tuned else 0.0,
        )


@functools.cache
def recipes() -> dict[str, Recipe]:
    """Return all recipes that ship with the program, by id."""
    out: dict[str, Recipe] = {}
    files = shipped(
        "cloudrift.exchange",
        "recipes",
        lambda text, name: read_toml(text, name, dict[str, list[Recipe]])["phrase"],
    )
    for recipe in (one for phrases in files for one in phrases):
        if recipe.id in out:
            raise CloudriftError(f"the phrase {recipe.name} is there twice")
        out[recipe.id] = recipe
    return out


def loop_of(recipe: Recipe, over: Loop | None = None) -> Loop:
    """Return the loop that a recipe is: with chords of its own, or over those of another loop."""
    if over is not None and over.chords:
        loop = replace(over, layers=(), groups=(), line=())
    else:
        key = recipe.true_key
        loop = empty_loop(key, recipe.tempo, bars=recipe.bars)
        loop = put_row(loop, parse_progression(recipe.row, key))
    rng = rng_for(recipe.variation, "recipe")
    for sound, lens, octave in recipe.play:
        loop = layer_edits.add_layer(loop, sound)
        layer = loop.layers[-1]
        if layer.follows:
            steps = int(rng.choice((240, 480, 480, 960)))
            loop = layer_edits.set_lens(
                loop,
                layer.id,
                kind=lens,
                octave=octave,
                step_ticks=steps,
                variation=int(rng.integers(1, 99)),
                skip_bass=lens != "roots",
            )
            loop = layer_edits.set_touch(
                loop, layer.id, variation=recipe.variation, spread=10.0, drift_ms=6.0
            )
    if recipe.finish:
        finish = next(one for one in house_finishes() if _file_name(one.name) == recipe.finish)
        loop = lay_finish(loop, None, finish, behind=False)
    return loop


def _file_name(name: str) -> str:
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")
