"""Round sub: a sine with just enough above it to be followed on small speakers."""

import numpy as np

from cloudrift.ground.draws import stream
from cloudrift.ground.settings import Field, SettingsSpec
from cloudrift.sound.bank import decaying_partials
from cloudrift.sound.instrument import Instrument, Tone, ToneRequest, envelope_fields
from cloudrift.theory.pitch import pitch_to_hz

SOFT = np.array([1.0, 0.055, 0.02, 0.006, 0.002])
HARD = np.array([1.0, 0.42, 0.3, 0.14, 0.08])
SECOND = 0.12  # a second oscillator, 18 dB under the first, so that long notes breathe


def _tone(request: ToneRequest) -> Tone:
    rng = stream(request.variant, "round sub", request.pitch)
    drive = request.settings.number("drive") / 100
    k = np.arange(1, len(SOFT) + 1)
    hz = pitch_to_hz(request.pitch) * k
    cents = request.settings.number("detune_cents")
    both_hz = np.concatenate([hz, hz * 2 ** (cents / 1200)])
    decay = np.concatenate([0.05 * k, 0.05 * k])
    phase = np.concatenate([np.full(len(k), -np.pi / 2), rng.uniform(0, 2 * np.pi, len(k))])
    share = np.concatenate([np.ones(len(k)), np.full(len(k), SECOND)])
    # The low end stays in the middle; only the overtones of the second oscillator part.
    apart = np.concatenate([np.zeros(len(k)), 0.5 * (k > 1)])
    turn = share * np.exp(1j * phase)
    sides = np.stack([turn * np.exp(1j * apart), turn * np.exp(-1j * apart)])
    amplitudes = []
    for shape in (SOFT, HARD):
        driven = np.concatenate([shape[:1], shape[1:] * (0.4 + 2 * drive)])
        amplitudes.append(sides * np.tile(driven / np.sqrt((driven**2).sum()), 2))
    channels = decaying_partials(
        both_hz, decay, np.concatenate(amplitudes), request.frames, request.rate
    )
    return Tone(channels[:2], channels[2:])


ROUND_SUB = Instrument(
    name="round sub",
    label="Round sub",
    family="bass",
    role="bass",
    about="Plain, deep floor for roots; a new note stops the old.",
    tags=("deep", "plain", "mono"),
    register=(24, 55),
    spec=SettingsSpec(
        (
            *envelope_fields(
                attack_ms=12, decay_ms=2500, sustain=78, release_ms=160, detune_cents=4
            ),
            Field(name="drive", label="Drive", default=30, unit="%", low=0, high=100),
        )
    ),
    tone=_tone,
    mono=True,
    gain_db=-12.6,
)
