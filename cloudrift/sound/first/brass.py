"""Brass: tubes that brighten as they are blown."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.ground.draws import stream
from cloudrift.ground.lru import kept
from cloudrift.ground.settings import percent
from cloudrift.sound.first.breath import breath
from cloudrift.sound.first.leads import swaying
from cloudrift.sound.first.voices import Vibrato, Voices, period, voices
from cloudrift.sound.instrument import (
    Instrument,
    Tone,
    ToneRequest,
    closing,
    opening,
    shaped,
    vibrato_fields,
)
from cloudrift.sound.kit.table import harmonics
from cloudrift.theory.pitch import pitch_to_hz


@kept
def _tube(pitch: int, rate: int, dark_hz: float, bright_hz: float) -> NDArray[np.float32]:
    k, f0 = harmonics(pitch, rate, 80), pitch_to_hz(pitch)
    hz = f0 * k
    bell = 1 / np.sqrt(1 + (180 / hz) ** 2)
    soft = bell / k**0.8 / (1 + (hz / (dark_hz + 0.8 * f0)) ** 3)
    hard = bell / k**0.45 / (1 + (hz / (bright_hz + 1.2 * f0)) ** 3)
    return period(np.stack([soft, hard]), stream(1, "tube").uniform(0, 2 * np.pi, len(k)))


def _horn(request: ToneRequest) -> Tone:
    rng = stream(request.variant, "soft horn", request.pitch)
    tables = _tube(request.pitch, request.rate, 380, 1500)
    tone = voices(request, rng, tables, Voices(sides=0.3, vibrato=swaying(request, 5)))
    return breath(request, tone, request.settings.number("breath") / 100, steady=0.02, chiff=0.06)


def _stab(request: ToneRequest) -> Tone:
    rng = stream(request.variant, "brass stab", request.pitch)
    tables = _tube(request.pitch, request.rate, 500, 3600)
    return voices(request, rng, tables,
                  Voices(sides=0.55, vibrato=Vibrato(cents=0, drift_cents=5)))  # fmt: skip


SOUNDS = (
    Instrument(
        name="soft horn", family="brass", role="lead", register=(41, 77),
        about="Far, round horn; slow lines and thirds under a lead.",
        tags=("round", "warm", "far"),
        spec=shaped(percent("breath", "Breath", 40), opening(140), *vibrato_fields(6, 900, 4.6),
                    attack_ms=70, decay_ms=3000, sustain=90, release_ms=200, detune_cents=4),
        tone=_horn, noises=("breath",), gain_db=-23.8,
    ),
    Instrument(
        name="brass stab", family="brass", role="lead", register=(43, 84),
        about="A section that hits and lets go; short chords between phrases.",
        tags=("short", "bright", "wide"),
        spec=shaped(opening(18), closing(420), attack_ms=14, decay_ms=900, sustain=55,
                    release_ms=130, detune_cents=9),
        tone=_stab, gain_db=-20.8,
    ),
)  # fmt: skip
