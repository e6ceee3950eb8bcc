"""Loops of all kinds whose tempo and key are known, to be listened to: drawn by number."""

import random
from typing import NamedTuple

from cloudrift.loop.edits.chords.progression import put_row
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.model.loop import Loop
from cloudrift.style.beginnings import empty_loop
from cloudrift.texture.catalogue import FAMILIES, KINDS
from cloudrift.theory import Key, parse_progression

TONICS = ("C", "C#", "D", "Eb", "E", "F", "F#", "G", "Ab", "A", "Bb", "B")
ROWS = {
    # Rows that are at home in two keys at once (vi IV I V is i VI III VII) tell neither.
    "minor": (
        "i VI III VII", "i iv VI V", "i VII VI V", "i v VI iv", "i iv VII i", "i VI iv V7",
        "i III VII iv", "VI VII i i", "i iv i V7", "i ii° V i", "iv V i VI", "i VI iv7 V7",
    ),
    "major": (
        "I V vi IV", "I vi IV V", "ii7 V7 I I", "I IV vi V", "IV V I I", "I iii IV V7",
        "Imaj7 vi7 ii7 V7", "IV V7 I vi", "I ii IV I", "I IV I V7", "I bVII IV I",
    ),
}  # fmt: skip
STRUCK = ("felt upright", "bright grand", "tine keys", "reed keys", "digital keys", "muted pluck",
          "nylon", "steel", "harp", "kalimba", "synth pluck", "music box", "pizzicato")  # fmt: skip
HELD = ("warm pad", "glass pad", "choir pad", "slow strings", "dust pad", "string ensemble",
        "tape strings", "choir ah", "choir oo", "drawbar organ", "chapel organ",
        "soft horn")  # fmt: skip
BASSES = ("round sub", "layered sub", "fingered bass", "synth bass")
DRUMS = ("kick", "low kick", "snap", "clap", "snare", "rim", "shaker", "closed hat", "open hat")
KEEP_TIME = [name for name in KINDS if KINDS[name].family in FAMILIES and
             KINDS[name].family != "Time"]  # fmt: skip


class Found(NamedTuple):
    """A loop, and what kind of sound it has: with drums, struck or plucked, or held alone."""

    loop: Loop
    sort: str


def found(number: int) -> Found:
    """Return the loop of a number."""
    variation = random.Random(number)
    mode = variation.choice(("minor", "minor", "major"))
    key = Key(variation.choice(TONICS), mode)
    tempo = float(
        variation.choice((variation.randint(62, 172), round(variation.uniform(62, 172), 1)))
    )
    loop = empty_loop(key, tempo, bars=variation.choice((4, 8, 8)))
    loop = put_row(loop, parse_progression(variation.choice(ROWS[mode]), key))
    sort = variation.choice(("drums", "struck", "held"))
    sounds = variation.sample(HELD, variation.randint(1, 2))
    if sort != "held":
        sounds = (
            variation.sample(STRUCK, variation.randint(1, 2)) + sounds[: variation.randint(0, 1)]
        )
    sounds += variation.sample(BASSES, variation.choice((0, 1, 1)))
    if sort == "drums":
        sounds += variation.sample(DRUMS, variation.randint(1, 4))
    for sound in sounds:
        loop = layer_edits.add_layer(loop, sound)
        layer = loop.layers[-1]
        if layer.follows:
            loop = layer_edits.set_touch(loop, layer.id, variation=variation.randint(1, 99))
        if variation.random() < 0.3:
            loop = line_edits.add_treatment(loop, layer.id, variation.choice(KEEP_TIME))
    for _ in range(variation.choice((0, 1, 2))):
        loop = line_edits.add_treatment(loop, None, variation.choice(KEEP_TIME))
    return Found(loop, sort)
