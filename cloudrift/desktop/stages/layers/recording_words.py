"""What is said of recordings that are brought into the layers."""

from collections.abc import Collection

from cloudrift.desktop.stages.layers.recording_model import ways_words
from cloudrift.loop.edits.layers.recordings import ways_into
from cloudrift.loop.model.loop import Group, Layer, Loop
from cloudrift.loop.model.recorded import FromRecording
from cloudrift.loop.sounding import key_of_layers
from cloudrift.render.plan.variants import alone
from cloudrift.style import house_cards


def offer_words(loop: Loop, source: FromRecording) -> str:
    """Say in one line how a recording came in, and what is to be decided."""
    facts = source.facts
    out = [f"{facts.name} imported as a {facts.kind}"]
    if source.fit == "tempo" and abs(facts.tempo / loop.tempo - 1) > 0.002:
        out.append(f"from {facts.tempo:.5g} to {loop.tempo:g} BPM")
    ways = [way for way in ways_into(source, key_of_layers(loop), loop.tempo) if way]
    if ways:
        words = " or ".join(ways_words(way) for way in ways)
        out.append(f"to be in key it needs {words}")
    return ", ".join((*out, *facts.doubts))


def listed(loop: Loop) -> list[Layer | Group]:
    """Return layers and groups in the order of the list: parked ones below, groups together."""
    out: list[Layer | Group] = []
    for layer in sorted(loop.layers, key=lambda layer: layer.parked):
        if layer.group and not any(one.id == layer.group for one in out):
            inside = [x for x in loop.layers if x.group == layer.group]
            out += [loop.group(layer.group), *sorted(inside, key=lambda x: x.parked)]
        elif not layer.group:
            out.append(layer)
    return out


def role_of(loop: Loop, group: Group) -> str:
    """Return the colour of a group: that of its first layer."""
    return next(layer.role for layer in loop.layers if layer.group == group.id)


def heard_words(loop: Loop, only: Collection[str] = ()) -> str:
    """Say which layers are heard, unmistakably, and how many the style keeps to.

    ``only`` are the layers and groups that are heard alone.
    """
    heard, layers = alone(loop, only).heard(), loop.layers
    if not layers:
        return ""
    if not heard:
        return "nothing plays: every layer is off"
    heard = tuple(layer for layer in heard if not layer.source.is_silent)
    if not heard:
        return "nothing plays: the sounds of these layers are missing here"
    parked = sum(layer.parked for layer in layers)
    if only:
        return f"only {', '.join(layer.name for layer in heard)}, soloed; exports are not affected"
    if len(heard) == len(layers) - parked:
        words = "it is on" if len(heard) == 1 else f"all {len(heard)} on"
        words += f", {parked} off" if parked else ""
    else:
        off = ", ".join(x.name for x in layers if x not in heard and not x.parked)
        words = f"{len(heard)} of {len(layers) - parked} on, without {off}"
    card = house_cards().get(loop.style)
    if card is None:
        return words
    low, high = card.layer_counts
    span = f"{low}" if low == high else f"{low} to {high}"
    return f"{words} · {card.name} stays within {span}"
