"""Bells: cast, blown from glass, and a comb of steel."""

import functools

import numpy as np

from cloudrift.ground.draws import number, rng_for
from cloudrift.ground.settings import Field, percent
from cloudrift.sound.instrument import Instrument, Tone, ToneRequest, shaped
from cloudrift.sound.kit.noise import add_at_start, band, puff
from cloudrift.sound.kit.strung import WOOD, Body, Courses, Modes, struck
from cloudrift.theory.pitch import pitch_to_hz

TOWER = Modes(  # hum, prime, tierce, quint, nominal, and what stands above them
    ratios=(0.5, 1.0, 1.2, 1.5, 2.0, 2.5, 2.67, 3.0, 4.18, 5.45, 6.8, 8.2, 9.7),
    soft=(-7, 0, -4, -15, -6, -26, -28, -22, -30, -38, -46, -56, -64),
    hard=(-12, -3, -4, -11, 0, -14, -14, -7, -9, -12, -16, -20, -25),
    t60=(32.0, 17.0, 14.0, 8.0, 8.0, 4.5, 4.0, 4.2, 2.8, 1.9, 1.3, 0.9, 0.6),
    halved_st=30,
)
GLASS = Modes(
    ratios=(1.0, 1.006, 2.32, 2.33, 4.25, 4.31, 6.63, 9.38, 12.5, 15.9, 19.6),
    soft=(0, -12, -24, -32, -34, -38, -46, -56, -64, -70, -78),
    hard=(0, -12, -6, -14, -9, -14, -13, -18, -24, -30, -36),
    t60=(12.0, 11.0, 6.5, 6.2, 3.6, 3.4, 2.0, 1.2, 0.8, 0.5, 0.35),
    halved_st=26,
)
COMB = Modes(
    ratios=(1.0, 2.0, 3.0, 6.27, 6.4, 8.1, 12.6, 17.55, 21.4, 26.0),
    soft=(0, -26, -36, -34, -42, -50, -54, -62, -70, -78),
    hard=(0, -7, -15, -5, -11, -12, -15, -19, -24, -30),
    t60=(6.0, 2.6, 1.6, 1.0, 0.9, 0.6, 0.4, 0.26, 0.18, 0.12),
    halved_st=22,
)
SPLIT = Courses(off=(-0.5, 0.5), fall=(1.1, 0.9), level=(0.7, 0.45))  # two planes of each mode
COMB_BOX = Body(
    name="comb box",
    low_hz=170,
    high_hz=2600,
    count=42,
    q=(14, 34),
    soft_db=-19,
    hard_db=-14,
    tail_db=-45,
    tail_fall=0.9,
)
_BLUNT, _SHARP = band(500, 3000), band(3000, 10_000)


def bell(
    name: str, modes: Modes, body: Body | None, knock: float, spread: float, request: ToneRequest
) -> Tone:
    """Strike modes with something hard."""
    rng = rng_for(request.variant, name, request.pitch)
    wood = request.settings.number("wood") / 50 if body else 0.0
    tone = struck(request, rng, modes.partials(pitch_to_hz(request.pitch), request.pitch), SPLIT,
                  body=body, wood=wood, spread=spread, scatter=0.45)  # fmt: skip
    level = knock * request.settings.number("clapper") / 100
    blunt = puff(request, "clapper", _BLUNT, decay_ms=8)
    add_at_start(tone.soft, blunt, 0.5 * level)
    add_at_start(tone.hard, blunt, level)
    add_at_start(tone.hard, puff(request, "edge", _SHARP, decay_ms=2, rise_ms=0.6), level)
    return tone


MARIMBA = Modes(
    ratios=(1.0, 3.93, 9.3, 16.2, 24.0),
    soft=(0, -26, -48, -62, -74),
    hard=(0, -3.5, -13, -22, -31),
    t60=(1.5, 0.42, 0.16, 0.08, 0.05),
    halved_st=17,
)
MARIMBA_FRAME = Body(
    name="marimba",
    low_hz=110,
    high_hz=2200,
    count=40,
    q=(10, 24),
    soft_db=-17,
    hard_db=-12,
    tail_db=-43,
)
VIBES = Modes(
    ratios=(1.0, 3.98, 9.9, 17.3, 25.8),
    soft=(0, -28, -46, -60, -72),
    hard=(0, -5, -11, -19, -27),
    t60=(9.0, 3.4, 1.2, 0.5, 0.25),
    halved_st=26,
)
PAN = Modes(
    ratios=(1.0, 2.0, 2.99, 3.6, 4.7, 6.1, 7.9),
    soft=(0, -12, -20, -40, -46, -56, -64),
    hard=(0, -1, -5, -12, -15, -20, -25),
    t60=(4.6, 3.2, 2.4, 0.9, 0.7, 0.45, 0.3),
    halved_st=26,
)
PAN_SHELL = Body(
    name="shell",
    low_hz=120,
    high_hz=2600,
    count=44,
    q=(25, 60),
    soft_db=-16,
    hard_db=-12,
    tail_db=-38,
)


def _vibraphone(request: ToneRequest) -> Tone:
    """Bars over tubes that a motor opens and shuts: level, and a little colour, go round."""
    tone = bell("vibraphone", VIBES, None, 0.07, 0.35, request)
    depth = request.settings.number("motor") / 100
    if depth:
        hz = request.settings.number("motor_hz")
        start = number(1000, request.variant, "motor", request.pitch) / 1000
        turn = 2 * np.pi * (hz * np.arange(request.frames) / request.rate + start)
        wave = (0.42 * depth * np.cos(turn)).astype(np.float32)
        lean = (0.15 * depth * np.sin(turn)).astype(np.float32)
        level = np.float32(1) + np.stack([wave + lean, wave - lean])
        level /= np.float32(1 + 0.25 * depth)
        tone = Tone(tone.soft * level, tone.hard * level)
    return tone


SOUNDS = (
    Instrument(
        name="tower bell", family="bells", role="bell", register=(36, 84), version=2,
        about="Cast bell with its minor third; one note per chord, with much space.",
        tags=("dark", "long", "heavy"),
        spec=shaped(percent("clapper", "Clapper", 40), attack_ms=1, decay_ms=12_000,
                    release_ms=2600, detune_cents=2.0),
        tone=functools.partial(bell, "tower bell", TOWER, None, 0.16, 0.5),
        noises=("clapper",), gain_db=-18.5, variants=2,
    ),
    Instrument(
        name="glass bell", family="bells", role="bell", register=(52, 96), version=2,
        about="Small, clear bell; high answers and doubled top notes.",
        tags=("glassy", "bright", "long"),
        spec=shaped(percent("clapper", "Stick", 40), attack_ms=1, decay_ms=10_000,
                    release_ms=1600, detune_cents=2.4),
        tone=functools.partial(bell, "glass bell", GLASS, None, 0.14, 0.6),
        noises=("clapper",), gain_db=-17.0, variants=2,
    ),
    Instrument(
        name="music box", family="bells", role="bell", register=(60, 100), version=2,
        about="Plucked steel comb in a small box; childlike, a little sad.",
        tags=("small", "bright", "woody"),
        spec=shaped(percent("clapper", "Pin", 50), WOOD, attack_ms=1, release_ms=700,
                    detune_cents=2.0),
        tone=functools.partial(bell, "music box", COMB, COMB_BOX, 0.1, 0.45),
        noises=("clapper", "wood"), gain_db=-16.6,
    ),
    Instrument(
        name="marimba", family="bells", role="pluck", register=(45, 96),
        about="Rosewood bars under soft mallets; rolling patterns, warm and short.",
        tags=("woody", "round", "short"),
        spec=shaped(percent("clapper", "Mallet", 35), WOOD, attack_ms=1, release_ms=300,
                    detune_cents=1.0),
        tone=functools.partial(bell, "marimba", MARIMBA, MARIMBA_FRAME, 0.1, 0.5),
        noises=("clapper", "wood"), gain_db=-14.1,
    ),
    Instrument(
        name="vibraphone", family="bells", role="keys", register=(48, 89),
        about="Metal bars that breathe with a motor; ninths that hang in the air.",
        tags=("round", "long", "bell-like"),
        spec=shaped(percent("clapper", "Mallet", 30), percent("motor", "Motor", 55),
                    Field(name="motor_hz", label="Motor rate", default=4.6, unit="Hz", low=0.5,
                          high=9, step=0.1),
                    attack_ms=1, decay_ms=9000, release_ms=600, detune_cents=1.4),
        tone=_vibraphone, noises=("clapper",), gain_db=-16.5, variants=2,
    ),
    Instrument(
        name="hand pan", family="bells", role="pluck", register=(45, 81),
        about="Tuned steel shell under the fingers; patterns that float.",
        tags=("warm", "round", "wide"),
        spec=shaped(percent("clapper", "Finger", 25), WOOD, attack_ms=1.5, release_ms=700,
                    detune_cents=2.2),
        tone=functools.partial(bell, "hand pan", PAN, PAN_SHELL, 0.08, 0.55),
        noises=("clapper", "wood"), gain_db=-16.9,
    ),
)  # fmt: skip
