"""Felt upright: an upright piano with a strip of felt between hammers and strings."""

import functools

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo
from cloudrift.ground.draws import stream
from cloudrift.ground.settings import Field, SettingsSpec
from cloudrift.sound.bank import decaying_partials
from cloudrift.sound.instrument import Instrument, Tone, ToneRequest, envelope_fields
from cloudrift.sound.noise import add_at_start, burst
from cloudrift.theory.pitch import pitch_to_hz

STRIKE = 1 / 8.3  # where the hammer meets the string, as a share of its length
MAX_PARTIALS = 56
KNOCK_MODES = 14


def inharmonicity(pitch: int) -> float:
    """Return the stiffness coefficient B of a string by MIDI number.

    The sum of a bass and a treble exponential, the shape found by fitting whole pianos (Rigaud,
    David and Daudet, 2011); about 3e-4 at C4.
    """
    return float(np.exp(0.0926 * pitch - 13.64) + np.exp(-0.0847 * pitch - 5.82))


@functools.cache
def _body_gain_table() -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The soundboard: no support below 70 Hz, uneven to +-4 dB, falling above 3 kHz."""
    rng = stream(7, "upright body")
    hz = np.geomspace(25, 22_000, 160)
    bumps = np.convolve(rng.standard_normal(170), np.hanning(11) / 2.2, "valid")
    db = 3.0 * bumps - 10 * np.log10(1 + (75 / hz) ** 4) - 10 * np.log10(1 + (hz / 3400) ** 2)
    return np.log(hz), db


def _body_gain(hz: NDArray[np.float64]) -> NDArray[np.float64]:
    log_hz, db = _body_gain_table()
    return np.asarray(10 ** (np.interp(np.log(hz), log_hz, db) / 20))


def _tone(request: ToneRequest) -> Tone:
    pitch, rate, settings = request.pitch, request.rate, request.settings
    rng = stream(request.variant, "felt upright", pitch)
    f0, b = pitch_to_hz(pitch), inharmonicity(pitch)
    k = np.arange(1, MAX_PARTIALS + 1)
    hz = f0 * k * np.sqrt((1 + b * k**2) / (1 + b))
    k, hz = k[hz < 9000], hz[hz < 9000]

    felt = settings.number("felt") / 100
    comb = np.abs(np.sin(np.pi * k * STRIKE)) + 0.04
    shape = comb * _body_gain(hz) / k**0.35
    soft_hz = (520 - 300 * felt) + 0.55 * f0
    hard_hz = (3600 - 2300 * felt) + 0.9 * f0
    soft = shape / (1 + (hz / soft_hz) ** 2) ** 1.35
    hard = shape / (1 + (hz / hard_hz) ** 2) ** 1.2
    soft, hard = (a / np.sqrt((a**2).sum()) for a in (soft, hard))

    # Coupled strings: each partial has a mode that the bridge drains fast and one that it
    # hardly hears; they differ by the mistuning of the strings, so they also beat.
    t60 = 10.5 * 2.0 ** (-(pitch - 36) / 19)
    base = 6.908 / t60 * (1 + 0.16 * (k - 1) + (hz / 2600) ** 1.5)
    cents = settings.number("detune_cents") * rng.uniform(0.6, 1.4, len(k))
    pair_hz = np.concatenate([hz * 2 ** (cents / 2400), hz * 2 ** (-cents / 2400)])
    pair_decay = np.concatenate([base * 2.3, base * 0.62])
    share = np.concatenate([np.full(len(k), 0.7), np.full(len(k), 0.42)])
    phase = np.concatenate([rng.uniform(-0.5, 0.5, len(k)), rng.uniform(-1.2, 1.2, len(k))])
    phase += np.tile(np.where(k % 2, 0.0, np.pi), 2) - np.pi / 2
    turn = share * np.exp(1j * phase)
    apart = rng.uniform(0.2, 0.62, 2 * len(k)) * rng.choice([-1, 1], 2 * len(k))
    lean = 0.09 * (pitch - 62) / 24 + 0.08 * rng.uniform(-1, 1, 2 * len(k))
    sides = np.stack([(1 - lean) * np.exp(1j * apart), (1 + lean) * np.exp(-1j * apart)]) * turn

    level = settings.number("hammer") / 100
    knock_hz, knock_decay, knock = _knock(rng)
    amplitude = np.concatenate([sides * np.tile(soft, 2), sides * np.tile(hard, 2)])
    knocks = np.concatenate([0.16 * level * knock, 0.26 * level * knock])
    channels = decaying_partials(
        np.concatenate([pair_hz, knock_hz]),
        np.concatenate([pair_decay, knock_decay]),
        np.concatenate([amplitude, knocks], axis=1),
        request.frames,
        rate,
    )
    tone = Tone(channels[:2], channels[2:])
    felt_noise, strike_noise = _hammer_noise(request.variant, rate)
    add_at_start(tone.soft, felt_noise, 0.05 * level)
    add_at_start(tone.hard, felt_noise, 0.07 * level)
    add_at_start(tone.hard, strike_noise, 0.035 * level)
    return tone


def _knock(
    rng: np.random.Generator,
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.complex128]]:
    """The case answering the hammer: short low modes as frequencies, decays and amplitudes."""
    mode_hz = (
        85
        * (9.0 ** (np.arange(KNOCK_MODES) / (KNOCK_MODES - 1)))
        * rng.uniform(0.96, 1.04, KNOCK_MODES)
    )
    t60 = 0.22 / (mode_hz / 100) ** 0.6
    phase = rng.uniform(0, 2 * np.pi, (2, KNOCK_MODES)) * 0.35 + rng.uniform(
        0, 2 * np.pi, KNOCK_MODES
    )
    return mode_hz, 6.908 / t60, np.exp(1j * phase) / np.sqrt(KNOCK_MODES)


@functools.lru_cache(maxsize=16)
def _hammer_noise(variant: int, rate: int) -> tuple[Stereo, Stereo]:
    """Felt meeting strings, soft and hard."""
    rng = stream(variant, "upright hammer")
    felt = burst(rng, rate=rate, seconds=0.09, decay_ms=14, low_hz=180, high_hz=900, rise_ms=2)
    strike = burst(rng, rate=rate, seconds=0.05, decay_ms=7, low_hz=400, high_hz=2600)
    return felt, strike


@functools.lru_cache(maxsize=8)
def _damper(variant: int, rate: int) -> Stereo:
    """Felt falling back on the strings, 34 dB under a note's start."""
    rng = stream(variant, "upright damper")
    noise = burst(rng, rate=rate, seconds=0.12, decay_ms=24, low_hz=120, high_hz=700, rise_ms=4)
    return np.asarray(noise * np.float32(0.02))


FELT_UPRIGHT = Instrument(
    name="felt upright",
    label="Felt upright",
    family="keys",
    role="keys",
    about="Soft, close piano with the felt down; carries chords without shouting.",
    tags=("dark", "warm", "intimate"),
    register=(36, 84),
    spec=SettingsSpec(
        (
            *envelope_fields(
                attack_ms=3, decay_ms=4000, sustain=100, release_ms=220, detune_cents=0.9
            ),
            Field(name="felt", label="Felt", default=60, unit="%", low=0, high=100),
            Field(name="hammer", label="Hammer", default=55, unit="%", low=0, high=100),
        )
    ),
    tone=_tone,
    damper=_damper,
    gain_db=-11.6,
)
