"""Warm pad: many slightly mistuned voices behind a slow filter."""

import functools

import numpy as np
from numpy.typing import NDArray

from cloudrift.ground.draws import stream
from cloudrift.ground.settings import Field, SettingsSpec
from cloudrift.sound.instrument import Instrument, Tone, ToneRequest, envelope_fields
from cloudrift.sound.spread import CYCLE, read_cycle, spread_cycle
from cloudrift.theory.pitch import pitch_to_hz

SIDE = 0.55


@functools.lru_cache(maxsize=24)
def _cycles(pitch: int, rate: int, spread: float, hollow: float) -> NDArray[np.float32]:
    """One long cycle, dark and bright: a saw's harmonics through a gentle and an open low-pass."""
    rng = stream(0, "warm pad", pitch)
    f0 = pitch_to_hz(pitch)
    k = np.arange(1, 97)
    hz = (f0 * k).astype(np.float64)
    # Even harmonics fade as it gets hollow, down to those of a square wave.
    saw = np.where(k % 2 == 0, 1 - 0.9 * hollow, 1.0) / k
    body = 1 + 0.5 * np.exp(-0.5 * (np.log2(hz / 420) / 0.5) ** 2)
    dark = saw * body / (1 + (hz / (240 + 0.6 * f0)) ** 4) ** 0.6
    bright = saw * body / (1 + (hz / (2300 + 3.4 * f0)) ** 4) ** 0.6
    amplitudes = np.stack([a / np.sqrt((a**2).sum()) for a in (dark, bright)])
    return spread_cycle(rng, hz=hz, amplitudes=amplitudes, spread_cents=spread, rate=rate)


def _tone(request: ToneRequest) -> Tone:
    dark, bright = _cycles(
        request.pitch,
        request.rate,
        request.settings.number("detune_cents") * 0.5,
        request.settings.number("hollow") / 100,
    )
    # Another strike is another place in the same long cycle: other beats, same voices.
    start = int(stream(request.variant, "pad start", request.pitch).integers(CYCLE))
    return Tone(*(read_cycle(c, start, request.frames, SIDE) for c in (dark, bright)))


WARM_PAD = Instrument(
    name="warm pad",
    label="Warm pad",
    family="pads",
    role="pad",
    about="Wide, slow bed of mistuned voices; holds chords under anything.",
    tags=("dark", "wide", "slow"),
    register=(40, 84),
    spec=SettingsSpec(
        (
            *envelope_fields(
                attack_ms=240, decay_ms=3000, sustain=82, release_ms=900, detune_cents=14
            ),
            Field(name="hollow", label="Hollow", default=15, unit="%", low=0, high=100),
        )
    ),
    tone=_tone,
    gain_db=-23.8,
    bloom_ms=420,
    variants=4,
)
