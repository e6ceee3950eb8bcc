"""Strings: a section, an aged one, one plucked, and players alone."""

import functools

import numpy as np
from numpy.typing import NDArray

from cloudrift.ground.draws import rng_for
from cloudrift.ground.lru import memoize
from cloudrift.ground.settings import percent
from cloudrift.sound.instrument import (
    Instrument,
    Tone,
    ToneRequest,
    opening,
    shaped,
    tape_sway,
    vibrato_fields,
)
from cloudrift.sound.kit.air import beside
from cloudrift.sound.kit.body import board, lowpass
from cloudrift.sound.kit.noise import add_at_start, band, puff
from cloudrift.sound.kit.players import Periods, Section, periods, play
from cloudrift.sound.kit.straying import Vibrato, knot_times, straying
from cloudrift.sound.kit.strung import WOOD, Body, Courses, String, wound
from cloudrift.sound.kit.table import harmonics
from cloudrift.sound.sounds.leads import solo, swaying
from cloudrift.sound.sounds.plucks import plucked
from cloudrift.theory.pitch import pitch_to_hz

Hz = NDArray[np.float64]
FIDDLES = tuple(
    board(variation, 180, 4200, 2.4) for variation in (23, 31, 37)
)  # no two of them alike
_BOW, _HISS = band(900, 6000), band(1200, 9000)
DESKS = Section(
    players=9,
    width=0.95,
    breathe_db=2.5,
    late_ms=55,
    sway=Vibrato(hz=5.4, cents=11, onset_ms=350, drift_cents=3, jitter_cents=1.5),
)
WORN = Section(
    players=7,
    width=0.75,
    breathe_db=4,
    sway=Vibrato(hz=5.0, cents=9, onset_ms=250, drift_cents=5, shimmer_db=0.8),
)


TAPE_WAVES = ((0.21, 0.4), (0.57, 0.4), (1.1, 0.35), (6.3, 0.12))


@memoize
def _section(pitch: int, rate: int, bow: float) -> Periods:
    """Players near by: the bumps of their boxes over a falling spectrum."""
    k, f0 = harmonics(pitch, rate, 110), pitch_to_hz(pitch)
    hz, bright = f0 * k, 0.3 + 0.7 * bow
    sets = []
    for fiddle in FIDDLES:
        soft = (f0 / hz) ** 1.05 * fiddle(hz) * lowpass(hz, 900 + f0, 0.4)
        hard = (f0 / hz) ** 0.4 * fiddle(hz) * lowpass(hz, 2600 + 3600 * bright + f0, 0.35)
        sets.append((soft, hard))
    return periods(np.array(sets)[:, :, None], _turns(len(k)), f0)


@memoize
def _aged(pitch: int, rate: int) -> Periods:
    """The same through an old tape: no deep lows, no air."""
    k, f0 = harmonics(pitch, rate, 70), pitch_to_hz(pitch)
    hz = f0 * k
    thin = 1 / np.sqrt(1 + (140 / hz) ** 4)
    sets = []
    for fiddle in FIDDLES:
        soft = (f0 / hz) ** 1.1 * thin * fiddle(hz) ** 0.5 * lowpass(hz, 700 + 0.8 * f0, 0.7)
        hard = (f0 / hz) ** 0.75 * thin * fiddle(hz) ** 0.5 * lowpass(hz, 2600 + 2.4 * f0, 0.9)
        sets.append((soft, hard))
    return periods(np.array(sets)[:, :, None], _turns(len(k)), f0)


def _turns(count: int) -> NDArray[np.float64]:
    return np.asarray(rng_for(1, "bowed").uniform(0, 2 * np.pi, 120)[:count])


def _ensemble(request: ToneRequest) -> Tone:
    made = _section(request.pitch, request.rate, request.settings.number("bow") / 100)
    rng = rng_for(request.variant, "string ensemble", request.pitch)
    tone = Tone(*play(request, rng, DESKS, made))
    return beside(request, tone, "bow", _BOW, 0.05 * request.settings.number("rosin") / 100, -8)


def _tape_strings(request: ToneRequest) -> Tone:
    """Each key's tape runs at a speed that strays, and some of its players have faded."""
    settings = request.settings
    rng = rng_for(request.variant, "tape strings", request.pitch)
    bend = straying(request, rng, settings.number("sway_cents"), TAPE_WAVES, 0.15)
    made = _aged(request.pitch, request.rate)
    tone = Tone(*play(request, rng, WORN, made, bend=bend))
    return beside(request, tone, "tape", _HISS, 0.04 * settings.number("hiss") / 100, -4)


FIDDLE_BOX = Body(
    name="fiddle",
    low_hz=170,
    high_hz=3200,
    count=44,
    q=(14, 32),
    soft_db=-15,
    hard_db=-12,
    tail_db=-38,
    tail_fall=0.9,
)


def _pizzicato(request: ToneRequest) -> Tone:
    string = String(
        stiffness=wound(3e-5),
        place=0.16,
        slope=1.0,
        count=40,
        body=FIDDLES[0],
        soft=(650, 0.9, 1.1),
        hard=(3600, 2.0, 1.0),
        bite=0.5,
        fall=((43, 28), (60, 40), (72, 52), (84, 75), (91, 95)),
        per_partial=0.16,
        air_hz=3000,
        air_power=1.5,
        uneven_db=2,
    )
    two = Courses(off=(-0.7, 0.3), fall=(1.4, 0.75), level=(0.7, 0.45))
    return plucked(request, "pizzicato", string, two, FIDDLE_BOX, 0.55)


CELLO_BOX = board(53, 95, 2600, 2.6)


@memoize
def _bowed(pitch: int, rate: int, low: bool) -> Periods:
    """One player near by: a saw through one box; pressed harder, its corner is sharper."""
    k, f0 = harmonics(pitch, rate, 110), pitch_to_hz(pitch)
    hz = f0 * k
    box = CELLO_BOX(hz) if low else FIDDLES[0](hz)
    ridge = 700.0 if low else 2500.0
    bridge = 1 + 0.9 * np.exp(-0.5 * (np.log2(hz / ridge) / 0.45) ** 2)
    soft = (f0 / hz) ** 1.3 * box * lowpass(hz, 1000 + f0, 0.45)
    hard = (f0 / hz) ** 0.75 * box * bridge * lowpass(hz, 5200 + f0, 0.4)
    return periods(np.stack([soft, hard])[None, :, None], _turns(len(k)), f0)


def _alone(name: str, low: bool, request: ToneRequest) -> Tone:
    made = _bowed(request.pitch, request.rate, low)
    rng = rng_for(request.variant, name, request.pitch)
    t = knot_times(request)
    scoop = -14 * np.exp(-t / 0.05)  # a finger that lands a little flat
    section = solo(request, swaying(request, 3, 0.05, 2.5), -11)
    tone = Tone(*play(request, rng, section, made, bend=scoop))
    rosin = request.settings.number("rosin") / 100
    scrape = puff(request, "scrape", _BOW, decay_ms=45, rise_ms=8)
    add_at_start(tone.soft, scrape, 0.05 * rosin)
    add_at_start(tone.hard, scrape, 0.12 * rosin)
    return beside(request, tone, "bow", _BOW, 0.06 * rosin, -8)


SOUNDS = (
    Instrument(
        name="string ensemble", family="strings", role="strings", register=(36, 96), version=2,
        about="A close section; moving inner lines and swells.",
        tags=("warm", "wide", "bowed"),
        spec=shaped(percent("bow", "Bow", 50), percent("rosin", "Rosin", 40), opening(220),
                    attack_ms=120, decay_ms=3000, sustain=92, release_ms=420, detune_cents=12),
        tone=_ensemble, noises=("rosin",), gain_db=-25.6, variants=2,
    ),
    Instrument(
        name="tape strings", family="strings", role="strings", register=(43, 84), version=2,
        about="Strings from a worn tape; uneven, sustained, slightly out of tune.",
        tags=("aged", "dusty", "mid"),
        spec=shaped(tape_sway(9), percent("hiss", "Hiss", 40), opening(120),
                    attack_ms=70, decay_ms=6000, sustain=85, release_ms=260, detune_cents=10),
        tone=_tape_strings, noises=("hiss",), gain_db=-25.4, variants=2,
    ),
    Instrument(
        name="pizzicato", family="strings", role="pluck", register=(43, 91), version=2,
        about="Plucked strings, short and springy; off-beats and runs.",
        tags=("short", "woody", "dry"),
        spec=shaped(percent("finger", "Finger", 60), WOOD, attack_ms=1.5, release_ms=180,
                    detune_cents=2),
        tone=_pizzicato, noises=("finger", "wood"), gain_db=-15.1,
    ),
    Instrument(
        name="solo violin", family="strings", role="lead", register=(55, 98),
        about="One fiddle, close; a sad line over the chords.",
        tags=("bowed", "singing", "bright"),
        spec=shaped(percent("rosin", "Rosin", 45), *vibrato_fields(16, 450, 5.6), opening(120),
                    attack_ms=70, decay_ms=3000, sustain=94, release_ms=160, detune_cents=2),
        tone=functools.partial(_alone, "solo violin", False), noises=("rosin",), gain_db=-24.3,
    ),
    Instrument(
        name="solo cello", family="strings", role="lead", register=(36, 79),
        about="One cello, close; low answers and long bass notes.",
        tags=("bowed", "warm", "singing"),
        spec=shaped(percent("rosin", "Rosin", 45), *vibrato_fields(13, 500, 5.0), opening(140),
                    attack_ms=85, decay_ms=3000, sustain=94, release_ms=200, detune_cents=2),
        tone=functools.partial(_alone, "solo cello", True), noises=("rosin",), gain_db=-23.9,
    ),
)  # fmt: skip
