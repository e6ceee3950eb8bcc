"""Sounds in an early design: layers that play one are opened with today's, as loud as they were."""

from collections.abc import Iterable

from msgspec.structs import replace

from cloudrift.loop.model import spec
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.hits import Hits, Stacked
from cloudrift.loop.model.layer import Layer
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.source import PlayedSource


def with_todays_designs(document: Document) -> tuple[Document, tuple[str, ...]]:
    """Return a document in which no sound has an early design, and the names of layers that had.

    The loops that prints were made from are brought up too; the prints themselves stay.
    """
    loop, names = _loop(document.loop)
    recipes = tuple(replace(one, loop=_loop(one.loop)[0]) for one in document.recipes)
    if not names and all(a.loop is b.loop for a, b in zip(recipes, document.recipes, strict=True)):
        return document, ()
    return replace(document, loop=loop, recipes=recipes), names


def _loop(loop: Loop) -> tuple[Loop, tuple[str, ...]]:
    layers, lanes = _all(loop.layers), _all(loop.lanes)
    there = zip((*loop.layers, *loop.lanes), (*layers, *lanes), strict=True)
    names = tuple(before.name for before, now in there if now is not before)
    if not names:
        return loop, ()
    bed = replace(loop.bed, lanes=lanes) if loop.bed else None
    return replace(loop, layers=layers, bed=bed), names


def _all(layers: Iterable[Layer]) -> tuple[Layer, ...]:
    return tuple(_layer(layer) for layer in layers)


def _layer(layer: Layer) -> Layer:
    source = layer.source
    if isinstance(source, Hits):
        stack = tuple(_stacked(one) for one in source.stack)
        same = all(a is b for a, b in zip(stack, source.stack, strict=True))
        return layer if same else replace(layer, source=replace(source, stack=stack))
    if not isinstance(source, PlayedSource):
        return layer
    sound, louder_db = source.sound.in_todays_design()
    other = source.other
    if other is not None:
        use, _louder = other.use.in_todays_design()
        other = other if use is other.use else replace(other, use=use)
    if sound is source.sound and other is source.other:
        return layer
    return replace(
        layer,
        source=replace(source, sound=sound, other=other),
        level_db=_turned(layer.level_db, louder_db),
    )


def _stacked(one: Stacked) -> Stacked:
    use, louder_db = one.use.in_todays_design()
    if use is one.use:
        return one
    return replace(one, use=use, level_db=_turned(one.level_db, louder_db))


def _turned(level_db: float, by_db: float) -> float:
    return round(min(max(level_db + by_db, spec.MIN_LEVEL_DB), spec.MAX_LEVEL_DB), 1)
