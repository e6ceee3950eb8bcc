"""Brass: tubes that brighten as they are blown."""

import msgspec
import numpy as np

from cloudrift.ground.draws import rng_for
from cloudrift.ground.lru import memoize
from cloudrift.ground.settings import percent
from cloudrift.sound.instrument import (
    Instrument,
    Tone,
    ToneRequest,
    opening,
    shaped,
    vibrato_fields,
)
from cloudrift.sound.kit.air import aired
from cloudrift.sound.kit.players import Periods, Section, periods, play
from cloudrift.sound.kit.straying import Vibrato, knot_times
from cloudrift.sound.kit.table import harmonics
from cloudrift.sound.sounds.leads import solo, swaying
from cloudrift.theory.pitch import pitch_to_hz

BLOWN = 8  # steps from breathed to blared


class Tube(msgspec.Struct, frozen=True, kw_only=True):
    """A tube with a bell: its corner in Hz, softly and fully blown, and where the bell begins.

    ``mute_hz`` is a mute's resonance, 0 without one.
    """

    soft_hz: float
    full_hz: float
    bell_hz: float = 180.0
    mute_hz: float = 0.0


@memoize
def _tube(tube: Tube, pitch: int, rate: int) -> Periods:
    """A tube from breathed to blared: the wave in it steepens, so that upper partials come."""
    k, f0 = harmonics(pitch, rate, 100), pitch_to_hz(pitch)
    hz = f0 * k
    bell = 1 / np.sqrt(1 + (tube.bell_hz / hz) ** 2)
    if tube.mute_hz:
        bell *= 0.25 + np.exp(-0.5 * (np.log2(hz / tube.mute_hz) / 0.45) ** 2)
    rows = []
    for share in np.linspace(0, 1, BLOWN):
        corner = tube.soft_hz * (tube.full_hz / tube.soft_hz) ** share + 0.6 * f0
        rows.append(bell / k ** (0.9 - 0.5 * share) / (1 + (hz / corner) ** (3.2 - share)))
    phases = rng_for(1, "tube").uniform(0, 2 * np.pi, 100)[: len(k)]
    return periods(np.array(rows)[None, None], phases, f0)


def blown(
    request: ToneRequest, name: str, tube: Tube, section: Section, fades: float = 0.0
) -> Tone:
    """Blow a tube: how bright it is follows how hard it is blown, and comes after its level.

    ``fades`` is how much of that is lost in half a second, as lips tire of an accent.
    """
    rng = rng_for(request.variant, name, request.pitch)
    t = knot_times(request)
    opened = t * 1e3 / request.settings.number("open_ms")
    blow = request.share * (1 - np.exp(-(opened**1.5))) * (1 - fades * (1 - np.exp(-t / 0.5)))
    made = _tube(tube, request.pitch, request.rate)
    tone = play(request, rng, section, made, place=(BLOWN - 1) * blow)[0]
    return Tone(tone, tone)


def _horn(request: ToneRequest) -> Tone:
    section = solo(request, swaying(request, 4, 0.05, 2), -9)
    tone = blown(request, "soft horn", Tube(soft_hz=320, full_hz=1500), section)
    level = request.settings.number("breath") / 100
    return one(aired(request, tone, level, steady_db=-34, chiff_db=-24))


def one(tone: Tone) -> Tone:
    """Return a tone whose soft side is its hard one: what was added to that is in both."""
    return Tone(tone.hard, tone.hard)


def _stab(request: ToneRequest) -> Tone:
    section = Section(
        players=5,
        steady_db=-3,
        width=0.8,
        breathe_db=1.5,
        late_ms=16,
        sway=Vibrato(drift_cents=5, jitter_cents=2),
    )
    return blown(request, "brass stab", Tube(soft_hz=450, full_hz=3400), section, 0.35)


def _muted_trumpet(request: ToneRequest) -> Tone:
    section = solo(request, swaying(request, 4, 0.05, 2.5), -11)
    tube = Tube(soft_hz=900, full_hz=4600, bell_hz=400, mute_hz=1900)
    tone = blown(request, "muted trumpet", tube, section, 0.15)
    level = request.settings.number("breath") / 100
    return one(aired(request, tone, level, steady_db=-33, chiff_db=-20))


def _low_brass(request: ToneRequest) -> Tone:
    section = Section(
        players=5,
        steady_db=-4,
        width=0.7,
        breathe_db=1.5,
        late_ms=25,
        sway=Vibrato(drift_cents=3, jitter_cents=2),
    )
    return blown(request, "low brass", Tube(soft_hz=260, full_hz=2300, bell_hz=90), section, 0.2)


SOUNDS = (
    Instrument(
        name="soft horn", family="brass", role="lead", register=(41, 77), version=2,
        about="Far, round horn; slow lines and thirds under a lead.",
        tags=("round", "warm", "far"),
        spec=shaped(percent("breath", "Breath", 40), opening(90), *vibrato_fields(6, 900, 4.6),
                    attack_ms=90, decay_ms=3000, sustain=90, release_ms=200, detune_cents=4),
        tone=_horn, noises=("breath",), follows=True, gain_db=-24.1,
    ),
    Instrument(
        name="brass stab", family="brass", role="lead", register=(43, 84), version=2,
        about="A brass section in short hits; chords between phrases.",
        tags=("short", "bright", "wide"),
        spec=shaped(opening(38), attack_ms=18, decay_ms=900, sustain=55, release_ms=130,
                    detune_cents=9),
        tone=_stab, follows=True, gain_db=-20.8,
    ),
    Instrument(
        name="muted trumpet", family="brass", role="lead", register=(52, 86),
        about="Trumpet with a metal mute; small, smoky answers late at night.",
        tags=("thin", "smoky", "mid"),
        spec=shaped(percent("breath", "Breath", 40), opening(45), *vibrato_fields(10, 600, 5.2),
                    attack_ms=32, decay_ms=3000, sustain=90, release_ms=110, detune_cents=2),
        tone=_muted_trumpet, noises=("breath",), follows=True, gain_db=-26.4,
    ),
    Instrument(
        name="low brass", family="brass", role="pad", register=(31, 65),
        about="Trombones together; heavy, slow chords that rise out of the floor.",
        tags=("deep", "heavy", "warm"),
        spec=shaped(opening(120), attack_ms=70, decay_ms=3000, sustain=88, release_ms=220,
                    detune_cents=7),
        tone=_low_brass, follows=True, gain_db=-24.5,
    ),
)  # fmt: skip
