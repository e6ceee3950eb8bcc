"""Bells: cast, blown from glass, and a comb of steel."""

import functools

from cloudrift.audio.buffers import Stereo
from cloudrift.ground.draws import stream
from cloudrift.ground.lru import kept
from cloudrift.ground.settings import percent
from cloudrift.sound.first.burst import burst
from cloudrift.sound.first.ringing import Modes, Pair, box, ring
from cloudrift.sound.instrument import Instrument, Tone, ToneRequest, shaped
from cloudrift.sound.kit.noise import add_at_start
from cloudrift.theory.pitch import pitch_to_hz

TOWER = Modes(  # hum, prime, tierce, quint, nominal, and what stands above them
    ratios=(0.5, 1.0, 1.2, 1.5, 2.0, 2.5, 2.67, 3.0, 4.0, 5.33, 6.6),
    soft=(-7, 0, -5, -16, -8, -30, -32, -30, -40, -50, -60),
    hard=(-10, -2, -3, -11, 0, -15, -16, -12, -16, -22, -28),
    t60=(9.0, 5.0, 4.4, 2.6, 2.4, 1.4, 1.2, 1.1, 0.8, 0.5, 0.35), halved_st=30,
)  # fmt: skip
GLASS = Modes(
    ratios=(1.0, 2.32, 4.25, 6.63, 9.38), soft=(0, -26, -36, -50, -60),
    hard=(0, -5, -9, -14, -20), t60=(4.2, 2.0, 1.1, 0.6, 0.35), halved_st=26,
)  # fmt: skip
COMB = Modes(
    ratios=(1.0, 2.0, 6.27, 8.1, 17.55), soft=(0, -26, -34, -52, -60), hard=(0, -7, -6, -14, -20),
    t60=(2.6, 1.0, 0.35, 0.2, 0.08), halved_st=22,
)  # fmt: skip


@kept
def _clapper(variant: int, rate: int) -> tuple[Stereo, Stereo]:
    rng = stream(variant, "clapper")
    return (
        burst(rng, rate=rate, seconds=0.05, decay_ms=8, low_hz=500, high_hz=3000),
        burst(rng, rate=rate, seconds=0.02, decay_ms=2, low_hz=3000, high_hz=9000, rise_ms=0.6),
    )


def _bell(name: str, modes: Modes, knock: float, spread: float, request: ToneRequest) -> Tone:
    rng = stream(request.variant, name, request.pitch)
    comb = box((180, 420, 900), (0.1, 0.07, 0.04), -22, -16) if name == "music box" else None
    tone = ring(request, rng, modes.partials(pitch_to_hz(request.pitch), request.pitch),
                pair=Pair(fast=1.2, slow=0.85, shares=(0.7, 0.5)), body=comb, spread=spread,
                scatter=0.8)  # fmt: skip
    level = knock * request.settings.number("clapper") / 100
    soft, hard = _clapper(request.variant, request.rate)
    add_at_start(tone.soft, soft, 0.5 * level)
    add_at_start(tone.hard, soft, level)
    add_at_start(tone.hard, hard, level)
    return tone


SOUNDS = (
    Instrument(
        name="tower bell", family="bells", role="bell", register=(36, 84),
        about="Cast bell with its minor third; one stroke a chord, much room.",
        tags=("dark", "long", "heavy"),
        spec=shaped(percent("clapper", "Clapper", 40), attack_ms=1, decay_ms=9000,
                    release_ms=2000, detune_cents=2.0),
        tone=functools.partial(_bell, "tower bell", TOWER, 0.12, 0.5),
        noises=("clapper",), gain_db=-15.6, variants=2,
    ),
    Instrument(
        name="glass bell", family="bells", role="bell", register=(52, 96),
        about="Small, clear bell; high answers and doubled top notes.",
        tags=("glassy", "bright", "long"),
        spec=shaped(percent("clapper", "Stick", 40), attack_ms=1, decay_ms=8000,
                    release_ms=1200, detune_cents=2.4),
        tone=functools.partial(_bell, "glass bell", GLASS, 0.1, 0.6),
        noises=("clapper",), gain_db=-13.8,
    ),
    Instrument(
        name="music box", family="bells", role="bell", register=(60, 100),
        about="Plucked steel comb in a small box; childlike, a little sad.",
        tags=("small", "bright", "woody"),
        spec=shaped(percent("clapper", "Pin", 50), attack_ms=1, release_ms=500,
                    detune_cents=2.0),
        tone=functools.partial(_bell, "music box", COMB, 0.08, 0.45),
        noises=("clapper",), gain_db=-13.9,
    ),
)  # fmt: skip
