"""Layers that sound apart from the others, in words, and the shift that joins them."""

from cloudrift.ground.words import number, plural
from cloudrift.loop.edits.layers import line_edits, recordings
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.sounding.heard import Disagreement, heard


def join(loop: Loop, apart: Disagreement) -> Loop:
    """Shift a layer so that it sounds with the others: a recording's pitch, or else its line's."""
    layer = loop.layer(apart.layer)
    if layer.recorded is not None:
        semitones = recordings.in_reach(layer.recorded.semitones + apart.cents / 100)
        return recordings.set_recording(loop, apart.layer, semitones=semitones)
    loop = line_edits.add_treatment(loop, apart.layer, "shift")
    added = loop.line_of(apart.layer)[-1].id
    whole = round(apart.cents / 100)
    for name, value in (("semitones", float(whole)), ("cents", apart.cents - 100.0 * whole)):
        loop = line_edits.set_treatment_setting(loop, apart.layer, added, name, round(value, 1))
    return loop


def apart_words(loop: Loop, apart: Disagreement) -> str:
    """Say how a layer sounds apart from the others."""
    name = loop.layer(apart.layer).name
    if apart.is_tuning or apart.key is None:
        return f"{name} is {number(abs(apart.cents), '.0f')} cents out of tune"
    return f"{name} sounds in {apart.key.text}"


def shift_words(apart: Disagreement) -> str:
    """Say the shift that would join a layer: ``+3 st``, ``-40 cents``."""
    if apart.is_tuning:
        return f"{number(apart.cents, '+.0f')} cents"
    return f"{number(apart.cents / 100, '+.4g')} st"


def apart_in_all(loop: Loop) -> str:
    """Say how many layers sound apart from the others; nothing where none does."""
    found = heard(loop).disagreements
    if not found:
        return ""
    tuning = all(one.is_tuning for one in found)
    return f"{plural(len(found), 'layer')} {'out of tune' if tuning else 'in another key'}"
