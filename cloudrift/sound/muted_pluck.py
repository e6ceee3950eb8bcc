"""Muted pluck: a plucked string with the palm resting on the bridge."""

import functools

import numpy as np

from cloudrift.audio.buffers import Stereo
from cloudrift.ground.draws import stream
from cloudrift.ground.settings import Field, SettingsSpec
from cloudrift.sound.bank import decaying_partials
from cloudrift.sound.instrument import Instrument, Tone, ToneRequest, envelope_fields
from cloudrift.sound.noise import add_at_start, burst
from cloudrift.theory.pitch import pitch_to_hz

MAX_PARTIALS = 48
BODY_HZ = np.array([98.0, 196.0, 233.0, 392.0, 540.0])  # air and plates of a small box
BODY_T60 = np.array([0.14, 0.11, 0.1, 0.07, 0.05])


def _tone(request: ToneRequest) -> Tone:
    pitch, rate, settings = request.pitch, request.rate, request.settings
    rng = stream(request.variant, "muted pluck", pitch)
    f0 = pitch_to_hz(pitch)
    b = 4e-5 * 2.0 ** ((pitch - 60) / 14)
    k = np.arange(1, MAX_PARTIALS + 1)
    hz = f0 * k * np.sqrt((1 + b * k**2) / (1 + b))
    k, hz = k[hz < 12_000], hz[hz < 12_000]

    place = settings.number("pick") / 100
    place *= rng.uniform(0.94, 1.06)  # no two plucks hit the same spot
    pluck = (np.abs(np.sin(np.pi * k * place)) + 0.03) / k
    soft = pluck / (1 + (hz / (420 + 0.3 * f0)) ** 2)
    hard = pluck * k**0.35 / (1 + (hz / (3600 + 1.4 * f0)) ** 2)
    soft, hard = (a / np.sqrt((a**2).sum()) for a in (soft, hard))

    mute = settings.number("mute") / 100
    t60 = (2.6 - 2.0 * mute) * 2.0 ** (-(pitch - 60) / 26)
    base = 6.908 / t60 * (1 + (0.1 + 0.3 * mute) * (k - 1) + (hz / 3000) ** 2 * (0.3 + mute))
    # Two planes of vibration: one drains into the box, one along it.
    cents = settings.number("detune_cents") * rng.uniform(0.7, 1.3, len(k))
    pair_hz = np.concatenate([hz * 2 ** (cents / 2400), hz * 2 ** (-cents / 2400)])
    pair_decay = np.concatenate([base * 1.5, base * 0.75])
    share = np.concatenate([np.full(len(k), 0.75), np.full(len(k), 0.45)])
    phase = rng.uniform(-0.3, 0.3, 2 * len(k)) - np.pi / 2
    apart = rng.uniform(0.15, 0.6, 2 * len(k)) * rng.choice([-1, 1], 2 * len(k))
    turn = share * np.exp(1j * phase)
    sides = np.stack([turn * np.exp(1j * apart), turn * np.exp(-1j * apart)])
    body = np.exp(1j * rng.uniform(0, 2 * np.pi, len(BODY_HZ))) * np.array(
        [0.5, 0.6, 0.4, 0.25, 0.15]
    )
    body = np.stack([body, body.conj()])
    strings = np.concatenate([sides * np.tile(soft, 2), sides * np.tile(hard, 2)])
    channels = decaying_partials(
        np.concatenate([pair_hz, BODY_HZ]),
        np.concatenate([pair_decay, 6.908 / BODY_T60]),
        np.concatenate([strings, np.concatenate([0.10 * body, 0.16 * body])], axis=1),
        request.frames,
        rate,
    )
    tone = Tone(channels[:2], channels[2:])
    flesh, nail = _finger_noise(request.variant, rate)
    add_at_start(tone.soft, flesh, 0.03)
    add_at_start(tone.hard, flesh, 0.05)
    add_at_start(tone.hard, nail, 0.035)
    return tone


@functools.lru_cache(maxsize=16)
def _finger_noise(variant: int, rate: int) -> tuple[Stereo, Stereo]:
    """The finger leaving the string: flesh, and nail when it is plucked hard."""
    rng = stream(variant, "pluck finger")
    flesh = burst(rng, rate=rate, seconds=0.04, decay_ms=5, low_hz=300, high_hz=1800)
    nail = burst(rng, rate=rate, seconds=0.02, decay_ms=2, low_hz=1500, high_hz=6000, rise_ms=0.7)
    return flesh, nail


MUTED_PLUCK = Instrument(
    name="muted pluck",
    label="Muted pluck",
    family="plucks",
    role="pluck",
    about="Short, woody string under the palm; broken chords that leave air.",
    tags=("short", "woody", "dry"),
    register=(40, 88),
    spec=SettingsSpec(
        (
            *envelope_fields(
                attack_ms=1.5, decay_ms=2500, sustain=100, release_ms=140, detune_cents=1.4
            ),
            Field(name="pick", label="Pick place", default=17, unit="%", low=5, high=50,
                  hint="share of the string between bridge and finger"),
            Field(name="mute", label="Palm", default=62, unit="%", low=0, high=100),
        )
    ),
    tone=_tone,
    gain_db=-13.9,
)  # fmt: skip
