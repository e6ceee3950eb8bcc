"""What helps where two layers are in each other's way: small edits of one of them."""

from collections.abc import Callable
from dataclasses import dataclass

from cloudrift.loop import edits, spec
from cloudrift.loop.model import Loop

Edit = Callable[[Loop, str, str, float, float], Loop]  # loop, layer, the other, low Hz, high Hz
LOWER_DB = 4.0
PAN_APART = 0.45
CUT_KIND = "cuts"


@dataclass(frozen=True, kw_only=True)
class Remedy:
    """An edit and, in words, what it does."""

    about: str
    edit: Edit


def _octave(by: int) -> Edit:
    def edit(loop: Loop, layer_id: str, _other: str, _low: float, _high: float) -> Loop:
        octave = loop.layer(layer_id).lens.octave + by
        return edits.set_lens(loop, layer_id, octave=min(max(octave, -3), 3))

    return edit


def cut(loop: Loop, layer_id: str, other: str, low_hz: float, high_hz: float) -> Loop:
    """Cut the crowded band from a layer: from below if it plays higher than the other, else above.

    The layer's own cuts are moved if it has some, else a treatment is added.
    """
    line = loop.layer(layer_id).line
    own = next((t for t in line if t.kind == CUT_KIND), None)
    if own is None:
        loop = edits.add_treatment(loop, layer_id, CUT_KIND)
        own = loop.layer(layer_id).line[-1]
    higher = _middle(loop, layer_id) >= _middle(loop, other)
    name, hz = ("low_cut_hz", high_hz) if higher else ("high_cut_hz", low_hz)
    field = own.of.spec[name]
    return edits.set_treatment_setting(loop, layer_id, own.id, name, field.clipped(round(hz)))


def _middle(loop: Loop, layer_id: str) -> float:
    pitches = [note.pitch for note in loop.notes_of(loop.layer(layer_id))]
    return sum(pitches) / max(1, len(pitches))


def apart(loop: Loop, layer_id: str, other: str, _low: float, _high: float) -> Loop:
    """Pan two layers to opposite sides, the one further right to the right."""
    to_right = loop.layer(layer_id).pan >= loop.layer(other).pan
    side = PAN_APART if to_right else -PAN_APART
    return edits.set_layer(edits.set_layer(loop, layer_id, pan=side), other, pan=-side)


def lower(loop: Loop, layer_id: str, _other: str, _low: float, _high: float) -> Loop:
    """Turn a layer down, so that the other stands out."""
    level = loop.layer(layer_id).level_db - LOWER_DB
    return edits.set_layer(loop, layer_id, level_db=max(level, spec.MIN_LEVEL_DB))


REMEDIES: dict[str, Remedy] = {
    "Octave up": Remedy(about="Play it an octave higher", edit=_octave(1)),
    "Octave down": Remedy(about="Play it an octave lower", edit=_octave(-1)),
    "Cut": Remedy(about="Cut the crowded band out of it, in its own line", edit=cut),
    "Apart": Remedy(about="Pan the two to opposite sides", edit=apart),
    "Lower": Remedy(about=f"Turn it down by {LOWER_DB:.0f} dB", edit=lower),
}
