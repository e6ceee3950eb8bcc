"""Strings: an ensemble, an aged one, and plucked."""

import functools

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.looped import slice_wrapped
from cloudrift.audio.wrap import circular_noise
from cloudrift.ground.draws import stream
from cloudrift.ground.settings import percent
from cloudrift.sound.first.plucks import plucked
from cloudrift.sound.first.ringing import Curve, Pair, String, box
from cloudrift.sound.first.spread import CYCLE, SIDE_AT, cycles, ensemble
from cloudrift.sound.instrument import Instrument, Tone, ToneRequest, opening, shaped, tape_sway
from cloudrift.sound.kit.body import board, lowpass
from cloudrift.sound.kit.noise import LONG, band, lasting, read_round
from cloudrift.sound.kit.strung import wound

Hz = NDArray[np.float64]
VIOLIN_BOARD = board(23, 180, 4200, 3.5)
KEYS_A_TAPE = 3  # every third key has a tape of its own
_BOW, _HISS = band(900, 6000), band(1200, 9000)


def _section(hz: Hz, f0: float, own: tuple[float, ...]) -> tuple[Hz, Hz]:
    """A section of players near by: the box's bumps over a falling spectrum."""
    bright = 0.3 + 0.7 * own[0]
    soft = (f0 / hz) ** 1.05 * VIOLIN_BOARD(hz) * lowpass(hz, 900 + f0, 0.55)
    return soft, (f0 / hz) ** 0.3 * VIOLIN_BOARD(hz) * lowpass(hz, 3000 + 4000 * bright, 0.5)


def _aged(hz: Hz, f0: float, own: tuple[float, ...]) -> tuple[Hz, Hz]:
    """The same through an old tape: no deep lows, no air."""
    thin = 1 / np.sqrt(1 + (140 / hz) ** 4)
    soft = (f0 / hz) ** 1.1 * thin * lowpass(hz, 700 + 0.8 * f0, 0.8)
    return soft, (f0 / hz) ** 0.75 * thin * lowpass(hz, 2400 + 2.4 * f0, 1.0)


def _ensemble(request: ToneRequest) -> Tone:
    tone = ensemble(request, "string ensemble", _section,
                    (request.settings.number("bow") / 100,), side=0.55, least_cents=3)  # fmt: skip
    return _with_noise(request, tone, "bow", _BOW, 0.05 * request.settings.number("rosin") / 100)


def _with_noise(request: ToneRequest, tone: Tone, name: str, shape: Curve, level: float) -> Tone:
    start = int(stream(request.variant, name, request.pitch).integers(LONG))
    noise = read_round(lasting(name, request.rate, shape), start, request.frames)
    noise *= np.float32(level)
    return Tone(tone.soft + np.float32(0.4) * noise, tone.hard + noise)


def _replayed(request: ToneRequest, start: int, spread: float, cents: float
              ) -> NDArray[np.float32]:  # fmt: skip
    """The tape of the nearest key that has one, at a speed that gives the pitch, and strays.

    Nothing on it is above some kilohertz, so at twice the frames linear reading is clean.
    """
    key = KEYS_A_TAPE * round(request.pitch / KEYS_A_TAPE)
    tape = cycles("tape strings", _aged, key, request.rate, spread, (), 2)
    speed = 2 ** ((request.pitch - key) / 12)
    away = np.float32(2 ** (cents / 1200) - 1) * slice_wrapped(_strays(), start, request.frames)
    place = 2 * (start + speed * np.arange(request.frames) + away)
    whole = np.floor(place)
    at, rest = whole.astype(np.int64), (place - whole).astype(np.float32)
    low = tape.take(at, axis=1, mode="wrap")
    step = tape.take(at + 1, axis=1, mode="wrap")
    step -= low
    step *= rest
    low += step
    return low


@functools.cache
def _strays() -> NDArray[np.float32]:
    """How far the tape strays in frames, for a speed that strays by 1 at most; goes round."""
    speed = circular_noise(stream(0, "tape sway"), CYCLE, 1, 12)
    away = np.cumsum(speed - speed.mean())
    return np.asarray(away - away.mean(), np.float32)


def _tape_strings(request: ToneRequest) -> Tone:
    settings = request.settings
    spread = max(3.0, 0.5 * settings.number("detune_cents"))
    cents = settings.number("sway_cents")
    start = int(stream(request.variant, "tape strings", request.pitch).integers(CYCLE))
    middle = _replayed(request, start, spread, cents)
    apart = _replayed(request, start + SIDE_AT, spread, cents)
    apart *= np.float32(0.4)
    tone = Tone(*np.stack([middle + apart, middle - apart], axis=1))
    return _with_noise(request, tone, "tape", _HISS, 0.04 * settings.number("hiss") / 100)


def _pizzicato(request: ToneRequest) -> Tone:
    string = String(
        stiffness=wound(3e-5), place=0.21, slope=0.9, count=36, body=VIOLIN_BOARD,
        soft=(700, 0.9, 1.1), hard=(3200, 2.0, 1.0), bite=0.8, t60=(1.1, 24), per_partial=0.25,
        air_hz=1900, air_power=1.6,
    )  # fmt: skip
    answer = box((185, 270, 460), (0.12, 0.1, 0.07), -16, -11)
    return plucked(request, "pizzicato", string, Pair(fast=1.8, slow=0.8), answer, 0.55)


SOUNDS = (
    Instrument(
        name="string ensemble", family="strings", role="strings", register=(36, 96),
        about="A section near by; moving inner lines and swells.",
        tags=("warm", "wide", "bowed"),
        spec=shaped(percent("bow", "Bow", 50), percent("rosin", "Rosin", 40), opening(220),
                    attack_ms=120, decay_ms=3000, sustain=92, release_ms=420, detune_cents=12),
        tone=_ensemble, noises=("rosin",), gain_db=-24.9,
    ),
    Instrument(
        name="tape strings", family="strings", role="strings", register=(43, 84),
        about="Strings from a tired tape; uneven, held, a little out.",
        tags=("aged", "dusty", "mid"),
        spec=shaped(tape_sway(9), percent("hiss", "Hiss", 40), opening(120),
                    attack_ms=70, decay_ms=6000, sustain=85, release_ms=260, detune_cents=10),
        tone=_tape_strings, noises=("hiss",), gain_db=-24.2,
    ),
    Instrument(
        name="pizzicato", family="strings", role="pluck", register=(43, 91),
        about="Plucked strings, short and springy; off-beats and runs.",
        tags=("short", "woody", "dry"),
        spec=shaped(percent("finger", "Finger", 60), attack_ms=1.5, release_ms=180,
                    detune_cents=2.5),
        tone=_pizzicato, noises=("finger",), gain_db=-11.7,
    ),
)  # fmt: skip
