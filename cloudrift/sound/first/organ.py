"""Organs: added sines, and pipes."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo
from cloudrift.ground.draws import stream
from cloudrift.ground.lru import kept
from cloudrift.ground.settings import Field, percent
from cloudrift.sound.first.breath import breath
from cloudrift.sound.first.burst import burst
from cloudrift.sound.first.voices import Vibrato, Voices, period, voices
from cloudrift.sound.instrument import Instrument, Tone, ToneRequest, shaped
from cloudrift.sound.kit.noise import add_at_start
from cloudrift.sound.kit.table import harmonics
from cloudrift.theory.pitch import pitch_to_hz

# Harmonics of the octave below that the bars draw: 16', 5 1/3', 8', 4', 2 2/3', 2', 1 3/5' ...
BARS = (1, 3, 2, 4, 6, 8, 10, 12, 16)
SOFT_BARS = (0.5, 0.25, 1.0, 0.3, 0.08, 0.04, 0.0, 0.0, 0.0)
HARD_BARS = (0.6, 0.6, 1.0, 0.8, 0.45, 0.4, 0.16, 0.14, 0.22)


@kept
def _drawn(pitch: int, rate: int, sub: float) -> NDArray[np.float32]:
    k = harmonics(pitch - 12, rate, 16)
    levels = np.zeros((2, len(k)))
    for bar, soft, hard in zip(BARS, SOFT_BARS, HARD_BARS, strict=True):
        if bar <= len(k):
            levels[:, bar - 1] = (soft, hard) if bar not in (1, 3) else (soft * sub, hard * sub)
    return period(levels, stream(2, "bars").uniform(0, 2 * np.pi, len(k)))


@kept
def _click(variant: int, rate: int) -> Stereo:
    return burst(stream(variant, "key click"), rate=rate, seconds=0.03, decay_ms=3, low_hz=900,
                 high_hz=5000, rise_ms=0.8)  # fmt: skip


def _drawbar(request: ToneRequest) -> Tone:
    settings, n, rate = request.settings, request.frames, request.rate
    rng = stream(request.variant, "drawbar organ", request.pitch)
    hz, depth = settings.number("rotor_hz"), settings.number("rotor") / 100
    how = Voices(sides=0.3, vibrato=Vibrato(hz=hz, cents=11 * depth, onset_ms=-400, drift_cents=0))
    tone = voices(request, rng, _drawn(request.pitch, rate, settings.number("sub") / 60), how,
                  ratio=0.5)  # fmt: skip
    turn = 2 * np.pi * (hz * np.arange(n, dtype=np.float32) / rate + np.float32(rng.random()))
    level = np.float32(0.22 * depth) * np.stack([np.sin(turn), -np.sin(turn)])
    tone = Tone(tone.soft * (1 + level), tone.hard * (1 + level))
    click = settings.number("click") / 100
    add_at_start(tone.soft, _click(request.variant, rate), 0.25 * click)
    add_at_start(tone.hard, _click(request.variant, rate), 0.6 * click)
    return tone


@kept
def _pipes(pitch: int, rate: int, mixture: float) -> NDArray[np.float32]:
    """A stopped pipe and a principal an octave up, with a small mixture on top."""
    k = harmonics(pitch, rate, 48)
    hz = pitch_to_hz(pitch) * k
    stopped = np.where(k % 2 == 1, 1.0, 0.12) / k**1.6
    principal = np.where(k % 2 == 0, 1.0, 0.0) / k**0.8
    twelfth = np.where(np.isin(k, (3, 6, 8, 12)), 0.35 * mixture, 0.0)
    soft = (stopped + 0.12 * principal) / (1 + (hz / 1600) ** 2)
    return period(np.stack([soft, stopped + 0.55 * principal + twelfth]),
                  stream(4, "pipes").uniform(0, 2 * np.pi, len(k)))  # fmt: skip


def _chapel(request: ToneRequest) -> Tone:
    settings = request.settings
    rng = stream(request.variant, "chapel organ", request.pitch)
    tables = _pipes(request.pitch, request.rate, settings.number("mixture") / 100)
    tone = voices(request, rng, tables,
                  Voices(sides=0.45, vibrato=Vibrato(cents=0, drift_cents=1.2)))  # fmt: skip
    return breath(request, tone, settings.number("wind") / 100, steady=0.012, chiff=0.12)


SOUNDS = (
    Instrument(
        name="drawbar organ", family="organ", role="keys", register=(36, 91),
        about="Drawn sines through a slow rotor; held chords with a pulse.",
        tags=("warm", "steady", "round"),
        spec=shaped(percent("sub", "Low bars", 45), percent("click", "Key click", 35),
                    percent("rotor", "Rotor", 45),
                    Field(name="rotor_hz", label="Rotor rate", default=0.9, unit="Hz", low=0.2,
                          high=8, step=0.1, log=True),
                    attack_ms=4, release_ms=60, detune_cents=2),
        tone=_drawbar, noises=("click",), gain_db=-24.5,
    ),
    Instrument(
        name="chapel organ", family="organ", role="keys", register=(36, 91),
        about="Small pipe organ with wind in it; slow minor chords.",
        tags=("hollow", "airy", "steady"),
        spec=shaped(percent("mixture", "Mixture", 30), percent("wind", "Wind", 45),
                    attack_ms=35, release_ms=180, detune_cents=3),
        tone=_chapel, noises=("wind",), gain_db=-24.4,
    ),
)  # fmt: skip
