"""Bass: floors of sine, a finger on a heavy string, a filtered saw, a drum with a long tail."""

import functools

import numpy as np
from numpy.typing import NDArray

from cloudrift.ground.draws import stream
from cloudrift.ground.lru import kept
from cloudrift.ground.settings import Field, percent
from cloudrift.sound.first.plucks import plucked
from cloudrift.sound.first.ringing import Pair, String, box
from cloudrift.sound.first.voices import STILL, Voices, period, voices
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
from cloudrift.sound.kit.noise import add_at_start
from cloudrift.sound.kit.strung import wound
from cloudrift.sound.kit.table import harmonics, read, sine, turns
from cloudrift.theory.pitch import pitch_to_hz

BASS_BOARD = board(29, 42, 1800)


@kept
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
    rng = stream(request.variant, name, request.pitch)
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


@kept
def _layer_tables(pitch: int, rate: int) -> NDArray[np.float32]:
    k, f0 = harmonics(pitch + 12, rate, 40), pitch_to_hz(pitch + 12)
    hz = f0 * k
    return period(np.stack([1 / k**1.6 / (1 + (hz / 500) ** 2), k**-0.8 / (1 + (hz / 1900) ** 2)]),
                  stream(1, "layer").uniform(0, 6, len(k)))  # fmt: skip


def _layered_sub(request: ToneRequest) -> Tone:
    """The sub under a soft, wide layer an octave up."""
    tone = sub(request, "layered sub", 0.15)
    rng = stream(request.variant, "layer", request.pitch)
    upper = voices(request, rng, _layer_tables(request.pitch, request.rate), Voices(sides=0.6),
                   ratio=2.0)  # fmt: skip
    level = np.float32(0.45 * request.settings.number("layer") / 100)
    soft = tone.soft + np.float32(0.3) * level * upper.soft
    return Tone(soft, tone.hard + np.float32(1.5) * level * upper.hard)


def _fingered(request: ToneRequest) -> Tone:
    drawn = stream(request.variant, "place", request.pitch).uniform(0.95, 1.05)
    string = String(
        stiffness=wound(1.5e-4), place=request.settings.number("pick") / 100 * drawn, slope=0.9,
        count=44, top_hz=5500, body=BASS_BOARD, soft=(260, 1.0, 1.1), hard=(1100, 2.0, 1.0),
        bite=0.2, t60=(3.2, 30), per_partial=0.1, air_hz=1500, air_power=1.4,
    )  # fmt: skip
    answer = box((62, 118, 190), (0.12, 0.1, 0.08), -26, -20)
    return plucked(request, "fingered bass", string, Pair(fast=1.7, slow=0.85), answer, 0.18)


@kept
def _synth_tables(pitch: int, rate: int, square: float) -> NDArray[np.float32]:
    k, f0 = harmonics(pitch + 12, rate, 90), pitch_to_hz(pitch)
    hz = f0 * k
    wave = np.where(k % 2 == 0, 1 - square, 1.0) / k
    return period(np.stack([wave / (1 + (hz / (160 + f0)) ** 4) ** 0.6,
                            wave / (1 + (hz / 3600) ** 4) ** 0.5]), np.zeros(len(k)))  # fmt: skip


def _synth_bass(request: ToneRequest) -> Tone:
    rng = stream(request.variant, "synth bass", request.pitch)
    square = request.settings.number("square") / 100
    return voices(request, rng, _synth_tables(request.pitch, request.rate, square),
                  Voices(sides=0.22, vibrato=STILL))  # fmt: skip


def long_drum(soft_click: float, hard_click: float, request: ToneRequest) -> Tone:
    """A tuned drum: a sine that falls into its note, driven so that its tail can be followed.

    The clicks are how loud one is on it at 100 %, struck softly and hard, against its body.
    """
    n, rate, settings = request.frames, request.rate, request.settings
    rng = stream(request.variant, "long drum", request.pitch)
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
    add_at_start(soft, click, soft_click)
    add_at_start(hard, click, hard_click)
    return Tone(soft, hard)


def _drop(st: float, ms: float) -> tuple[Field, Field]:
    return (
        Field(name="drop_st", label="Drop", default=st, unit="st", low=0, high=48, step=0.5),
        Field(name="drop_ms", label="Drop time", default=ms, unit="ms", low=5, high=400, log=True),
    )


SOUNDS = (
    Instrument(
        name="round sub", family="bass", role="bass", register=(24, 55), mono=True, version=2,
        about="Plain, deep floor for roots; a new note stops the old.",
        tags=("deep", "plain", "mono"),
        spec=shaped(percent("drive", "Drive", 30), *mono_fields(), attack_ms=12, decay_ms=2500,
                    sustain=78, release_ms=160, detune_cents=4),
        tone=_round_sub, gain_db=-15.8,
    ),
    Instrument(
        name="layered sub", family="bass", role="bass", register=(24, 60), mono=True,
        about="Deep floor with a soft layer an octave up; heard on small speakers.",
        tags=("deep", "wide", "mono"),
        spec=shaped(percent("layer", "Upper layer", 55), *mono_fields(), attack_ms=16,
                    decay_ms=3000, sustain=85, release_ms=220, detune_cents=6),
        tone=_layered_sub, gain_db=-17.1,
    ),
    Instrument(
        name="fingered bass", family="bass", role="bass", register=(28, 60), mono=True,
        about="Heavy string under two fingers; moving bass lines.",
        tags=("round", "woody", "mono"),
        spec=shaped(pick(24), percent("finger", "Finger", 45), slide(), *mono_fields(),
                    attack_ms=2, release_ms=90, detune_cents=1.2),
        tone=_fingered, noises=("finger",), gain_db=-8.2,
    ),
    Instrument(
        name="synth bass", family="bass", role="bass", register=(24, 60), mono=True,
        about="A saw behind a closing filter; short notes on the beat.",
        tags=("short", "bright", "mono"),
        spec=shaped(percent("square", "Square", 25), closing(240), *mono_fields(), attack_ms=3,
                    decay_ms=1600, sustain=70, release_ms=90, detune_cents=5),
        tone=_synth_bass, gain_db=-15.2,
    ),
    Instrument(
        name="long drum", family="bass", role="bass", register=(24, 55), mono=True, version=2,
        about="Tuned drum with a long, driven tail; slides between roots.",
        tags=("deep", "driven", "mono"),
        spec=shaped(*_drop(19, 28), percent("drive", "Drive", 45), percent("click", "Click", 45),
                    *mono_fields(70), attack_ms=1, decay_ms=2600, sustain=0, release_ms=140,
                    detune_cents=2),
        tone=functools.partial(long_drum, 0.5, 2.2), noises=("click",), gain_db=-8.7,
    ),
)  # fmt: skip
