"""What a layer begins with: the lens and touch of its sound's family, and a level that fits in."""

import math
from collections.abc import Collection, Iterable
from statistics import median
from typing import NamedTuple

from msgspec.structs import replace

from cloudrift.loop.edits.chords.bass import BASS_HIGH, BASS_LOW, hears_bass
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.loop.model.sound_use import SoundUse
from cloudrift.loop.model.source import FromChords
from cloudrift.loop.sounding import notes_of
from cloudrift.notes.lens import Lens
from cloudrift.notes.note import Note, numbered
from cloudrift.notes.time import TICKS_PER_QUARTER, bar_ticks, beat_ticks
from cloudrift.notes.touch import Touch
from cloudrift.sound.instrument import Family, Instrument
from cloudrift.sound.own import house_of

# So much under the others a further layer comes in: they are softer than their playing tells,
# by what their treatments cut; a bass has nobody beside it; what is heard at once comes in low.
UNDER_DB, BASS_UNDER_DB, ACCENT_UNDER_DB = 5.0, 2.0, 8.0
ACCENTS = frozenset({"leads", "bells", "brass", "grain", "drums"})
LOW_DB, HIGH_DB = -30.0, 6.0
PEAK_DB = -10.0  # what the peaks of a note reach that is held throughout at 0 dB: of most sounds
CEILING_DB = -3.0  # where the peak of a sum is to stay
MIDDLE_VELOCITY, LOUDER = 84, 26.0  # dB for ten times the velocity, as parts are played
UNTUNED_PITCH = 60  # where a sound without a pitch is as it is


class Way(NamedTuple):
    """How the sounds of a family are usually played."""

    lens: Lens
    touch: Touch


_HELD = Lens(kind="held", skip_bass=True)
_BLOCKS = Lens(kind="all", skip_bass=True)
WAYS: dict[Family, Way] = {
    "keys": Way(_BLOCKS, Touch(roll_ms=14, uneven=0.3, drift_ms=4, spread=6, velocity=80)),
    "organ": Way(_HELD, Touch(velocity=76)),
    "pads": Way(_HELD, Touch(velocity=72, drift_ms=4, spread=3)),
    "strings": Way(_HELD, Touch(velocity=74, drift_ms=6, spread=4)),
    "plucks": Way(
        Lens(kind="arpeggio", voices=3, skip_bass=True, gate=0.7),
        Touch(velocity=78, drift_ms=4, spread=8),
    ),
    "leads": Way(Lens(kind="top"), Touch(velocity=76, drift_ms=5, spread=6)),
    "voice": Way(_HELD, Touch(velocity=74, drift_ms=6, spread=4)),
    "bells": Way(Lens(kind="top"), Touch(velocity=66, spread=8)),
    "bass": Way(Lens(kind="bass", low=BASS_LOW, high=BASS_HIGH), Touch(velocity=88, length=0.9)),
    "brass": Way(_BLOCKS, Touch(velocity=76, drift_ms=5, spread=6, length=0.6)),
    "own": Way(_BLOCKS, Touch(drift_ms=3, spread=5)),
}

# Where drums are struck at first, in beats of a bar of four; a bar of other beats keeps to them.
HITS: dict[str, tuple[float, ...]] = {
    "kick": (0, 2.5), "low kick": (0,), "snap": (1, 3), "clap": (2,), "snare": (2,),
    "rim": (1.5, 3.5), "shaker": tuple(i / 2 for i in range(8)),
    "closed hat": tuple(i / 2 for i in range(8)), "open hat": (3.5,), "zap": (3,),
}  # fmt: skip
ONCE_A_LOOP = {"crash": 0, "sub drop": 0, "riser": -1, "swell": -1}  # the bar that it is in


def usual_layer(loop: Loop, use: SoundUse, name: str = "") -> Layer:
    """Return a layer with a sound as it is usually played, at a level that fits the others.

    What has no pitch does not follow the chords: drums get strokes of their own, textures one long
    note. The layer's id is still to be given.
    """
    sound = use.of
    family = family_of(use)
    lens, touch = WAYS.get(family, WAYS["keys"])
    if sound.role == "pluck" and family != "plucks":
        lens = WAYS["plucks"].lens
    if lens.skip_bass and loop.chords and not any(hears_bass(loop, c) for c in loop.chords):
        lens = replace(lens, skip_bass=False)  # somebody has to play it
    layer = Layer(
        id="new",
        name=name or sound.label,
        role=sound.role,
        source=FromChords(sound=use, lens=lens, touch=touch),
    )
    if not sound.tuned:
        layer = layer.with_notes(first_notes(loop, _house_of(use)))
    return replace(layer, level_db=fitted_level(loop, layer))


def _house_of(use: SoundUse) -> Instrument:
    """The sound itself, or that of the house which an own sound has set in its way."""
    return (house_of(use.own) if use.own else None) or use.of


def family_of(use: SoundUse) -> Family:
    """Return the family whose way of playing a sound has."""
    return _house_of(use).family


def first_notes(loop: Loop, sound: Instrument) -> tuple[Note, ...]:
    """Return what a sound without a pitch plays at first: strokes in each bar, or a long note."""
    bar, beat = bar_ticks(loop.metre), beat_ticks(loop.metre)
    places: list[tuple[int, int]] = [(0, loop.ticks)]
    if sound.name in ONCE_A_LOOP:
        at = ONCE_A_LOOP[sound.name] % loop.bars
        places = [(at * bar, bar)]
    elif sound.family == "drums":
        strokes = [round(b * beat) for b in HITS.get(sound.name, (0,)) if b * beat < bar]
        places = [(i * bar + s, beat // 2) for i in range(loop.bars) for s in strokes or [0]]
    return numbered(
        Note(start_tick=start, length_ticks=min(length, loop.ticks - start), pitch=UNTUNED_PITCH)
        for start, length in places
    )


def fitted_level(loop: Loop, layer: Layer) -> float:
    """Return the level (dB, on half decibels) at which a further layer fits those that are heard.

    All sounds are equally loud on the same chord; how many notes they play, how long and how hard
    makes the rest.
    """
    others = [x.level_db + playing_db(loop, x) for x in loop.heard() if notes_of(loop, x)]
    if not others:
        return 0.0
    family = family_of(layer.played.sound)
    under = (
        BASS_UNDER_DB if family == "bass" else ACCENT_UNDER_DB if family in ACCENTS else UNDER_DB
    )
    # Without notes yet, it is taken for one that is held: what is drawn into it is a line at first.
    playing = playing_db(loop, layer) if layer.own != () else 0.0
    level = median(others) - under - playing
    return min(max(round(level * 2) / 2, LOW_DB), HIGH_DB)


def turned_to_fit(loop: Loop, layer_ids: Collection[str]) -> Loop:
    """Return the loop with some layers turned down, all as much, so that its sum stays below full
    scale as far as that is known without hearing it: their balance stays.
    """
    new = [x for x in loop.layers if x.id in layer_ids]
    others = _peak_of(loop, [x for x in loop.heard() if x.id not in layer_ids])
    room = math.sqrt(max(10 ** (CEILING_DB / 10) - others**2, 10 ** (-24 / 10)))
    over_db = 20 * math.log10(max(_peak_of(loop, new) / room, 1.0))
    for layer in new:
        level = max(layer.level_db - math.ceil(over_db * 2) / 2, LOW_DB)
        loop = loop.with_owner(layer.id, level_db=level)
    return loop


def _peak_of(loop: Loop, layers: Iterable[Layer]) -> float:
    """The peak that layers come to together, about, as a share of full scale.

    Different sounds add up by their power; one that strikes twice at once, by its amplitude.
    """
    peaks: dict[str, float] = {}
    for one in layers:
        if notes_of(loop, one):
            peak = 10 ** ((one.level_db + playing_db(loop, one) + PEAK_DB) / 20)
            name = one.played.sound.name
            peaks[name] = peaks.get(name, 0.0) + peak
    return math.sqrt(sum(peak**2 for peak in peaks.values()))


def playing_db(loop: Loop, layer: Layer) -> float:
    """Return how loud a layer's playing makes it, in dB against one note held throughout."""
    full = layer.played.sound.of.spec.full(layer.played.sound.settings)
    rings = 1e9  # ticks until a note has died away by itself
    if full.number("sustain") < 50:
        second = TICKS_PER_QUARTER * loop.tempo / 60
        rings = full.number("decay_ms") / 1000 * second / 4
    power = sum(
        min(note.length_ticks, rings) * (note.velocity / MIDDLE_VELOCITY) ** (LOUDER / 10)
        for note in notes_of(loop, layer)
    )
    return 10 * math.log10(max(power, 1e-3 * loop.ticks) / loop.ticks)
