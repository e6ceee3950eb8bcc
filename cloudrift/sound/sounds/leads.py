"""Leads: single lines, blown or oscillating."""

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from cloudrift.ground.draws import rng_for
from cloudrift.ground.lru import memoize
from cloudrift.ground.settings import percent
from cloudrift.sound.instrument import (
    Instrument,
    Tone,
    ToneRequest,
    closing,
    mono_fields,
    shaped,
    vibrato_fields,
)
from cloudrift.sound.kit.air import aired
from cloudrift.sound.kit.filters import Sweep, swept
from cloudrift.sound.kit.players import Periods, Section, periods, play
from cloudrift.sound.kit.straying import Vibrato, knot_times
from cloudrift.sound.kit.strung import by_key
from cloudrift.sound.kit.table import harmonics
from cloudrift.theory.pitch import pitch_to_hz

Hz = NDArray[np.float64]
GLIDE_ROOM_ST = 19  # a glide from so far above reads a period that much faster


def swaying(
    request: ToneRequest,
    drift_cents: float = 3.0,
    level_db_a_cent: float = 0.0,
    jitter_cents: float = 0.0,
) -> Vibrato:
    """Return the sway that a sound's settings ask for."""
    settings = request.settings
    cents = settings.number("vibrato_cents")
    return Vibrato(
        hz=settings.number("vibrato_hz"),
        cents=cents,
        onset_ms=settings.number("onset_ms"),
        drift_cents=drift_cents,
        level_db=level_db_a_cent * cents,
        jitter_cents=jitter_cents,
    )


def solo(request: ToneRequest, sway: Vibrato, sides_db: float = -9.0) -> Section:
    """Return one player, two faint ones beside it."""
    return Section(players=2, steady_db=-sides_db, width=1.0, breathe_db=0.0, sway=sway, alike=True)


def two(name: str, soft: Hz, hard: Hz, f0: float) -> Periods:
    """Return a soft and a hard period with the phases of a name."""
    phases = rng_for(1, name).uniform(0, 2 * np.pi, 200)[: len(soft)]
    return periods(np.stack([soft, hard])[None, :, None], phases, f0)


@memoize
def _soft_lead(pitch: int, rate: int, hollow: float) -> Periods:
    k, f0 = harmonics(pitch, rate, 60), pitch_to_hz(pitch)
    base = np.where(k % 2 == 0, 1 - hollow, 1.0) / k**1.6
    hard = base * k**0.8 / (1 + (f0 * k / (3200 + 3 * f0)) ** 2)
    return two("soft lead", base / (1 + (f0 * k / (800 + f0)) ** 2), hard, f0)


@memoize
def _reed(pitch: int, rate: int, nasal: float) -> Periods:
    """A cane reed on a narrow bore: odd harmonics lead, a nose between 900 and 1600 Hz."""
    k, f0 = harmonics(pitch, rate, 80), pitch_to_hz(pitch)
    hz = f0 * k
    bore = np.where(k % 2 == 0, 0.4, 1.0) / k**0.9
    nose = 1 + (1 + 3 * nasal) * np.exp(-0.5 * (np.log2(hz / 1200) / 0.4) ** 2)
    hard = bore * k**0.7 * nose / (1 + (hz / (5200 + f0)) ** 2)
    return two("reed lead", bore * nose / (1 + (hz / (1000 + 0.5 * f0)) ** 2), hard, f0)


# A flute's partials against its first, in dB, hard, at keys: the higher, the purer.
FLUTE_KEYS = (55, 67, 79, 96)
FLUTE_DB = np.array(
    [
        [0, 3, -2, -8, -14, -17, -22, -27, -32, -37],
        [0, -4, -10, -18, -23, -28, -34, -40, -46, -52],
        [0, -4, -11, -19, -28, -36, -44, -52, -60, -68],
        [0, -5, -14, -24, -36, -46, -56, -66, -76, -86],
    ],
    float,
)


@memoize
def _flute(pitch: int, rate: int) -> Periods:
    k = harmonics(pitch, rate, FLUTE_DB.shape[1])
    db = np.array([np.interp(pitch, FLUTE_KEYS, column) for column in FLUTE_DB.T])[: len(k)]
    falls = by_key(((55, 6.0), (84, 14.0)), pitch)
    return two("flute", 10 ** ((db - falls * (k - 1)) / 20), 10 ** (db / 20), pitch_to_hz(pitch))


@memoize
def _whistle(pitch: int, rate: int) -> Periods:
    """Lips shape one partial; what stands above it is 35 dB down and more."""
    k = harmonics(pitch, rate, 4)
    soft, hard = np.array([0, -52, -62, -75.0]), np.array([0, -36, -44, -56.0])
    return two(
        "whistle", 10 ** (soft / 20)[: len(k)], 10 ** (hard / 20)[: len(k)], pitch_to_hz(pitch)
    )


@memoize
def _gliding(pitch: int, rate: int) -> Periods:
    k, f0 = harmonics(pitch + GLIDE_ROOM_ST, rate, 110), pitch_to_hz(pitch)
    soft = 1 / k / (1 + (f0 * k / (900 + f0)) ** 2) ** 0.8
    return two("gliding lead", soft, k**-0.85 / (1 + (f0 * k / 7500) ** 2) ** 0.7, f0)


def _tone(name: str, made: Periods, request: ToneRequest, sway: Vibrato, sides_db: float) -> Tone:
    rng = rng_for(request.variant, name, request.pitch)
    return Tone(*play(request, rng, solo(request, sway, sides_db), made))


def _play_soft(request: ToneRequest) -> Tone:
    made = _soft_lead(request.pitch, request.rate, request.settings.number("hollow") / 100)
    return _tone("soft lead", made, request, swaying(request, 2), -9)


def _play_reed(request: ToneRequest) -> Tone:
    made = _reed(request.pitch, request.rate, request.settings.number("nasal") / 100)
    tone = _tone("reed lead", made, request, swaying(request, 3, 0.06, 2), -12)
    return aired(
        request, tone, request.settings.number("breath") / 100, steady_db=-29, chiff_db=-20
    )


def _play_whistle(request: ToneRequest) -> Tone:
    made = _whistle(request.pitch, request.rate)
    tone = _tone("whistle", made, request, swaying(request, 6, 0.03, 3), -14)
    return aired(
        request,
        tone,
        request.settings.number("breath") / 100,
        steady_db=-15,
        chiff_db=-14,
        soft_db=-6,
    )


def _play_flute(request: ToneRequest) -> Tone:
    made = _flute(request.pitch, request.rate)
    tone = _tone("flute", made, request, swaying(request, 4, 0.35, 2), -13)
    return aired(
        request,
        tone,
        request.settings.number("breath") / 100,
        steady_db=-21,
        chiff_db=-8,
        chiff_ms=70,
    )


def _play_gliding(request: ToneRequest) -> Tone:
    made = _gliding(request.pitch, request.rate)
    return _tone("gliding lead", made, request, swaying(request, 1), -9)


@memoize
def _clarinet(pitch: int, rate: int) -> Periods:
    """A closed bore: low down, even partials are all but missing; higher up they come."""
    k, f0 = harmonics(pitch, rate, 60), pitch_to_hz(pitch)
    even = 10 ** (np.interp(pitch, (50, 60, 72, 84), (-34, -26, -14, -8)) / 20)
    lattice = 1 / (1 + (f0 * k / 1500) ** 2) ** 0.6
    bore = np.where(k % 2 == 0, even * k**0.3, 1.0) * lattice
    hard = bore / k**0.3 / (1 + (f0 * k / 5600) ** 4) ** 0.5
    return two("clarinet", bore / k**1.7, hard, f0)


@memoize
def _sax(pitch: int, rate: int) -> Periods:
    """A reed on a cone: all partials, a hump below 1 kHz, an edge when it is pushed."""
    k, f0 = harmonics(pitch, rate, 80), pitch_to_hz(pitch)
    hz = f0 * k
    hump = 1 + 1.2 * np.exp(-0.5 * (np.log2(hz / 750) / 0.5) ** 2)
    edge = 1 + 1.3 * np.exp(-0.5 * (np.log2(hz / 2600) / 0.5) ** 2)
    hard = hump * edge / k**0.55 / (1 + (hz / 4200) ** 4) ** 0.5
    return two("tenor reed", hump / k**1.4 / (1 + (hz / (900 + f0)) ** 2), hard, f0)


PAN_DB = np.array([0, -20, -5, -28, -15, -36, -26, -44], float)


@memoize
def _stopped_pipe(pitch: int, rate: int) -> Periods:
    k = harmonics(pitch, rate, len(PAN_DB))
    db = PAN_DB[: len(k)] - by_key(((55, 0.5), (96, 1.5)), pitch) * (k - 1)
    return two("pan pipes", 10 ** ((db - 6 * (k - 1)) / 20), 10 ** (db / 20), pitch_to_hz(pitch))


WIDTHS = np.linspace(0.5, 0.08, 8)  # of a pulse


@memoize
def _pulses(pitch: int, rate: int) -> Periods:
    """Pulses from square to thin, each dark and open."""
    k, f0 = harmonics(pitch + GLIDE_ROOM_ST, rate, 110), pitch_to_hz(pitch)
    rows = [np.sin(np.pi * k * width) / k for width in WIDTHS]
    dark = 1 / (1 + (f0 * k / (450 + 0.4 * f0)) ** 2) ** 1.1
    open_ = 1 / (1 + (f0 * k / (6500 + f0)) ** 2) ** 0.7
    both = np.array([[row * dark for row in rows], [row * open_ for row in rows]])
    return periods(both[None], 0.0, f0)


def _play_clarinet(request: ToneRequest) -> Tone:
    tone = _tone(
        "clarinet",
        _clarinet(request.pitch, request.rate),
        request,
        swaying(request, 2.5, 0.05, 1.5),
        -13,
    )
    return aired(
        request, tone, request.settings.number("breath") / 100, steady_db=-34, chiff_db=-20
    )


def _play_sax(request: ToneRequest) -> Tone:
    rng = rng_for(request.variant, "tenor reed", request.pitch)
    t = knot_times(request)
    section = solo(request, swaying(request, 3, 0.06, 4), -12)
    made = _sax(request.pitch, request.rate)
    tone = Tone(*play(request, rng, section, made, bend=-28 * np.exp(-t / 0.06)))
    return aired(
        request,
        tone,
        request.settings.number("breath") / 100,
        steady_db=-25,
        chiff_db=-14,
        chiff_ms=60,
    )


def _play_pipes(request: ToneRequest) -> Tone:
    tone = _tone(
        "pan pipes",
        _stopped_pipe(request.pitch, request.rate),
        request,
        swaying(request, 4, 0.3, 2),
        -13,
    )
    return aired(request, tone, request.settings.number("breath") / 100, steady_db=-17,
                 chiff_db=-4, chiff_ms=55, soft_db=-4)  # fmt: skip


def _play_pulse(request: ToneRequest) -> Tone:
    """A pulse whose width goes to and fro."""
    settings = request.settings
    rng = rng_for(request.variant, "pulse lead", request.pitch)
    t = knot_times(request)
    moves = settings.number("moves") / 100
    wave = 0.5 - 0.5 * np.cos(2 * np.pi * (0.37 * t + rng.random()))
    place = (len(WIDTHS) - 1) * (settings.number("thin") / 100 * (1 - moves) + moves * wave)
    section = solo(request, swaying(request, 1.5), -9)
    made = _pulses(request.pitch, request.rate)
    return Tone(*play(request, rng, section, made, place=place))


SEQUENCE = Sweep(low_hz=420, by_share_oct=2.4, by_key=0.7, falls_oct=3.4, resonance=2.6)


def _hollow_saw(k: Hz, square: float) -> Hz:
    return np.asarray(np.where(k % 2 == 0, 1 - square, 1.0) / k**0.9)


def _play_sequence(request: ToneRequest) -> Tone:
    """A dry tone that dies at once, for patterns of sixteenths; a second one an octave up."""
    settings = request.settings
    section = Section(players=2, steady_db=9, width=1.0, breathe_db=0, alike=True)
    own, ms = settings.number("square") / 100, settings.number("close_ms")
    base = swept(request, "sequence tone", _hollow_saw, own, SEQUENCE, ms, section)
    level = np.float32(0.5 * settings.number("octave") / 50)
    if not level:
        return base
    # Its periods are made for the note; an octave up they would fold back near the top.
    higher = replace(request, pitch=min(127, request.pitch + 12))
    upper = swept(higher, "sequence tone", _hollow_saw, own, SEQUENCE, 0.6 * ms, section)
    tone = base.soft + level * upper.soft
    return Tone(tone, tone)


SOUNDS = (
    Instrument(
        name="soft lead", family="leads", role="lead", register=(48, 96), version=2,
        about="Round, plain line above the chords; top notes and hooks.",
        tags=("round", "soft", "clean"),
        spec=shaped(percent("hollow", "Hollow", 30), *vibrato_fields(10, 700),
                    attack_ms=18, decay_ms=3000, sustain=85, release_ms=180, detune_cents=5),
        tone=_play_soft, gain_db=-24.2,
    ),
    Instrument(
        name="reed lead", family="leads", role="lead", register=(48, 88), version=2,
        about="Nasal reed with air in it; sad lines in the middle.",
        tags=("nasal", "mid", "airy"),
        spec=shaped(percent("nasal", "Nasal", 45), percent("breath", "Breath", 45),
                    *vibrato_fields(14, 500), attack_ms=40, sustain=92, release_ms=120,
                    detune_cents=2),
        tone=_play_reed, noises=("breath",), gain_db=-24.5,
    ),
    Instrument(
        name="whistle", family="leads", role="lead", register=(60, 96), version=2,
        about="Lips and air; a lonely line far above the chords.",
        tags=("airy", "pure", "high"),
        spec=shaped(percent("breath", "Breath", 50), *vibrato_fields(22, 350, 5.6),
                    attack_ms=45, sustain=95, release_ms=130, detune_cents=1.5),
        tone=_play_whistle, noises=("breath",), gain_db=-24.2,
    ),
    Instrument(
        name="flute", family="leads", role="lead", register=(55, 96), version=2,
        about="Breathy flute with a soft tongue; answers and counter lines.",
        tags=("airy", "soft", "wooden"),
        spec=shaped(percent("breath", "Breath", 50), *vibrato_fields(6, 600, 5.0),
                    attack_ms=65, sustain=92, release_ms=140, detune_cents=1.5),
        tone=_play_flute, noises=("breath",), gain_db=-23.4,
    ),
    Instrument(
        name="gliding lead", family="leads", role="lead", register=(43, 88), mono=True, version=2,
        about="One voice that slides from note to note; slow, singing hooks.",
        tags=("mono", "singing", "smooth"),
        spec=shaped(*vibrato_fields(12, 600), *mono_fields(90, "on"), attack_ms=12,
                    decay_ms=3000, sustain=88, release_ms=200, detune_cents=6),
        tone=_play_gliding, gain_db=-17.3,
    ),
    Instrument(
        name="clarinet", family="leads", role="lead", register=(50, 91),
        about="Round wooden reed; dark and hollow low down, singing above.",
        tags=("hollow", "wooden", "round"),
        spec=shaped(percent("breath", "Breath", 40), *vibrato_fields(5, 800, 4.8),
                    attack_ms=35, sustain=94, release_ms=110, detune_cents=1.5),
        tone=_play_clarinet, noises=("breath",), gain_db=-24.2,
    ),
    Instrument(
        name="tenor reed", family="leads", role="lead", register=(44, 80),
        about="Smoky reed on a brass cone; late lines that lean into the note.",
        tags=("smoky", "airy", "mid"),
        spec=shaped(percent("breath", "Breath", 55), *vibrato_fields(18, 450, 5.1),
                    attack_ms=40, sustain=94, release_ms=130, detune_cents=2),
        tone=_play_sax, noises=("breath",), gain_db=-24.4,
    ),
    Instrument(
        name="pan pipes", family="leads", role="lead", register=(55, 93),
        about="Breath over stopped pipes; simple tunes from far off.",
        tags=("airy", "hollow", "wooden"),
        spec=shaped(percent("breath", "Breath", 55), *vibrato_fields(5, 500, 5.2),
                    attack_ms=30, sustain=90, release_ms=130, detune_cents=1.5),
        tone=_play_pipes, noises=("breath",), gain_db=-24.1,
    ),
    Instrument(
        name="pulse lead", family="leads", role="lead", register=(43, 96), mono=True,
        about="A pulse that thins and fills; plain hooks with an edge.",
        tags=("edgy", "clean", "mono"),
        spec=shaped(percent("thin", "Thin", 35), percent("moves", "Moves", 40),
                    *vibrato_fields(9, 600), *mono_fields(45), attack_ms=6, decay_ms=3000,
                    sustain=85, release_ms=120, detune_cents=5),
        tone=_play_pulse, gain_db=-17.3,
    ),
    Instrument(
        name="sequence tone", family="leads", role="pluck", register=(40, 91),
        about="Short, dry, pulsing tone; patterns that run under a whole loop.",
        tags=("short", "pulsing", "clean"),
        spec=shaped(percent("square", "Square", 60), percent("octave", "Octave up", 35),
                    closing(110), attack_ms=2, decay_ms=420, sustain=0, release_ms=120,
                    detune_cents=4),
        tone=_play_sequence, follows=True, gain_db=-13.6,
    ),
)  # fmt: skip
