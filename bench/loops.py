"""The loop that figures are taken of, and what composers do to it."""

import random
from collections.abc import Callable

from cloudrift.loop.edits.chords import chord_edits
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.model.loop import Loop
from cloudrift.style import find_card, sketch
from cloudrift.theory import Key


def big_loop(bars: int = 8) -> Loop:
    """Ten layers, eight bars (or more) at 120 BPM, three treatments a layer, four on the whole."""
    card, key = find_card("Marlow Quist"), Key("F#", "minor")
    loop = sketch(card, key, 120.0, 16, bars=bars, title="Bench")
    sounds = ("felt upright", "warm pad", "muted pluck", "round sub")
    while len(loop.layers) < 10:
        loop = layer_edits.add_layer(loop, sounds[len(loop.layers) % 4])
        layer = loop.layers[-1]
        loop = layer_edits.set_layer(loop, layer.id, level_db=-14.0)
        loop = layer_edits.set_touch(
            loop, layer.id, drift_ms=5.0, spread=8.0, variation=len(loop.layers)
        )
    for layer in loop.layers:
        for kind in ("cuts", "weathering", "hall")[len(layer.line) :]:
            loop = line_edits.add_treatment(loop, layer.id, kind)
    for kind in ("hall", "cuts"):
        loop = line_edits.add_treatment(loop, None, kind)
    assert [len(x.line) for x in loop.layers] == [3] * 10
    assert len(loop.line) == 4
    return loop


def another(variation: random.Random) -> Callable[[Loop], Loop]:
    """Return an edit as composers make them, drawn: mostly chords, levels, settings."""

    def chord(loop: Loop) -> Loop:
        one = variation.choice(loop.chords)
        return chord_edits.set_degree(
            loop, one.id, variation.randint(1, 7), count=variation.randint(3, 4)
        )

    def level(loop: Loop) -> Loop:
        return layer_edits.set_layer(
            loop, variation.choice(loop.layers).id, level_db=variation.uniform(-24, 0)
        )

    def off(loop: Loop) -> Loop:
        one = variation.choice(loop.layers)
        return layer_edits.set_layer(loop, one.id, mute=not one.mute)

    def blend(loop: Loop) -> Loop:
        one = variation.choice([layer for layer in loop.layers if layer.line])
        treatment = variation.choice(one.line)
        return line_edits.set_treatment(loop, one.id, treatment.id, blend=variation.uniform(0.1, 1))

    def wear(loop: Loop) -> Loop:
        for line_of in (None, *(layer.id for layer in loop.layers)):
            for one in loop.line_of(line_of):
                if one.kind == "weathering":
                    return line_edits.set_treatment_setting(
                        loop, line_of, one.id, "wear", variation.uniform(10, 90)
                    )
        return loop

    return variation.choice((chord, chord, level, level, off, blend, blend, wear))
