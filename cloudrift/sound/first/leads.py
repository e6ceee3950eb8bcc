"""Leads: single lines, blown or oscillating."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.ground.draws import stream
from cloudrift.ground.lru import kept
from cloudrift.ground.settings import percent
from cloudrift.sound.first.breath import breath
from cloudrift.sound.first.voices import Vibrato, Voices, period, voices
from cloudrift.sound.instrument import (
    Instrument,
    Tone,
    ToneRequest,
    mono_fields,
    shaped,
    vibrato_fields,
)
from cloudrift.sound.kit.table import harmonics
from cloudrift.theory.pitch import pitch_to_hz


def swaying(request: ToneRequest, drift_cents: float = 3.0) -> Vibrato:
    """Return the vibrato that a sound's settings ask for."""
    settings = request.settings
    return Vibrato(
        hz=settings.number("vibrato_hz"), cents=settings.number("vibrato_cents"),
        onset_ms=settings.number("onset_ms"), drift_cents=drift_cents,
    )  # fmt: skip


def _two(soft: NDArray[np.float64], hard: NDArray[np.float64], name: str) -> NDArray[np.float32]:
    phases = stream(1, name).uniform(0, 2 * np.pi, len(soft))
    return period(np.stack([soft, hard]), phases)


@kept
def _soft_tables(pitch: int, rate: int, hollow: float) -> NDArray[np.float32]:
    k, f0 = harmonics(pitch, rate, 40), pitch_to_hz(pitch)
    base = np.where(k % 2 == 0, 1 - hollow, 1.0) / k**1.7
    hard = base * k**0.8 / (1 + (f0 * k / (2600 + 3 * f0)) ** 2)
    return _two(base / (1 + (f0 * k / (700 + f0)) ** 2), hard, "soft lead")


@kept
def _reed_tables(pitch: int, rate: int, nasal: float) -> NDArray[np.float32]:
    """A cane reed on a narrow bore: odd harmonics lead, a nose between 900 and 1600 Hz."""
    k, f0 = harmonics(pitch, rate, 60), pitch_to_hz(pitch)
    hz = f0 * k
    bore = np.where(k % 2 == 0, 0.35, 1.0) / k**0.9
    nose = 1 + (1 + 3 * nasal) * np.exp(-0.5 * (np.log2(hz / 1200) / 0.4) ** 2)
    hard = bore * k**0.7 * nose / (1 + (hz / (4000 + f0)) ** 2)
    return _two(bore * nose / (1 + (hz / (1000 + f0)) ** 2), hard,
                "reed lead")  # fmt: skip


@kept
def _flute_tables(pitch: int, rate: int) -> NDArray[np.float32]:
    k = harmonics(pitch, rate, 16)
    soft = np.array([1, 0.16, 0.05, 0.012, 0.006] + [0.002] * 11)[: len(k)]
    hard = np.array([1, 0.62, 0.3, 0.12, 0.06, 0.03] + [0.008] * 10)[: len(k)]
    return _two(soft, hard, "flute")


@kept
def _whistle_tables(pitch: int, rate: int) -> NDArray[np.float32]:
    k = harmonics(pitch, rate, 6)
    soft = np.array([1, 0.012, 0.004, 0.001, 0.0, 0.0])[: len(k)]
    return _two(soft, np.array([1, 0.55, 0.2, 0.03, 0.0, 0.0])[: len(k)], "whistle")


@kept
def _glide_tables(pitch: int, rate: int) -> NDArray[np.float32]:
    # A glide from an octave and a half above reads the period that much faster.
    k, f0 = harmonics(pitch + 19, rate, 80), pitch_to_hz(pitch)
    soft = 1 / k / (1 + (f0 * k / (900 + f0)) ** 2) ** 0.8
    return _two(soft, k**-0.85 / (1 + (f0 * k / 6500) ** 2), "gliding lead")


def _soft_lead(request: ToneRequest) -> Tone:
    rng = stream(request.variant, "soft lead", request.pitch)
    tables = _soft_tables(request.pitch, request.rate, request.settings.number("hollow") / 100)
    return voices(request, rng, tables, Voices(sides=0.4, vibrato=swaying(request, 2)))


def _reed_lead(request: ToneRequest) -> Tone:
    rng = stream(request.variant, "reed lead", request.pitch)
    tables = _reed_tables(request.pitch, request.rate, request.settings.number("nasal") / 100)
    tone = voices(request, rng, tables, Voices(sides=0.2, vibrato=swaying(request)))
    return breath(request, tone, request.settings.number("breath") / 100, steady=0.03, chiff=0.08)


def _whistle(request: ToneRequest) -> Tone:
    rng = stream(request.variant, "whistle", request.pitch)
    tone = voices(request, rng, _whistle_tables(request.pitch, request.rate),
                  Voices(sides=0.18, vibrato=swaying(request, 6)))  # fmt: skip
    return breath(request, tone, request.settings.number("breath") / 100, steady=0.24, chiff=0.14)


def _flute(request: ToneRequest) -> Tone:
    rng = stream(request.variant, "flute", request.pitch)
    tone = voices(request, rng, _flute_tables(request.pitch, request.rate),
                  Voices(sides=0.2, vibrato=swaying(request, 4)))  # fmt: skip
    return breath(request, tone, request.settings.number("breath") / 100, steady=0.06, chiff=0.25)


def _gliding(request: ToneRequest) -> Tone:
    rng = stream(request.variant, "gliding lead", request.pitch)
    return voices(request, rng, _glide_tables(request.pitch, request.rate),
                  Voices(sides=0.35, vibrato=swaying(request, 1)))  # fmt: skip


SOUNDS = (
    Instrument(
        name="soft lead", family="leads", role="lead", register=(48, 96),
        about="Round, plain line above the chords; top notes and hooks.",
        tags=("round", "soft", "clean"),
        spec=shaped(percent("hollow", "Hollow", 30), *vibrato_fields(10, 700),
                    attack_ms=18, decay_ms=3000, sustain=85, release_ms=180, detune_cents=5),
        tone=_soft_lead, gain_db=-23.4,
    ),
    Instrument(
        name="reed lead", family="leads", role="lead", register=(48, 88),
        about="Nasal reed with air in it; sad lines in the middle.",
        tags=("nasal", "mid", "airy"),
        spec=shaped(percent("nasal", "Nasal", 45), percent("breath", "Breath", 45),
                    *vibrato_fields(14, 500), attack_ms=40, sustain=92, release_ms=120,
                    detune_cents=2),
        tone=_reed_lead, noises=("breath",), gain_db=-24.3,
    ),
    Instrument(
        name="whistle", family="leads", role="lead", register=(60, 96),
        about="Lips and air; a lonely line far above the chords.",
        tags=("airy", "pure", "high"),
        spec=shaped(percent("breath", "Breath", 50), *vibrato_fields(22, 350, 5.6),
                    attack_ms=45, sustain=95, release_ms=130, detune_cents=1.5),
        tone=_whistle, noises=("breath",), gain_db=-22.6,
    ),
    Instrument(
        name="flute", family="leads", role="lead", register=(55, 96),
        about="Breathy flute with a soft tongue; answers and counter lines.",
        tags=("airy", "soft", "wooden"),
        spec=shaped(percent("breath", "Breath", 50), *vibrato_fields(16, 600, 4.8),
                    attack_ms=35, sustain=92, release_ms=140, detune_cents=1.5),
        tone=_flute, noises=("breath",), gain_db=-23.4,
    ),
    Instrument(
        name="gliding lead", family="leads", role="lead", register=(43, 88), mono=True,
        about="One voice that slides from note to note; slow, singing hooks.",
        tags=("mono", "singing", "smooth"),
        spec=shaped(*vibrato_fields(12, 600), *mono_fields(90, "on"), attack_ms=12,
                    decay_ms=3000, sustain=88, release_ms=200, detune_cents=6),
        tone=_gliding, gain_db=-17.5,
    ),
)  # fmt: skip
