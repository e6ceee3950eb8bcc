"""Other loops to listen to: comparing is playing two values, so these are values."""

from msgspec.structs import replace

from cloudrift.loop.edits import set_line, set_treatment
from cloudrift.loop.model import Loop


def bare_of(loop: Loop) -> Loop:
    """Return the loop without any treatment, on layers or on the whole."""
    layers = tuple(replace(layer, line=()) for layer in loop.layers)
    groups = tuple(replace(group, line=()) for group in loop.groups)
    return replace(loop, layers=layers, groups=groups, line=())


def without_line(loop: Loop, layer_id: str | None) -> Loop:
    """Return the loop with one line bare: a layer's, or the whole loop's for None."""
    return set_line(loop, layer_id, ())


def without_card(loop: Loop, layer_id: str | None, treatment_id: str) -> Loop:
    """Return the loop with one treatment of a line out."""
    return set_treatment(loop, layer_id, treatment_id, on=False)


def up_to(loop: Loop, layer_id: str | None, count: int) -> Loop:
    """Return the loop with only the first ``count`` treatments of a line."""
    return set_line(loop, layer_id, loop.line_of(layer_id)[:count])


def only(loop: Loop, layer_id: str) -> Loop:
    """Return the loop with one layer alone."""
    layers = tuple(
        replace(
            layer, solo=layer.id == layer_id, mute=False if layer.id == layer_id else layer.mute
        )
        for layer in loop.layers
    )
    return replace(loop, layers=layers)
