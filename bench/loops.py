"""The loop that figures are taken of."""

from cloudrift.loop import edits
from cloudrift.loop.model import Loop
from cloudrift.style import find_card, sketch
from cloudrift.theory import Key


def big_loop(bars: int = 8) -> Loop:
    """Ten layers, eight bars (or more) at 120 BPM, three treatments a layer, four on the whole."""
    card, key = find_card("Marlow Quist"), Key("F#", "minor")
    loop = sketch(card, key, 120.0, 16, bars=bars, title="Bench")
    sounds = ("felt upright", "warm pad", "muted pluck", "round sub")
    while len(loop.layers) < 10:
        loop = edits.add_layer(loop, sounds[len(loop.layers) % 4])
        layer = loop.layers[-1]
        loop = edits.set_layer(loop, layer.id, level_db=-14.0)
        loop = edits.set_touch(loop, layer.id, drift_ms=5.0, spread=8.0, draw=len(loop.layers))
    for layer in loop.layers:
        for kind in ("cuts", "weathering", "hall")[len(layer.line) :]:
            loop = edits.add_treatment(loop, layer.id, kind)
    for kind in ("hall", "cuts"):
        loop = edits.add_treatment(loop, None, kind)
    assert [len(x.line) for x in loop.layers] == [3] * 10
    assert len(loop.line) == 4
    return loop
