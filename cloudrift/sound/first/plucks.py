"""Plucks: strings under fingers and palms, tongues of metal, a closing filter."""

import numpy as np

from cloudrift.audio.buffers import Stereo
from cloudrift.ground.draws import stream
from cloudrift.ground.lru import kept
from cloudrift.ground.settings import percent
from cloudrift.sound.first.burst import burst
from cloudrift.sound.first.ringing import Modes, Pair, Ring, String, box, ring
from cloudrift.sound.first.voices import Voices, period, voices
from cloudrift.sound.instrument import (
    Instrument,
    Tone,
    ToneRequest,
    closing,
    pick,
    shaped,
    slide,
)
from cloudrift.sound.kit.body import board
from cloudrift.sound.kit.noise import add_at_start
from cloudrift.sound.kit.strung import wound
from cloudrift.sound.kit.table import harmonics
from cloudrift.theory.pitch import pitch_to_hz

GUITAR_BOX = (98.0, 196.0, 233.0, 392.0, 540.0)  # air and plates
GUITAR_BOX_T60 = (0.14, 0.11, 0.1, 0.07, 0.05)
NYLON_BOARD, STEEL_BOARD, HARP_BOARD = board(3, 90, 3000), board(5, 85, 5200), board(19, 60, 4000)


@kept
def finger(variant: int, rate: int) -> tuple[Stereo, Stereo]:
    """The finger leaving the string: flesh, and nail when it is plucked hard."""
    rng = stream(variant, "finger")
    flesh = burst(rng, rate=rate, seconds=0.04, decay_ms=5, low_hz=300, high_hz=1800)
    nail = burst(rng, rate=rate, seconds=0.02, decay_ms=2, low_hz=1500, high_hz=6000, rise_ms=0.7)
    return flesh, nail


def plucked(
    request: ToneRequest, name: str, string: String, pair: Pair, answer: Ring | None, spread: float
) -> Tone:
    """Pluck a string on a box, with the finger's own noise."""
    rng = stream(request.variant, name, request.pitch)
    tone = ring(request, rng, string.partials(pitch_to_hz(request.pitch), request.pitch),
                pair=pair, body=answer, spread=spread, scatter=0.3)  # fmt: skip
    flesh, nail = finger(request.variant, request.rate)
    level = request.settings.number("finger") / 100
    add_at_start(tone.soft, flesh, 0.06 * level)
    add_at_start(tone.hard, flesh, 0.1 * level)
    add_at_start(tone.hard, nail, 0.07 * level)
    return tone


def _place(request: ToneRequest) -> float:
    """Where the string is plucked; no two plucks hit the same spot."""
    drawn = stream(request.variant, "place", request.pitch).uniform(0.94, 1.06)
    return float(request.settings.number("pick") / 100 * drawn)


def _muted(request: ToneRequest) -> Tone:
    mute = request.settings.number("mute") / 100
    string = String(
        stiffness=wound(4e-5), place=_place(request), slope=0.85, count=40, top_hz=9000,
        soft=(420, 0.3, 1.0), hard=(3400, 1.3, 1.0), bite=0.25, t60=(2.6 - 2.0 * mute, 26),
        per_partial=0.1 + 0.3 * mute, air_hz=2400, air_power=1.7,
    )  # fmt: skip
    answer = box(GUITAR_BOX, GUITAR_BOX_T60, -21, -17)
    return plucked(request, "muted pluck", string, Pair(fast=1.5, slow=0.75), answer, 0.38)


def _nylon(request: ToneRequest) -> Tone:
    string = String(
        stiffness=wound(3e-5), place=_place(request), slope=0.95, count=44, body=NYLON_BOARD,
        soft=(600, 0.6, 1.1), hard=(3000, 1.4, 1.0), bite=0.3, t60=(3.8, 22), per_partial=0.2,
        air_hz=2100, air_power=1.7,
    )  # fmt: skip
    answer = box(GUITAR_BOX, GUITAR_BOX_T60, -19, -14)
    return plucked(request, "nylon", string, Pair(fast=1.9, slow=0.8), answer, 0.4)


def _steel(request: ToneRequest) -> Tone:
    string = String(
        stiffness=wound(7e-5), place=_place(request), slope=0.7, count=60, top_hz=14_000,
        body=STEEL_BOARD, soft=(1200, 1.0, 1.0), hard=(6000, 2.0, 0.9), t60=(6.5, 21),
        per_partial=0.12, air_hz=3000, air_power=1.5,
    )  # fmt: skip
    answer = box(GUITAR_BOX, GUITAR_BOX_T60, -22, -18)
    return plucked(request, "steel", string, Pair(fast=1.8, slow=0.8), answer, 0.42)


def _harp(request: ToneRequest) -> Tone:
    string = String(
        stiffness=wound(2e-5), place=_place(request), slope=1.15, count=36, body=HARP_BOARD,
        soft=(700, 0.9, 1.1), hard=(3400, 2.0, 1.0), bite=0.5, t60=(5.5, 19), per_partial=0.16,
        air_hz=2600, air_power=1.7,
    )  # fmt: skip
    answer = box((120, 210, 340), (0.25, 0.2, 0.12), -24, -20)
    return plucked(request, "harp", string, Pair(fast=1.5, slow=0.9), answer, 0.6)


TONGUE = Modes(
    ratios=(1.0, 5.4, 6.3, 12.9), soft=(0, -40, -44, -60), hard=(0, -5, -7, -14),
    t60=(2.1, 0.34, 0.25, 0.1), halved_st=20,
)  # fmt: skip


def _kalimba(request: ToneRequest) -> Tone:
    rng = stream(request.variant, "kalimba", request.pitch)
    tone = ring(request, rng, TONGUE.partials(pitch_to_hz(request.pitch), request.pitch),
                pair=Pair(fast=1.4, slow=0.9, shares=(0.75, 0.35)), spread=0.45,
                body=box((140, 310, 520), (0.09, 0.07, 0.05), -20, -15))  # fmt: skip
    buzz = finger(request.variant, request.rate)[1]
    level = request.settings.number("finger") / 100
    add_at_start(tone.soft, buzz, 0.03 * level)
    add_at_start(tone.hard, buzz, 0.09 * level)
    return tone


@kept
def _saw_tables(pitch: int, rate: int, hollow: float) -> np.ndarray:
    k = harmonics(pitch, rate, 120)
    hz = pitch_to_hz(pitch) * k
    saw = np.where(k % 2 == 0, 1 - hollow, 1.0) / k
    dark = saw / (1 + (hz / (350 + 0.7 * pitch_to_hz(pitch))) ** 4) ** 0.6
    return period(np.stack([dark, saw / (1 + (hz / 9000) ** 4) ** 0.5]), np.zeros(len(k)))


def _synth(request: ToneRequest) -> Tone:
    rng = stream(request.variant, "synth pluck", request.pitch)
    hollow = request.settings.number("hollow") / 100
    return voices(request, rng, _saw_tables(request.pitch, request.rate, hollow),
                  Voices(sides=0.45))  # fmt: skip


SOUNDS = (
    Instrument(
        name="muted pluck", family="plucks", role="pluck", register=(40, 88),
        about="Short, woody string under the palm; broken chords that leave air.",
        tags=("short", "woody", "dry"),
        spec=shaped(pick(17), percent("mute", "Palm", 62), percent("finger", "Finger", 50),
                    attack_ms=1.5, decay_ms=2500, release_ms=140, detune_cents=1.4),
        tone=_muted, noises=("finger",), gain_db=-13.5,
    ),
    Instrument(
        name="nylon", family="plucks", role="pluck", register=(40, 84),
        about="Round, close guitar; picked chords and slow lines.",
        tags=("warm", "woody", "round"),
        spec=shaped(pick(22), percent("finger", "Finger", 45), slide(),
                    attack_ms=1.5, release_ms=220, detune_cents=1.1),
        tone=_nylon, noises=("finger",), gain_db=-14.7,
    ),
    Instrument(
        name="steel", family="plucks", role="pluck", register=(40, 88),
        about="Bright, ringing strings; open voicings and high figures.",
        tags=("bright", "ringing", "open"),
        spec=shaped(pick(13), percent("finger", "Finger", 55), slide(),
                    attack_ms=1, release_ms=260, detune_cents=1.8),
        tone=_steel, noises=("finger",), gain_db=-16.2,
    ),
    Instrument(
        name="harp", family="plucks", role="pluck", register=(36, 96),
        about="Soft, long strings for runs and rolled chords.",
        tags=("soft", "ringing", "wide"),
        spec=shaped(pick(35), percent("finger", "Finger", 35),
                    attack_ms=1.5, release_ms=900, detune_cents=0.8),
        tone=_harp, noises=("finger",), gain_db=-15.4, variants=2,
    ),
    Instrument(
        name="kalimba", family="plucks", role="pluck", register=(52, 96),
        about="Thumbed tongues on a box; small figures that answer the keys.",
        tags=("round", "woody", "short"),
        spec=shaped(percent("finger", "Thumb", 50), attack_ms=1.5, release_ms=350,
                    detune_cents=1.5),
        tone=_kalimba, noises=("finger",), gain_db=-12.1,
    ),
    Instrument(
        name="synth pluck", family="plucks", role="pluck", register=(40, 96),
        about="A saw behind a closing filter; sixteenths that sit in the rhythm.",
        tags=("short", "wide", "clean"),
        spec=shaped(percent("hollow", "Hollow", 20), closing(160), attack_ms=2, decay_ms=700,
                    sustain=0, release_ms=180, detune_cents=7),
        tone=_synth, gain_db=-15.3,
    ),
)  # fmt: skip
