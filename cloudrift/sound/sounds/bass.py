"""Bass: floors of sine, a finger on a heavy string, a filtered saw, a drum with a long tail."""

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from cloudrift.ground.draws import rng_for
from cloudrift.ground.lru import memoize
from cloudrift.ground.settings import Field, percent
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
from cloudrift.sound.kit.noise import add_at_start
from cloudrift.sound.kit.one_and_two import one_and_two, period
from cloudrift.sound.kit.players import Section
from cloudrift.sound.kit.strung import WOOD, Body, String, wound
from cloudrift.sound.kit.table import harmonics, read, sine, turns
from cloudrift.sound.sounds.plucks import PLANES, place, plucked
from cloudrift.theory.pitch import pitch_to_hz

Hz = NDArray[np.float64]
BASS_BOARD = board(29, 42, 1800, 2.2)
BASS_BODY = Body(
    name="bass",
    low_hz=48,
    high_hz=1500,
    count=40,
    q=(15, 35),
    soft_db=-21,
    hard_db=-17,
    tail_db=-38,
)


def _fingered(request: ToneRequest) -> Tone:
    string = String(
        stiffness=wound(1.5e-4),
        place=place(request),
        slope=0.85,
        count=48,
        top_hz=6500,
        body=BASS_BOARD,
        soft=(260, 1.0, 1.1),
        hard=(1500, 2.0, 0.9),
        bite=0.25,
        fall=((28, 4.5), (40, 6.5), (60, 13)),
        per_partial=0.12,
        air_hz=2600,
        air_power=1.4,
        uneven_db=2,
    )
    return plucked(request, "fingered bass", string, PLANES, BASS_BODY, 0.12)


def saw_to_square(k: Hz, square: float) -> Hz:
    """Return the harmonics of a saw on its way to a square."""
    return np.asarray(np.where(k % 2 == 0, 1 - square, 1.0) / k)


BASS_FILTER = Sweep(low_hz=95, by_share_oct=3.4, by_key=0.5, falls_oct=3.4, resonance=1.8)


def _synth_bass(request: ToneRequest) -> Tone:
    settings = request.settings
    return swept(
        request,
        "synth bass",
        saw_to_square,
        settings.number("square") / 100,
        BASS_FILTER,
        settings.number("close_ms"),
        Section(players=2, steady_db=9, width=0.6, breathe_db=0, alike=True),
    )


UPRIGHT_BODY = Body(
    name="bass box",
    low_hz=58,
    high_hz=1400,
    count=44,
    q=(12, 28),
    soft_db=-18,
    hard_db=-16,
    tail_db=-36,
)
UPRIGHT_BOARD = board(59, 55, 1300, 2.5)


def _upright(request: ToneRequest) -> Tone:
    """A big box and gut under a finger; the string growls on the board when it is pulled."""
    string = String(
        stiffness=wound(8e-5),
        place=place(request),
        slope=0.8,
        count=40,
        top_hz=4500,
        body=UPRIGHT_BOARD,
        soft=(230, 0.9, 1.1),
        hard=(1100, 2.0, 1.0),
        bite=0.3,
        fall=((28, 8), (40, 12), (55, 22)),
        per_partial=0.14,
        air_hz=1800,
        air_power=1.4,
        uneven_db=2.5,
    )
    return plucked(
        request, "upright bass", string, PLANES, UPRIGHT_BODY, 0.16, nail=0.3, scatter=1.2
    )


RESONANT = Sweep(low_hz=120, by_share_oct=3.0, by_key=0.4, falls_oct=4.2, resonance=6.0)


def _resonant(request: ToneRequest) -> Tone:
    settings = request.settings
    peak = 1.2 + 9 * settings.number("peak") / 100
    sweep = replace(RESONANT, resonance=round(peak, 1))
    return swept(request, "resonant bass", saw_to_square, 0.0, sweep, settings.number("close_ms"),
                 Section(players=2, steady_db=10, width=0.3, breathe_db=0, alike=True))  # fmt: skip


@memoize
def _sub_tables(drive: float) -> NDArray[np.float32]:
    """Soft and hard, whole and without the first harmonic: the low end stays in the middle."""
    soft = np.array([1.0, 0.055, 0.02, 0.006, 0.002])
    hard = np.array([1.0, 0.42, 0.3, 0.14, 0.08])
    rows = []
    for shape in (soft, hard):
        driven = np.concatenate([shape[:1], shape[1:] * (0.4 + 2 * drive)])
        rows.append(driven / np.sqrt((driven**2).sum()))
    whole = np.stack(rows)
    tables = period(whole, np.zeros(5))
    upper = whole * (np.arange(5) > 0)
    size = np.sqrt((upper**2).sum(axis=1))
    return np.concatenate([tables, period(upper, np.zeros(5)) * size[:, None].astype(np.float32)])


def _round_sub(request: ToneRequest) -> Tone:
    return sub(request, "round sub", request.settings.number("drive") / 100)


def sub(request: ToneRequest, name: str, drive: float) -> Tone:
    """A sine with just enough above it to be followed on small speakers."""
    n, rate = request.frames, request.rate
    rng = rng_for(request.variant, name, request.pitch)
    f0, cents = pitch_to_hz(request.pitch), request.settings.number("detune_cents")
    tables = _sub_tables(drive)
    middle = read(tables[:2], turns(f0, None, n, rate, 0.0))
    # A second oscillator 18 dB under the first makes long notes breathe.
    middle += np.float32(0.12) * read(
        tables[:2], turns(f0 * 2 ** (cents / 1200), None, n, rate, 0.25 * rng.random())
    )
    apart = np.float32(0.25) * read(
        tables[2:], turns(f0 * 2 ** (-cents / 1200), None, n, rate, rng.random())
    )
    return Tone(*(np.stack([m + a, m - a]) for m, a in zip(middle, apart, strict=True)))


@memoize
def _layer_tables(pitch: int, rate: int) -> NDArray[np.float32]:
    k, f0 = harmonics(pitch + 12, rate, 40), pitch_to_hz(pitch + 12)
    hz = f0 * k
    return period(
        np.stack([1 / k**1.6 / (1 + (hz / 500) ** 2), k**-0.8 / (1 + (hz / 1900) ** 2)]),
        rng_for(1, "layer").uniform(0, 6, len(k)),
    )


def _layered_sub(request: ToneRequest) -> Tone:
    """The sub under a soft, wide layer an octave up."""
    tone = sub(request, "layered sub", 0.15)
    rng = rng_for(request.variant, "layer", request.pitch)
    upper = one_and_two(request, rng, _layer_tables(request.pitch, request.rate), 0.6, ratio=2.0)
    level = np.float32(0.45 * request.settings.number("layer") / 100)
    soft = tone.soft + np.float32(0.3) * level * upper.soft
    return Tone(soft, tone.hard + np.float32(1.5) * level * upper.hard)


def _long_drum(request: ToneRequest) -> Tone:
    """A tuned drum: a sine that falls into its note, driven so that its tail can be followed."""
    n, rate, settings = request.frames, request.rate, request.settings
    rng = rng_for(request.variant, "long drum", request.pitch)
    f0, drop = pitch_to_hz(request.pitch), settings.number("drop_st")
    tau = settings.number("drop_ms") / 1e3 * rate
    drive = settings.number("drive") / 100
    t = np.arange(n)
    # The phase of f0 * (1 + a exp(-t / tau)), counted in turns.
    swept = f0 / rate * (t + (2 ** (drop / 12) - 1) * tau * (1 - np.exp(-t / tau)))
    cents = settings.number("detune_cents")
    beat = f0 / rate * (2 ** (cents / 1200) - 1) * t + rng.random()
    base = sine(swept) + np.float32(0.16) * sine(swept + beat)
    upper = np.float32(0.02) * sine(2 * swept + 1.5 * beat)
    sides = np.stack([base + upper, base - upper])
    low, push = 0.3 + 0.6 * drive, 2.0 + 8.0 * drive
    soft = np.asarray(np.tanh(sides * low) / low, np.float32)
    hard = np.asarray(np.tanh(sides * push) * (0.85 / np.tanh(push)), np.float32)
    short = int(0.02 * rate)
    click = np.exp(-t[:short] / (0.0015 * rate)) * np.sin(2 * np.pi * 1800 / rate * t[:short])
    click = (click * settings.number("click") / 100).astype(np.float32)[None]
    add_at_start(soft, click, 0.5)  # at 100 %, against the body
    add_at_start(hard, click, 2.2)
    return Tone(soft, hard)


def _drop(st: float, ms: float) -> tuple[Field, Field]:
    return (
        Field(name="drop_st", label="Drop", default=st, unit="st", low=0, high=48, step=0.5),
        Field(name="drop_ms", label="Drop time", default=ms, unit="ms", low=5, high=400, log=True),
    )


SOUNDS = (
    Instrument(
        name="round sub", family="bass", role="bass", register=(24, 55), mono=True, version=2,
        about="Plain, deep sub for roots; monophonic.",
        tags=("deep", "plain", "mono"),
        spec=shaped(percent("drive", "Drive", 30), *mono_fields(), attack_ms=12, decay_ms=2500,
                    sustain=78, release_ms=160, detune_cents=4),
        tone=_round_sub, gain_db=-15.8,
    ),
    Instrument(
        name="layered sub", family="bass", role="bass", register=(24, 60), mono=True,
        about="Deep sub with a soft layer an octave up; audible on small speakers.",
        tags=("deep", "wide", "mono"),
        spec=shaped(percent("layer", "Upper layer", 55), *mono_fields(), attack_ms=16,
                    decay_ms=3000, sustain=85, release_ms=220, detune_cents=6),
        tone=_layered_sub, gain_db=-17.1,
    ),
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
        about="A saw through a closing filter; short notes on the beat.",
        tags=("short", "bright", "mono"),
        spec=shaped(percent("square", "Square", 25), closing(240), *mono_fields(), attack_ms=3,
                    decay_ms=1600, sustain=70, release_ms=90, detune_cents=5),
        tone=_synth_bass, follows=True, gain_db=-15.1,
    ),
    Instrument(
        name="upright bass", family="bass", role="bass", register=(28, 55), mono=True,
        about="Big double bass played with fingers; walking lines, warm and short.",
        tags=("woody", "warm", "mono"),
        spec=shaped(pick(22), percent("finger", "Finger", 50), WOOD, slide(), *mono_fields(),
                    attack_ms=5, release_ms=110, detune_cents=1.2),
        tone=_upright, noises=("finger", "wood"), gain_db=-10.0,
    ),
    Instrument(
        name="resonant bass", family="bass", role="bass", register=(24, 57), mono=True,
        about="A saw through a resonant filter; slides and squelches.",
        tags=("sliding", "bright", "mono"),
        spec=shaped(percent("peak", "Resonance", 55), closing(180), *mono_fields(60), attack_ms=3,
                    decay_ms=1400, sustain=65, release_ms=80, detune_cents=3),
        tone=_resonant, follows=True, gain_db=-11.5,
    ),
    Instrument(
        name="long drum", family="bass", role="bass", register=(24, 55), mono=True, version=2,
        about="Tuned drum with a long, driven tail; slides between roots.",
        tags=("deep", "driven", "mono"),
        spec=shaped(*_drop(19, 28), percent("drive", "Drive", 45), percent("click", "Click", 45),
                    *mono_fields(70), attack_ms=1, decay_ms=2600, sustain=0, release_ms=140,
                    detune_cents=2),
        tone=_long_drum, noises=("click",), gain_db=-8.7,
    ),
)  # fmt: skip
