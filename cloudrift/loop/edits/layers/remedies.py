"""What helps where two layers are in each other's way: small edits of one of them."""

from collections.abc import Callable
from dataclasses import dataclass

from cloudrift.loop.edits.layers import layer_edits, line_edits, own_notes, recordings
from cloudrift.loop.model import spec
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.sounding import notes_of
from cloudrift.texture.catalogue import find_kind

Edit = Callable[[Loop, str, str, float, float], Loop]  # loop, layer, the other, low Hz, high Hz
LOWER_DB = 4.0
PAN_APART = 0.45
FURTHER = 2 ** (1 / 3)
CUT_KIND, LOW, HIGH = "cuts", "low_cut_hz", "high_cut_hz"


@dataclass(frozen=True, kw_only=True)
class Remedy:
    """An edit and, in words, what it does."""

    about: str
    edit: Edit


def _octave(by: int) -> Edit:
    def edit(loop: Loop, layer_id: str, _other: str, _low: float, _high: float) -> Loop:
        layer = loop.layer(layer_id)
        if layer.own is not None:
            ids = {note.id for note in layer.own}
            return own_notes.move_notes(loop, layer_id, ids, semitones=12 * by)
        if layer.recorded is not None:
            return recordings.set_recording(
                loop, layer_id, semitones=recordings.in_reach(layer.recorded.semitones + 12 * by)
            )
        octave = layer.played.lens.octave + by
        return layer_edits.set_lens(loop, layer_id, octave=min(max(octave, -3), 3))

    return edit


def cut(loop: Loop, layer_id: str, other: str, low_hz: float, high_hz: float) -> Loop:
    """Cut the crowded band from a layer: from below if it plays higher than the other, else above.

    The layer's own cuts are moved if it has some, else a treatment is added. One that is there
    already goes a third of an octave further.
    """
    higher = _middle(loop, layer_id) >= _middle(loop, other)
    low_cut, high_cut = cuts_of(loop, layer_id)
    if higher:
        return set_cut(loop, layer_id, LOW, max(high_hz, low_cut * FURTHER))
    return set_cut(loop, layer_id, HIGH, min(low_hz, high_cut / FURTHER))


def cuts_of(loop: Loop, layer_id: str) -> tuple[float, float]:
    """Return where a layer's low and high cut are, in Hz; where it has none, they are off."""
    spec_of = find_kind(CUT_KIND).spec
    own = next((t for t in loop.layer(layer_id).line if t.kind == CUT_KIND and t.on), None)
    if own is None:
        return spec_of[LOW].low, spec_of[HIGH].high
    full = spec_of.full(own.settings)
    return full.number(LOW), full.number(HIGH)


def set_cut(loop: Loop, layer_id: str, name: str, hz: float) -> Loop:
    """Move a layer's low or high cut in its own line, which gets cuts if it has none."""
    own = next((t for t in loop.layer(layer_id).line if t.kind == CUT_KIND), None)
    spec_of = find_kind(CUT_KIND).spec
    if own is None:
        loop = line_edits.add_treatment(loop, layer_id, CUT_KIND)
        own = loop.layer(layer_id).line[-1]
        # Its defaults cut at once; here only what is asked for is cut.
        loop = line_edits.set_treatment_setting(loop, layer_id, own.id, LOW, spec_of[LOW].low)
    if not own.on:
        loop = line_edits.set_treatment(loop, layer_id, own.id, on=True)
    return line_edits.set_treatment_setting(
        loop, layer_id, own.id, name, spec_of[name].clipped(round(hz))
    )


def _middle(loop: Loop, layer_id: str) -> float:
    pitches = [note.pitch for note in notes_of(loop, loop.layer(layer_id))]
    return sum(pitches) / max(1, len(pitches))


def apart(loop: Loop, layer_id: str, other: str, _low: float, _high: float) -> Loop:
    """Pan two layers to opposite sides, the one further right to the right."""
    to_right = loop.layer(layer_id).pan >= loop.layer(other).pan
    side = PAN_APART if to_right else -PAN_APART
    return layer_edits.set_layer(layer_edits.set_layer(loop, layer_id, pan=side), other, pan=-side)


def lower(loop: Loop, layer_id: str, _other: str, _low: float, _high: float) -> Loop:
    """Turn a layer down, so that the other stands out."""
    level = loop.layer(layer_id).level_db - LOWER_DB
    return layer_edits.set_layer(loop, layer_id, level_db=max(level, spec.MIN_LEVEL_DB))


REMEDIES: dict[str, Remedy] = {
    "Octave up": Remedy(about="Move it up an octave", edit=_octave(1)),
    "Octave down": Remedy(about="Move it down an octave", edit=_octave(-1)),
    "Cut": Remedy(about="Cut the crowded band with an equaliser on it", edit=cut),
    "Apart": Remedy(about="Pan the two to opposite sides", edit=apart),
    "Lower": Remedy(about=f"Turn it down by {LOWER_DB:.0f} dB", edit=lower),
}
