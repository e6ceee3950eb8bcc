"""Bass: a finger on a heavy string, a saw behind a filter; subs and drums keep their designs."""

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from cloudrift.ground.settings import percent
from cloudrift.sound.instrument import (
    Instrument,
    Tone,
    ToneRequest,
    closing,
    mono_fields,
    pick,
    shaped,
    slide,
)
from cloudrift.sound.kit.body import board
from cloudrift.sound.kit.filters import Sweep, swept
from cloudrift.sound.kit.players import Section
from cloudrift.sound.kit.strung import WOOD, Body, String, wound
from cloudrift.sound.sounds.plucks import PLANES, place, plucked

Hz = NDArray[np.float64]
BASS_BOARD = board(29, 42, 1800, 2.2)
BASS_BODY = Body(name="bass", low_hz=48, high_hz=1500, count=40, q=(15, 35), soft_db=-21,
                 hard_db=-17, tail_db=-38)  # fmt: skip


def _fingered(request: ToneRequest) -> Tone:
    string = String(
        stiffness=wound(1.5e-4), place=place(request), slope=0.85, count=48, top_hz=6500,
        body=BASS_BOARD, soft=(260, 1.0, 1.1), hard=(1500, 2.0, 0.9), bite=0.25,
        fall=((28, 4.5), (40, 6.5), (60, 13)), per_partial=0.12, air_hz=2600, air_power=1.4,
        uneven_db=2,
    )  # fmt: skip
    return plucked(request, "fingered bass", string, PLANES, BASS_BODY, 0.12)


def saw_to_square(k: Hz, square: float) -> Hz:
    """Return the harmonics of a saw on its way to a square."""
    return np.asarray(np.where(k % 2 == 0, 1 - square, 1.0) / k)


BASS_FILTER = Sweep(low_hz=95, by_share_oct=3.4, by_key=0.5, falls_oct=3.4, resonance=1.8)


def _synth_bass(request: ToneRequest) -> Tone:
    settings = request.settings
    return swept(request, "synth bass", saw_to_square, settings.number("square") / 100,
                 BASS_FILTER, settings.number("close_ms"),
                 Section(players=2, steady_db=9, width=0.6, breathe_db=0, alike=True))  # fmt: skip


UPRIGHT_BODY = Body(name="bass box", low_hz=58, high_hz=1400, count=44, q=(12, 28), soft_db=-18,
                    hard_db=-16, tail_db=-36)  # fmt: skip
UPRIGHT_BOARD = board(59, 55, 1300, 2.5)


def _upright(request: ToneRequest) -> Tone:
    """A big box and gut under a finger; the string growls on the board when it is pulled."""
    string = String(
        stiffness=wound(8e-5), place=place(request), slope=0.8, count=40, top_hz=4500,
        body=UPRIGHT_BOARD, soft=(230, 0.9, 1.1), hard=(1100, 2.0, 1.0), bite=0.3,
        fall=((28, 8), (40, 12), (55, 22)), per_partial=0.14, air_hz=1800, air_power=1.4,
        uneven_db=2.5,
    )  # fmt: skip
    return plucked(request, "upright bass", string, PLANES, UPRIGHT_BODY, 0.16, nail=0.3,
                   scatter=1.2)  # fmt: skip


RESONANT = Sweep(low_hz=120, by_share_oct=3.0, by_key=0.4, falls_oct=4.2, resonance=6.0)


def _resonant(request: ToneRequest) -> Tone:
    settings = request.settings
    peak = 1.2 + 9 * settings.number("peak") / 100
    sweep = replace(RESONANT, resonance=round(peak, 1))
    return swept(request, "resonant bass", saw_to_square, 0.0, sweep, settings.number("close_ms"),
                 Section(players=2, steady_db=10, width=0.3, breathe_db=0, alike=True))  # fmt: skip


SOUNDS = (
    Instrument(
        name="fingered bass", family="bass", role="bass", register=(28, 60), mono=True, version=2,
        about="Heavy string under two fingers; moving bass lines.",
        tags=("round", "woody", "mono"),
        spec=shaped(pick(24), percent("finger", "Finger", 45), WOOD, slide(), *mono_fields(),
                    attack_ms=2, release_ms=90, detune_cents=1.2),
        tone=_fingered, noises=("finger", "wood"), gain_db=-10.5,
    ),
    Instrument(
        name="synth bass", family="bass", role="bass", register=(24, 60), mono=True, version=2,
        about="A saw behind a closing filter; short notes on the beat.",
        tags=("short", "bright", "mono"),
        spec=shaped(percent("square", "Square", 25), closing(240), *mono_fields(), attack_ms=3,
                    decay_ms=1600, sustain=70, release_ms=90, detune_cents=5),
        tone=_synth_bass, follows=True, gain_db=-15.1,
    ),
    Instrument(
        name="upright bass", family="bass", role="bass", register=(28, 55), mono=True,
        about="Big wooden bass under a finger; walking lines, warm and short.",
        tags=("woody", "warm", "mono"),
        spec=shaped(pick(22), percent("finger", "Finger", 50), WOOD, slide(), *mono_fields(),
                    attack_ms=5, release_ms=110, detune_cents=1.2),
        tone=_upright, noises=("finger", "wood"), gain_db=-10.0,
    ),
    Instrument(
        name="resonant bass", family="bass", role="bass", register=(24, 57), mono=True,
        about="A saw through a filter that rings; slides and squelches.",
        tags=("sliding", "bright", "mono"),
        spec=shaped(percent("peak", "Resonance", 55), closing(180), *mono_fields(60), attack_ms=3,
                    decay_ms=1400, sustain=65, release_ms=80, detune_cents=3),
        tone=_resonant, follows=True, gain_db=-11.5,
    ),
)  # fmt: skip
