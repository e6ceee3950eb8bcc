"""Pads: wide, slow ensembles that hold chords."""

import functools
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from cloudrift.ground.draws import rng_for
from cloudrift.ground.lru import memoize
from cloudrift.ground.settings import Field, percent
from cloudrift.sound.instrument import Instrument, Tone, ToneRequest, opening, shaped
from cloudrift.sound.kit.air import beside
from cloudrift.sound.kit.body import lowpass
from cloudrift.sound.kit.formants import between, mouth, throat
from cloudrift.sound.kit.noise import band
from cloudrift.sound.kit.players import NO_STEADY_DB, Periods, Section, periods, play
from cloudrift.sound.kit.straying import Vibrato, knot_times
from cloudrift.sound.kit.table import harmonics
from cloudrift.theory.pitch import pitch_to_hz

Hz = NDArray[np.float64]
Pair = tuple[Hz, Hz]
# From harmonics in Hz, the note, a sound's own numbers and which set: how loud, softly and hard.
Shape = Callable[[Hz, float, float, float], Pair]
SETS = (-1.0, 0.0, 1.0)  # darker, as it is, brighter: as their levels drift, so does the colour
GRIT = band(350, 2600)


@memoize
def spectra(name: str, shape: Shape, pitch: int, rate: int, own: float) -> Periods:
    """Return an ensemble's periods: three sets that differ in colour, each soft and hard."""
    k, f0 = harmonics(pitch, rate, 110), pitch_to_hz(pitch)
    phases = rng_for(1, "ensemble", name).uniform(0, 2 * np.pi, 120)[: len(k)]
    both = np.array([shape(f0 * k, f0, own, colour) for colour in SETS])[:, :, None]
    return periods(both, phases, f0)


def held(name: str, shape: Shape, setting: str, section: Section, request: ToneRequest) -> Tone:
    """Play an ensemble whose spectrum depends on one setting."""
    own = request.settings.number(setting) / 100 if setting else 0.0
    made = spectra(name, shape, request.pitch, request.rate, own)
    return Tone(*play(request, rng_for(request.variant, name, request.pitch), section, made))


def _warm(hz: Hz, f0: float, hollow: float, colour: float) -> Pair:
    """A saw's harmonics through a gentle and an open low-pass; even ones fade as it hollows."""
    k = np.rint(hz / f0)
    saw = np.where(k % 2 == 0, 1 - 0.9 * hollow, 1.0) / k
    body = 1 + 0.5 * np.exp(-0.5 * (np.log2(hz / 420) / 0.5) ** 2)
    edge = 2.0 ** (0.5 * colour)
    dark = saw * body * lowpass(hz, edge * (260 + 0.25 * f0), 0.6)
    return dark, saw * k**0.22 * body * lowpass(hz, edge * (2800 + 3.4 * f0), 0.15)


def _glass(hz: Hz, f0: float, rim: float, colour: float) -> Pair:
    """A few far harmonics over the first: rubbed glass."""
    k = np.rint(hz / f0)
    few = np.isin(k, (1, 2, 3, 5, 8, 12, 16)) / k**0.8
    ring = np.exp(-0.5 * (np.log2(hz / (3200 * 2 ** (0.4 * colour))) / 0.8) ** 2)
    hard = few * (0.6 + (0.5 + 2.5 * rim) * ring) * lowpass(hz, 8000 + f0, 0.5)
    return few * lowpass(hz, (900 + 0.9 * f0) * 2 ** (0.4 * colour), 0.6), hard


def _choir(hz: Hz, f0: float, open_: float, colour: float) -> Pair:
    """Voices between oo and ah, far back."""
    size = 1 + 0.05 * colour
    soft = throat(hz, f0, -11) * mouth(between("oo", "ah", 0.5 * open_), hz, f0, size)
    ring = 1 + 2.5 * np.exp(-0.5 * (np.log2(hz / 2900) / 0.4) ** 2)
    wide = mouth(between("oo", "ah", 0.2 + 0.8 * open_), hz, f0, size)
    return soft, throat(hz, f0, 1.0) * wide * ring


def _strings(hz: Hz, f0: float, bow: float, colour: float) -> Pair:
    """Bowed strings at a distance: a box's resonances over a falling spectrum."""
    body = 1 + 0.9 * np.exp(-0.5 * (np.log2(hz / (480 + 60 * colour)) / 0.3) ** 2)
    body += 0.7 * np.exp(-0.5 * (np.log2(hz / (1300 + 200 * colour)) / 0.35) ** 2)
    edge = 2.0 ** (0.4 * colour)
    soft = (f0 / hz) ** 1.2 * body * lowpass(hz, edge * (560 + 0.35 * f0), 0.5)
    hard = (f0 / hz) ** 0.5 * body * lowpass(hz, edge * (2000 + 3500 * bow + 2 * f0), 0.35)
    return soft, hard


def _worn(hz: Hz, f0: float, _own: float, colour: float) -> Pair:
    """A dark pad whose lows have been played away."""
    thin = 1 / np.sqrt(1 + (160 / hz) ** 4)
    saw = np.where(np.rint(hz / f0) % 2 == 0, 0.45, 1.0) * f0 / hz * thin
    edge = 2.0 ** (0.4 * colour)
    return (
        saw * lowpass(hz, edge * (300 + 0.3 * f0), 0.7),
        saw * (hz / f0) ** 0.2 * lowpass(hz, edge * (2800 + 4 * f0), 0.4),
    )


def _dust_pad(request: ToneRequest) -> Tone:
    tone = held(
        "dust pad", _worn, "", Section(breathe_db=2.5, sway=Vibrato(drift_cents=4)), request
    )
    return beside(request, tone, "dust", GRIT, 0.08 * request.settings.number("dust") / 100)


def _saws(hz: Hz, f0: float, thick: float, colour: float) -> Pair:
    k = np.rint(hz / f0)
    saw = 1 / k
    edge = 2.0 ** (0.4 * colour)
    soft = saw * lowpass(hz, edge * (420 + f0), 0.5)
    return soft, saw * k ** (0.25 - 0.2 * thick) * lowpass(hz, edge * (5200 + 3 * f0), 0.35)


STAGES = 5  # that the evolving pad passes


@memoize
def _stages(pitch: int, rate: int) -> Periods:
    """Spectra that are far from each other, soft and hard: hollow, reedy, sung, glassy, dark."""
    k, f0 = harmonics(pitch, rate, 100), pitch_to_hz(pitch)
    hz = f0 * k
    rows = [
        np.where(k % 2 == 0, 0.12, 1.0) / k,
        (1 + 2 * np.exp(-0.5 * (np.log2(hz / 1300) / 0.4) ** 2)) / k**0.9,
        throat(hz, f0, -3) * mouth(between("oo", "ah", 0.6), hz, f0),
        np.isin(k, (1, 2, 4, 6, 9, 13)) / k**0.6,
        1 / k**1.5,
    ]
    soft = [row * lowpass(hz, 260 + 0.25 * f0, 0.7) for row in rows]
    hard = [row * k**0.55 * lowpass(hz, 4200 + 2 * f0, 0.4) for row in rows]
    phases = rng_for(1, "stages").uniform(0, 2 * np.pi, 100)[: len(k)]
    return periods(np.array([soft, hard])[None], phases, f0)


def _evolving(request: ToneRequest) -> Tone:
    """Five spectra that a note wanders between, each note on its own way."""
    rng = rng_for(request.variant, "evolving pad", request.pitch)
    t = knot_times(request)
    every = request.settings.number("every_ms") / 1e3
    at = 1 + rng.uniform(-0.05, 0.05) + 4 * t / every  # notes begin alike, and part
    at += 0.4 * np.sin(2 * np.pi * rng.uniform(0.05, 0.09) * t)
    # To and fro, so that no stage jumps to the first.
    place = (STAGES - 1) - np.abs((at % (2 * (STAGES - 1))) - (STAGES - 1))
    section = Section(
        players=5, width=0.95, breathe_db=1.5, steady_db=-2, sway=Vibrato(drift_cents=4)
    )
    made = _stages(request.pitch, request.rate)
    return Tone(*play(request, rng, section, made, place=place))


# Of bars and plates: ratios to the note, and how loud, softly and hard.
METAL = (
    (1.0, 1.0, 0.7),
    (1.502, 0.25, 0.35),
    (2.0, 0.22, 0.42),
    (2.76, 0.06, 0.5),
    (4.07, 0.025, 0.27),
    (5.43, 0.01, 0.14),
)


@memoize
def _plate(pitch: int, rate: int, rough: float) -> tuple[Periods, tuple[float, ...]]:
    """A set for each partial that is heard, a sine with a shade of its octave, and its ratio."""
    f0 = pitch_to_hz(pitch)
    rows = []
    for i, (ratio, low, high) in enumerate(METAL):
        more = rough**0.7 if i in (1, 3, 4, 5) else 1.0
        if more and (i == 0 or 2 * f0 * ratio < 0.45 * rate):
            rows.append((ratio, more * low, more * high))
    ratios, *levels = np.array(rows).T
    both = np.stack(levels, axis=1)[..., None, None] * (1.0, 0.03)
    return periods(both, 0.0, f0 * ratios, even=False), tuple(ratios)


def _drone(request: ToneRequest) -> Tone:
    """Partials of a plate that never die, each beating and breathing by itself."""
    rough = request.settings.number("rough") / 50
    made, ratios = _plate(request.pitch, request.rate, rough)
    section = Section(
        players=3,
        steady_db=NO_STEADY_DB,
        width=0.7,
        breathe_db=1.2,
        sway=Vibrato(drift_cents=3, shimmer_db=0.4 * rough),
    )
    rng = rng_for(request.variant, "metallic drone", request.pitch)
    return Tone(*play(request, rng, section, made, ratios=ratios))


SOUNDS = (
    Instrument(
        name="warm pad", family="pads", role="pad", register=(40, 84), version=3,
        about="Wide, slow bed of detuned voices; holds chords under anything.",
        tags=("dark", "wide", "slow"),
        spec=shaped(percent("hollow", "Hollow", 15), opening(350), attack_ms=240, decay_ms=3000,
                    sustain=82, release_ms=900, detune_cents=12),
        tone=functools.partial(held, "warm pad", _warm, "hollow", Section(players=8, breathe_db=2)),
        gain_db=-24.0, variants=2,
    ),
    Instrument(
        name="glass pad", family="pads", role="pad", register=(48, 91), version=2,
        about="Clear, high shimmer above the keys; whole notes with much room.",
        tags=("glassy", "wide", "bright"),
        spec=shaped(percent("rim", "Rim", 45), opening(450),
                    attack_ms=320, decay_ms=4000, sustain=88, release_ms=1400, detune_cents=6),
        tone=functools.partial(held, "glass pad", _glass, "rim", Section(players=6, breathe_db=3)),
        gain_db=-25.0, variants=2,
    ),
    Instrument(
        name="choir pad", family="pads", role="pad", register=(43, 81), version=2,
        about="Far voices without words; sad chords that need air.",
        tags=("voices", "wide", "soft"),
        spec=shaped(percent("open", "Open mouth", 45), opening(120),
                    attack_ms=300, decay_ms=3000, sustain=90, release_ms=1100, detune_cents=14),
        tone=functools.partial(held, "choir pad", _choir, "open", Section(
            players=8, late_ms=120, sway=Vibrato(hz=5.3, cents=12, onset_ms=500, jitter_cents=2))),
        gain_db=-23.7, variants=2,
    ),
    Instrument(
        name="slow strings", family="pads", role="pad", register=(36, 91), version=2,
        about="Slow attack and long notes; minor chords.",
        tags=("warm", "wide", "slow"),
        spec=shaped(percent("bow", "Bow", 40), opening(450),
                    attack_ms=420, decay_ms=3000, sustain=92, release_ms=1000, detune_cents=12),
        tone=functools.partial(held, "slow strings", _strings, "bow", Section(
            players=8, late_ms=150, sway=Vibrato(hz=5.2, cents=9, onset_ms=600))),
        gain_db=-24.3, variants=2,
    ),
    Instrument(
        name="dust pad", family="pads", role="pad", register=(45, 84), version=2,
        about="Thin, worn pad with grit in it; under dry keys.",
        tags=("dusty", "thin", "dark"),
        spec=shaped(percent("dust", "Dust", 45), opening(220),
                    attack_ms=180, decay_ms=2500, sustain=80, release_ms=800, detune_cents=11),
        tone=_dust_pad, noises=("dust",), gain_db=-24.1, variants=2,
    ),
    Instrument(
        name="many saws", family="pads", role="pad", register=(36, 91),
        about="A wall of detuned saws; big chords that open with velocity.",
        tags=("bright", "wide", "heavy"),
        spec=shaped(percent("thick", "Thick", 40), opening(260), attack_ms=40, decay_ms=3000,
                    sustain=88, release_ms=420, detune_cents=16),
        tone=functools.partial(held, "many saws", _saws, "thick", Section(
            players=9, width=1.0, breathe_db=1.5)), gain_db=-24.8, variants=2,
    ),
    Instrument(
        name="evolving pad", family="pads", role="pad", register=(40, 84),
        about="Never the same twice; passes from hollow to sung to glass under long chords.",
        tags=("moving", "wide", "slow"),
        spec=shaped(Field(name="every_ms", label="Cycle", default=9000, unit="ms",
                          low=1000, high=30_000, step=100, log=True), opening(140),
                    attack_ms=350, decay_ms=4000, sustain=92, release_ms=1300, detune_cents=9),
        tone=_evolving, gain_db=-23.9, variants=2,
    ),
    Instrument(
        name="metallic drone", family="pads", role="pad", register=(31, 72),
        about="A plate that never stops ringing; unease under a single note.",
        tags=("dark", "metallic", "slow"),
        spec=shaped(percent("rough", "Rough", 50), opening(350), attack_ms=500, decay_ms=4000,
                    sustain=94, release_ms=1000, detune_cents=6),
        tone=_drone, gain_db=-17.1, variants=2,
    ),
)  # fmt: skip
