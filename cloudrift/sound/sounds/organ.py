"""Organs: added sines, and pipes."""

import numpy as np

from cloudrift.ground.draws import rng_for
from cloudrift.ground.lru import memoize
from cloudrift.ground.settings import Field, percent
from cloudrift.sound.instrument import Instrument, Tone, ToneRequest, shaped
from cloudrift.sound.kit.air import aired
from cloudrift.sound.kit.noise import add_at_start, band, puff
from cloudrift.sound.kit.players import Periods, Section, periods, play
from cloudrift.sound.kit.straying import Vibrato
from cloudrift.sound.kit.table import harmonics
from cloudrift.theory.pitch import pitch_to_hz

# Harmonics of the octave below that the bars draw: 16', 5 1/3', 8', 4', 2 2/3', 2', 1 3/5' ...
BARS = (1, 3, 2, 4, 6, 8, 10, 12, 16)
SOFT_BARS = (0.5, 0.25, 1.0, 0.3, 0.08, 0.04, 0.0, 0.0, 0.0)
HARD_BARS = (0.6, 0.6, 1.0, 0.8, 0.5, 0.45, 0.2, 0.18, 0.28)
_CLICK = band(900, 5500)


@memoize
def _drawn(pitch: int, rate: int, sub: float) -> Periods:
    k = harmonics(pitch - 12, rate, 16)
    levels = np.zeros((2, len(k)))
    for bar, soft, hard in zip(BARS, SOFT_BARS, HARD_BARS, strict=True):
        if bar <= len(k):
            levels[:, bar - 1] = (soft, hard) if bar not in (1, 3) else (soft * sub, hard * sub)
    phases = rng_for(2, "bars").uniform(0, 2 * np.pi, 16)[: len(k)]
    return periods(levels[None, :, None], phases, pitch_to_hz(pitch - 12))


def _drawbar(request: ToneRequest) -> Tone:
    settings, n, rate = request.settings, request.frames, request.rate
    rng = rng_for(request.variant, "drawbar organ", request.pitch)
    hz, depth = settings.number("rotor_hz"), settings.number("rotor") / 100
    section = Section(
        players=2,
        steady_db=11,
        width=1.0,
        breathe_db=0,
        alike=True,
        sway=Vibrato(hz=hz, cents=11 * depth, onset_ms=-400, drift_cents=0),
    )
    made = _drawn(request.pitch, rate, settings.number("sub") / 60)
    tone = Tone(*play(request, rng, section, made, ratios=(0.5,)))
    turn = 2 * np.pi * (hz * np.arange(n, dtype=np.float32) / rate + np.float32(rng.random()))
    level = np.float32(0.22 * depth) * np.stack([np.sin(turn), -np.sin(turn)])
    tone = Tone(tone.soft * (1 + level), tone.hard * (1 + level))
    click = settings.number("click") / 100
    noise = puff(request, "key click", _CLICK, decay_ms=3, rise_ms=0.8)
    add_at_start(tone.soft, noise, 0.3 * click)
    add_at_start(tone.hard, noise, 0.7 * click)
    return tone


@memoize
def _pipes(pitch: int, rate: int, mixture: float) -> Periods:
    """A stopped pipe and a principal an octave up, with a small mixture on top."""
    k = harmonics(pitch, rate, 64)
    hz = pitch_to_hz(pitch) * k
    stopped = np.where(k % 2 == 1, 1.0, 0.12) / k**1.6
    principal = np.where(k % 2 == 0, 1.0, 0.0) / k**0.8
    twelfth = np.where(np.isin(k, (3, 6, 8, 12, 16)), 0.4 * mixture, 0.0)
    soft = (stopped + 0.12 * principal) / (1 + (hz / 1600) ** 2)
    both = np.stack([soft, stopped + 0.55 * principal + twelfth])
    phases = rng_for(4, "pipes").uniform(0, 2 * np.pi, 64)[: len(k)]
    return periods(both[None, :, None], phases, pitch_to_hz(pitch))


PIPES = Section(
    players=2, steady_db=10, width=1.0, breathe_db=0.0, alike=True, sway=Vibrato(drift_cents=1.5)
)


def _chapel(request: ToneRequest) -> Tone:
    settings = request.settings
    rng = rng_for(request.variant, "chapel organ", request.pitch)
    made = _pipes(request.pitch, request.rate, settings.number("mixture") / 100)
    tone = Tone(*play(request, rng, PIPES, made))
    return aired(request, tone, settings.number("wind") / 100, steady_db=-38, chiff_db=-17)


@memoize
def _free_reeds(pitch: int, rate: int, shut: float) -> Periods:
    """Free reeds in two ranks, the second an octave up; the box's lid dulls them."""
    k, f0 = harmonics(pitch, rate, 90), pitch_to_hz(pitch)
    hz = f0 * k
    rank = 1 / k**0.7 / (1 + (hz / (5200 - 3200 * shut)) ** 2)
    box = 1 + 0.8 * np.exp(-0.5 * (np.log2(hz / 900) / 0.5) ** 2)
    second = np.where(k % 2 == 0, 0.7, 0.0) / k**0.5 / (1 + (hz / 3600) ** 2)
    both = [rank * box / (1 + (hz / (700 + f0)) ** 2), (rank + second) * box]
    phases = rng_for(5, "reeds").uniform(0, 2 * np.pi, 90)[: len(k)]
    return periods(np.stack(both)[None, :, None], phases, f0)


REEDS = Section(
    players=3,
    steady_db=0,
    width=0.7,
    breathe_db=1.0,
    sway=Vibrato(drift_cents=2, jitter_cents=1, shimmer_db=0.4),
)


def _harmonium(request: ToneRequest) -> Tone:
    settings = request.settings
    rng = rng_for(request.variant, "harmonium", request.pitch)
    made = _free_reeds(request.pitch, request.rate, settings.number("lid") / 100)
    tone = Tone(*play(request, rng, REEDS, made))
    return aired(request, tone, settings.number("wind") / 100, steady_db=-36, chiff_db=-26)


SOUNDS = (
    Instrument(
        name="drawbar organ", family="organ", role="keys", register=(36, 91), version=2,
        about="Drawbar tones through a slow rotary speaker; held chords with a pulse.",
        tags=("warm", "steady", "round"),
        spec=shaped(percent("sub", "Low bars", 45), percent("click", "Key click", 35),
                    percent("rotor", "Rotor", 45),
                    Field(name="rotor_hz", label="Rotor rate", default=0.9, unit="Hz", low=0.2,
                          high=8, step=0.1, log=True),
                    attack_ms=4, release_ms=60, detune_cents=2),
        tone=_drawbar, noises=("click",), gain_db=-24.9,
    ),
    Instrument(
        name="chapel organ", family="organ", role="keys", register=(36, 91), version=2,
        about="Small pipe organ with wind in it; slow minor chords.",
        tags=("hollow", "airy", "steady"),
        spec=shaped(percent("mixture", "Mixture", 30), percent("wind", "Wind", 45),
                    attack_ms=35, release_ms=180, detune_cents=3),
        tone=_chapel, noises=("wind",), gain_db=-24.5,
    ),
    Instrument(
        name="harmonium", family="organ", role="keys", register=(36, 88),
        about="Reeds and bellows; drones and slow songs, slightly out of tune.",
        tags=("hollow", "steady", "airy"),
        spec=shaped(percent("lid", "Lid shut", 40), percent("wind", "Bellows", 45),
                    attack_ms=60, release_ms=120, detune_cents=4),
        tone=_harmonium, noises=("wind",), gain_db=-25.0,
    ),
)  # fmt: skip
