"""Pads: wide, slow ensembles that hold chords."""

import functools

import numpy as np
from numpy.typing import NDArray

from cloudrift.ground.draws import stream
from cloudrift.ground.settings import SettingsSpec, percent
from cloudrift.sound.first.formants import between
from cloudrift.sound.first.spread import ensemble
from cloudrift.sound.instrument import Instrument, Tone, ToneRequest, opening, shaped
from cloudrift.sound.kit.body import lowpass
from cloudrift.sound.kit.noise import LONG, band, lasting, read_round

Hz = NDArray[np.float64]
_GRIT = band(350, 2600)


def _warm(hz: Hz, f0: float, own: tuple[float, ...]) -> tuple[Hz, Hz]:
    """A saw's harmonics through a gentle and an open low-pass; even ones fade as it hollows.

    ``own`` is how hollow it is, by how many fundamentals the gentle and the open one rise, and
    how much less steep the open one is.
    """
    k = np.rint(hz / f0)
    saw = np.where(k % 2 == 0, 1 - 0.9 * own[0], 1.0) / k
    body = 1 + 0.5 * np.exp(-0.5 * (np.log2(hz / 420) / 0.5) ** 2)
    dark = saw * body * lowpass(hz, 240 + own[1] * f0, 0.6)
    return dark, saw * k ** own[3] * body * lowpass(hz, 2300 + own[2] * f0, 0.6)


def _glass(hz: Hz, f0: float, own: tuple[float, ...]) -> tuple[Hz, Hz]:
    """A few far harmonics over the first: rubbed glass."""
    k = np.rint(hz / f0)
    few = np.isin(k, (1, 2, 3, 5, 8, 12, 16)) / k**0.9
    soft = few * lowpass(hz, 900 + 0.9 * f0, 0.7)
    rim = np.exp(-0.5 * (np.log2(hz / 3200) / 0.8) ** 2)
    return soft, few * (0.6 + (0.5 + 2.5 * own[0]) * rim) * lowpass(hz, 7000 + f0, 0.7)


def _choir(hz: Hz, f0: float, own: tuple[float, ...]) -> tuple[Hz, Hz]:
    """Voices between oo and ah, far back."""
    source = (f0 / hz) ** 1.1
    soft = source * between("oo", "ah", 0.5 * own[0], hz) * lowpass(hz, 1500 + f0, 0.5)
    return soft, source * (f0 / hz) ** -1.3 * between("oo", "ah", 0.2 + 0.8 * own[0], hz)


def _strings(hz: Hz, f0: float, own: tuple[float, ...]) -> tuple[Hz, Hz]:
    """Bowed strings at a distance: a box's resonances over a falling spectrum."""
    body = 1 + 0.9 * np.exp(-0.5 * (np.log2(hz / 480) / 0.3) ** 2)
    body += 0.7 * np.exp(-0.5 * (np.log2(hz / 1300) / 0.35) ** 2)
    bow = 0.3 + 0.7 * own[0]
    soft = (f0 / hz) ** 1.15 * body * lowpass(hz, 650 + 0.7 * f0, 0.55)
    return soft, (f0 / hz) ** 0.5 * body * lowpass(hz, 1800 + 3000 * bow + 2 * f0, 0.5)


def _worn(hz: Hz, f0: float, own: tuple[float, ...]) -> tuple[Hz, Hz]:
    """A dark pad whose lows have been played away."""
    thin = 1 / np.sqrt(1 + (160 / hz) ** 4)
    saw = np.where(np.rint(hz / f0) % 2 == 0, 0.45, 1.0) * f0 / hz * thin
    return saw * lowpass(hz, 330 + 0.7 * f0, 0.8), saw * lowpass(hz, 2200 + 4 * f0, 0.6)


def warm_pad(dark: float, bright: float, steep: float, request: ToneRequest) -> Tone:
    """Play the warm pad; how far its two sides open with the pitch, and how steep it falls."""
    hollow = request.settings.number("hollow") / 100
    return ensemble(request, "warm pad", _warm, (hollow, dark, bright, steep))


def warm_spec(open_ms: float) -> SettingsSpec:
    """Return the warm pad's settings; it opens over so long."""
    return shaped(percent("hollow", "Hollow", 15), opening(open_ms), attack_ms=240, decay_ms=3000,
                  sustain=82, release_ms=900, detune_cents=14)  # fmt: skip


def _glass_pad(request: ToneRequest) -> Tone:
    rim = request.settings.number("rim") / 100
    return ensemble(request, "glass pad", _glass, (rim,), side=0.6)


def _choir_pad(request: ToneRequest) -> Tone:
    return ensemble(request, "choir pad", _choir, (request.settings.number("open") / 100,),
                    side=0.6, least_cents=4)  # fmt: skip


def _slow_strings(request: ToneRequest) -> Tone:
    return ensemble(request, "slow strings", _strings, (request.settings.number("bow") / 100,),
                    side=0.58, least_cents=3)  # fmt: skip


def _dust_pad(request: ToneRequest) -> Tone:
    tone = ensemble(request, "dust pad", _worn, side=0.5)
    level = np.float32(0.07 * request.settings.number("dust") / 100)
    start = int(stream(request.variant, "dust", request.pitch).integers(LONG)) + request.first
    grit = level * read_round(lasting("dust", request.rate, _GRIT), start, request.frames)
    return Tone(tone.soft + np.float32(0.5) * grit, tone.hard + grit)


SOUNDS = (
    Instrument(
        name="warm pad", family="pads", role="pad", register=(40, 84), version=2,
        about="Wide, slow bed of mistuned voices; holds chords under anything.",
        tags=("dark", "wide", "slow"),
        spec=warm_spec(700),
        tone=functools.partial(warm_pad, 0.35, 3.4, 0.2), cycled=True, gain_db=-23.9,
    ),
    Instrument(
        name="glass pad", family="pads", role="pad", register=(48, 91),
        about="Clear, high shimmer above the keys; whole notes with much room.",
        tags=("glassy", "wide", "bright"),
        spec=shaped(percent("rim", "Rim", 45), opening(900),
                    attack_ms=320, decay_ms=4000, sustain=88, release_ms=1400, detune_cents=6),
        tone=_glass_pad, cycled=True, gain_db=-25.2,
    ),
    Instrument(
        name="choir pad", family="pads", role="pad", register=(43, 81),
        about="Far voices without words; sad chords that need air.",
        tags=("voices", "wide", "soft"),
        spec=shaped(percent("open", "Open mouth", 45), opening(500),
                    attack_ms=300, decay_ms=3000, sustain=90, release_ms=1100, detune_cents=16),
        tone=_choir_pad, cycled=True, gain_db=-24.6,
    ),
    Instrument(
        name="slow strings", family="pads", role="pad", register=(36, 91),
        about="Strings that arrive late and stay; minor chords in long notes.",
        tags=("warm", "wide", "slow"),
        spec=shaped(percent("bow", "Bow", 40), opening(900),
                    attack_ms=420, decay_ms=3000, sustain=92, release_ms=1000, detune_cents=13),
        tone=_slow_strings, cycled=True, gain_db=-24.7,
    ),
    Instrument(
        name="dust pad", family="pads", role="pad", register=(45, 84),
        about="Thin, worn pad with grit in it; behind dry keys.",
        tags=("dusty", "thin", "dark"),
        spec=shaped(percent("dust", "Dust", 45), opening(400),
                    attack_ms=180, decay_ms=2500, sustain=80, release_ms=800, detune_cents=11),
        tone=_dust_pad, noises=("dust",), cycled=True, gain_db=-23.5,
    ),
)  # fmt: skip
