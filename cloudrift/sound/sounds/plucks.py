"""Plucks: strings under fingers and palms, tongues of metal, a closing filter."""

import functools

import numpy as np
from numpy.typing import NDArray

from cloudrift.ground.draws import number, rng_for
from cloudrift.ground.settings import percent
from cloudrift.sound.instrument import Instrument, Tone, ToneRequest, closing, pick, shaped, slide
from cloudrift.sound.kit.body import board
from cloudrift.sound.kit.filters import Sweep, swept
from cloudrift.sound.kit.noise import add_at_start, band, puff
from cloudrift.sound.kit.players import Section
from cloudrift.sound.kit.strung import WOOD, Body, Courses, Modes, String, struck, wound
from cloudrift.theory.pitch import pitch_to_hz

GUITAR = Body(
    name="guitar",
    low_hz=92,
    high_hz=2600,
    count=52,
    q=(18, 42),
    soft_db=-15,
    hard_db=-12,
    tail_db=-34,
)
STEEL_BOX = Body(
    name="steel guitar",
    low_hz=96,
    high_hz=3600,
    count=56,
    q=(18, 42),
    soft_db=-17,
    hard_db=-13,
    tail_db=-35,
)
HARP_BOX = Body(
    name="harp",
    low_hz=110,
    high_hz=1800,
    count=40,
    q=(20, 50),
    soft_db=-19,
    hard_db=-15,
    tail_db=-35,
)
THUMB_BOX = Body(
    name="thumb box",
    low_hz=140,
    high_hz=1900,
    count=40,
    q=(15, 35),
    soft_db=-17,
    hard_db=-12,
    tail_db=-42,
)
NYLON_BOARD, STEEL_BOARD, HARP_BOARD = (
    board(3, 90, 3000, 1.6),
    board(5, 85, 5200, 1.6),
    board(19, 60, 4000, 2.2),
)
PLANES = Courses(off=(-0.55, 0.45), fall=(1.25, 0.6), level=(0.7, 0.45))
_FLESH, _NAIL = band(280, 1900), band(1600, 9000)


def plucked(
    request: ToneRequest,
    name: str,
    string: String,
    courses: Courses,
    body: Body,
    spread: float,
    nail: float = 1.0,
    scatter: float = 0.3,
) -> Tone:
    """Pluck a string on a box, with the finger's own noise: flesh, and nail when it is hard."""
    rng = rng_for(request.variant, name, request.pitch)
    tone = struck(
        request,
        rng,
        string.partials(pitch_to_hz(request.pitch), request.pitch, name),
        courses,
        body=body,
        wood=request.settings.number("wood") / 50,
        spread=spread,
        scatter=scatter,
    )
    level = request.settings.number("finger") / 100
    flesh = puff(request, "flesh", _FLESH, decay_ms=5)
    add_at_start(tone.soft, flesh, 0.08 * level)
    add_at_start(tone.hard, flesh, 0.12 * level)
    add_at_start(
        tone.hard, puff(request, "nail", _NAIL, decay_ms=2, rise_ms=0.7), 0.17 * nail * level
    )
    return tone


def place(request: ToneRequest) -> float:
    """Return where the string is plucked; no two plucks hit the same spot."""
    drawn = number(1000, request.variant, "place") / 1000
    return float(request.settings.number("pick") / 100 * (0.94 + 0.12 * drawn))


def _muted(request: ToneRequest) -> Tone:
    mute = request.settings.number("mute") / 100
    quick = 0.5 + 5.5 * mute**2
    string = String(
        stiffness=wound(4e-5),
        place=place(request),
        slope=0.85,
        count=60,
        top_hz=16_000,
        soft=(420, 0.3, 1.0),
        hard=(6400, 1.5, 0.6),
        bite=0.45,
        fall=((40, 7 * quick), (60, 14 * quick), (84, 34 * quick)),
        per_partial=0.06 + 0.25 * mute,
        air_hz=5200,
        air_power=1.5,
        uneven_db=2,
    )
    return plucked(request, "muted pluck", string, PLANES, GUITAR, 0.38)


def _nylon(request: ToneRequest) -> Tone:
    string = String(
        stiffness=wound(3e-5),
        place=place(request),
        slope=0.95,
        count=44,
        body=NYLON_BOARD,
        soft=(520, 0.5, 1.1),
        hard=(3400, 1.4, 1.0),
        bite=0.35,
        fall=((40, 3.2), (52, 6), (60, 9), (72, 18), (84, 36)),
        per_partial=0.28,
        air_hz=3200,
        air_power=1.6,
        uneven_db=1.5,
    )
    return plucked(request, "nylon", string, PLANES, GUITAR, 0.4)


def _steel(request: ToneRequest) -> Tone:
    string = String(
        stiffness=wound(7e-5),
        place=place(request),
        slope=0.7,
        count=60,
        top_hz=14_000,
        body=STEEL_BOARD,
        soft=(1200, 1.0, 1.0),
        hard=(6500, 2.0, 0.9),
        fall=((40, 2.4), (52, 4), (60, 6), (72, 12), (88, 28)),
        per_partial=0.13,
        air_hz=4600,
        air_power=1.5,
        uneven_db=1.7,
    )
    return plucked(request, "steel", string, PLANES, STEEL_BOX, 0.42, nail=1.4)


def _harp(request: ToneRequest) -> Tone:
    string = String(
        stiffness=wound(2.6e-4),
        place=place(request),
        slope=1.15,
        count=36,
        body=HARP_BOARD,
        soft=(600, 0.75, 1.1),
        hard=(4200, 2.4, 1.0),
        bite=0.65,
        fall=((36, 5), (60, 9), (72, 15), (84, 27), (96, 55)),
        per_partial=0.2,
        air_hz=3400,
        air_power=1.6,
        uneven_db=2,
    )
    return plucked(request, "harp", string, PLANES, HARP_BOX, 0.6, nail=0.4)


TONGUE = Modes(
    ratios=(1.0, 5.4, 6.3, 12.9, 17.6),
    soft=(0, -38, -42, -58, -66),
    hard=(0, -4, -7, -15, -21),
    t60=(2.4, 0.45, 0.3, 0.16, 0.1),
    halved_st=20,
)


def _kalimba(request: ToneRequest) -> Tone:
    rng = rng_for(request.variant, "kalimba", request.pitch)
    tone = struck(
        request,
        rng,
        TONGUE.partials(pitch_to_hz(request.pitch), request.pitch),
        PLANES,
        body=THUMB_BOX,
        wood=request.settings.number("wood") / 50,
        spread=0.45,
    )
    buzz = puff(request, "nail", _NAIL, decay_ms=2, rise_ms=0.7)
    level = request.settings.number("finger") / 100
    add_at_start(tone.soft, buzz, 0.03 * level)
    add_at_start(tone.hard, buzz, 0.12 * level)
    return tone


def _saw(k: NDArray[np.float64], hollow: float) -> NDArray[np.float64]:
    return np.asarray(np.where(k % 2 == 0, 1 - hollow, 1.0) / k)


PLUCK_FILTER = Sweep(low_hz=260, by_share_oct=2.9, by_key=0.6, falls_oct=4.6, resonance=1.6)


def _synth(request: ToneRequest) -> Tone:
    settings = request.settings
    return swept(
        request,
        "synth pluck",
        _saw,
        settings.number("hollow") / 100,
        PLUCK_FILTER,
        settings.number("close_ms"),
        Section(players=2, steady_db=10.0, breathe_db=0, alike=True),
    )


ELECTRIC_BOARD = board(47, 60, 6000, 2.0)
PLANK = Body(
    name="plank",
    low_hz=110,
    high_hz=2400,
    count=40,
    q=(25, 60),
    soft_db=-20,
    hard_db=-15,
    tail_db=-40,
)
LUTE_BOX = Body(
    name="lute",
    low_hz=150,
    high_hz=2800,
    count=46,
    q=(15, 35),
    soft_db=-14,
    hard_db=-11,
    tail_db=-36,
)
DULCIMER_BOX = Body(
    name="dulcimer",
    low_hz=130,
    high_hz=3000,
    count=50,
    q=(18, 42),
    soft_db=-15,
    hard_db=-11,
    tail_db=-30,
    tail_fall=0.6,
)


def _magnet(hz: NDArray[np.float64], f0: float, far: float) -> NDArray[np.float64]:
    """A pickup under the string: a comb of its place, and a coil that ends at 3.5 kHz."""
    k = hz / f0
    coil = 1 / np.sqrt((1 - (hz / 3600) ** 2) ** 2 + (hz / 3600 / 1.6) ** 2)
    return np.asarray((np.abs(np.sin(np.pi * k * far)) + 0.15) * np.minimum(coil, 1.6))


def _electric(request: ToneRequest, name: str, quick: float, hard_hz: float) -> Tone:
    f0 = pitch_to_hz(request.pitch)
    # The pickup stays where it is while the fret moves: a share of what is left of the string.
    far = min(0.45, 0.17 * 2 ** ((request.pitch - 52) / 24))
    string = String(
        stiffness=wound(6e-5),
        place=place(request),
        slope=0.75,
        count=56,
        top_hz=9000,
        body=functools.partial(_magnet, f0=f0, far=far),
        soft=(1000, 1.0, 1.0),
        hard=(hard_hz, 2.0, 0.9),
        fall=((40, 2.5 * quick), (60, 5 * quick), (72, 9 * quick), (88, 20 * quick)),
        per_partial=0.1 if quick == 1 else 0.3,
        air_hz=5200 if quick == 1 else 1900,
        air_power=1.5,
        uneven_db=1.5,
    )
    return plucked(request, name, string, PLANES, PLANK, 0.25)


def _clean_guitar(request: ToneRequest) -> Tone:
    return _electric(request, "clean guitar", 1.0, 6500)


def _palm_guitar(request: ToneRequest) -> Tone:
    return _electric(request, "palm guitar", 5 + 6 * request.settings.number("mute") / 50, 7500)


FOUR = Courses(off=(-0.6, 0.5, 0.1), fall=(1.2, 0.9, 0.5), level=(0.6, 0.55, 0.4), upto=14)


def _dulcimer(request: ToneRequest) -> Tone:
    """Light hammers on courses of strings, none of them damped."""
    string = String(
        stiffness=wound(9e-5),
        place=0.11,
        slope=0.45,
        count=48,
        top_hz=13_000,
        body=STEEL_BOARD,
        soft=(1300, 1.0, 1.1),
        hard=(7000, 2.0, 0.9),
        fall=((43, 5), (60, 9), (72, 15), (91, 40)),
        per_partial=0.16,
        air_hz=4200,
        air_power=1.5,
        uneven_db=1.0,
    )
    return plucked(request, "hammered dulcimer", string, FOUR, DULCIMER_BOX, 0.5, nail=1.5)


def _lute(request: ToneRequest) -> Tone:
    """Thin strings over a long neck; a bridge that buzzes when it is pushed."""
    buzz = request.settings.number("buzz") / 100
    string = String(
        stiffness=wound(4e-5),
        place=place(request),
        slope=0.55,
        count=60,
        top_hz=12_000,
        body=STEEL_BOARD,
        soft=(1500, 1.0, 1.0),
        hard=(5200 + 3500 * buzz, 2.0, 0.85),
        bite=0.15 + 0.5 * buzz,
        fall=((43, 8), (60, 14), (72, 22), (86, 45)),
        per_partial=0.06,
        air_hz=4800,
        air_power=1.5,
        uneven_db=1.8,
    )
    two = Courses(off=(-0.5, 0.5), fall=(1.2, 0.8), level=(0.6, 0.55))
    return plucked(request, "long lute", string, two, LUTE_BOX, 0.4, nail=1.6)


SOUNDS = (
    Instrument(
        name="muted pluck", family="plucks", role="pluck", register=(40, 88), version=2,
        about="Short, woody string under the palm; broken chords that leave air.",
        tags=("short", "woody", "dry"),
        spec=shaped(pick(17), percent("mute", "Palm", 62), percent("finger", "Finger", 50), WOOD,
                    attack_ms=1.5, decay_ms=2500, release_ms=140, detune_cents=1.4),
        tone=_muted, noises=("finger", "wood"), gain_db=-14.7,
    ),
    Instrument(
        name="nylon", family="plucks", role="pluck", register=(40, 84), version=2,
        about="Round, close guitar; picked chords and slow lines.",
        tags=("warm", "woody", "round"),
        spec=shaped(pick(22), percent("finger", "Finger", 45), WOOD, slide(),
                    attack_ms=1.5, release_ms=220, detune_cents=1.1),
        tone=_nylon, noises=("finger", "wood"), gain_db=-17.2,
    ),
    Instrument(
        name="steel", family="plucks", role="pluck", register=(40, 88), version=2,
        about="Bright, ringing strings; open voicings and high figures.",
        tags=("bright", "ringing", "open"),
        spec=shaped(pick(13), percent("finger", "Finger", 55), WOOD, slide(),
                    attack_ms=1, release_ms=260, detune_cents=1.8),
        tone=_steel, noises=("finger", "wood"), gain_db=-17.7,
    ),
    Instrument(
        name="harp", family="plucks", role="pluck", register=(36, 96), version=2,
        about="Soft, long strings for runs and rolled chords.",
        tags=("soft", "ringing", "wide"),
        spec=shaped(pick(35), percent("finger", "Finger", 35), WOOD,
                    attack_ms=1.5, release_ms=900, detune_cents=0.8),
        tone=_harp, noises=("finger", "wood"), gain_db=-17.2, variants=2,
    ),
    Instrument(
        name="kalimba", family="plucks", role="pluck", register=(52, 96), version=2,
        about="Thumbed tongues on a box; small figures that answer the keys.",
        tags=("round", "woody", "short"),
        spec=shaped(percent("finger", "Thumb", 50), WOOD, attack_ms=1.5, release_ms=350,
                    detune_cents=1.5),
        tone=_kalimba, noises=("finger", "wood"), gain_db=-14.7,
    ),
    Instrument(
        name="synth pluck", family="plucks", role="pluck", register=(40, 96), version=2,
        about="A saw through a closing filter; sixteenths that sit in the rhythm.",
        tags=("short", "wide", "clean"),
        spec=shaped(percent("hollow", "Hollow", 20), closing(160), attack_ms=2, decay_ms=700,
                    sustain=0, release_ms=180, detune_cents=6),
        tone=_synth, follows=True, gain_db=-15.6,
    ),
    Instrument(
        name="clean guitar", family="plucks", role="pluck", register=(40, 86),
        about="Electric guitar straight from the pickup; chords that hang, lines with space.",
        tags=("clean", "round", "ringing"),
        spec=shaped(pick(19), percent("finger", "Finger", 40), WOOD, slide(),
                    attack_ms=1, release_ms=240, detune_cents=1.2),
        tone=_clean_guitar, noises=("finger", "wood"), gain_db=-18.7,
    ),
    Instrument(
        name="palm guitar", family="plucks", role="pluck", register=(40, 79),
        about="Electric guitar with the palm on the bridge; a pulse of eighths.",
        tags=("short", "dry", "close"),
        spec=shaped(pick(15), percent("mute", "Palm", 50), percent("finger", "Finger", 50), WOOD,
                    attack_ms=1, release_ms=90, detune_cents=1.2),
        tone=_palm_guitar, noises=("finger", "wood"), gain_db=-14.7,
    ),
    Instrument(
        name="hammered dulcimer", family="plucks", role="pluck", register=(43, 91),
        about="Light hammers on many strings; shimmering runs that ring into each other.",
        tags=("bright", "ringing", "wide"),
        spec=shaped(percent("finger", "Hammer", 50), WOOD, attack_ms=1, release_ms=1600,
                    detune_cents=4),
        tone=_dulcimer, noises=("finger", "wood"), gain_db=-15.8, variants=2,
    ),
    Instrument(
        name="long lute", family="plucks", role="pluck", register=(43, 86),
        about="Thin, wiry strings; bent phrases between the chords.",
        tags=("wiry", "mid", "dry"),
        spec=shaped(pick(10), percent("buzz", "Buzz", 45), percent("finger", "Pick", 60), WOOD,
                    slide(), attack_ms=1, release_ms=200, detune_cents=3),
        tone=_lute, noises=("finger", "wood"), gain_db=-15.7,
    ),
)  # fmt: skip
