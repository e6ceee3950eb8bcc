"""Voice: choirs on three vowels, and a short sung syllable."""

import functools

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo
from cloudrift.ground.draws import stream
from cloudrift.ground.lru import kept
from cloudrift.ground.settings import percent
from cloudrift.sound.first.breath import breath
from cloudrift.sound.first.burst import burst
from cloudrift.sound.first.formants import vowel
from cloudrift.sound.first.leads import swaying
from cloudrift.sound.first.spread import Shape, ensemble
from cloudrift.sound.first.voices import Voices, period, played
from cloudrift.sound.instrument import (
    Instrument,
    Tone,
    ToneRequest,
    opening,
    shaped,
    vibrato_fields,
)
from cloudrift.sound.kit.noise import add_at_start
from cloudrift.sound.kit.table import harmonics
from cloudrift.theory.pitch import pitch_to_hz

Hz = NDArray[np.float64]
MOUTH_MS = 55.0  # how long the lips take from closed to open


def _sung(name: str, hz: Hz, f0: float, rings: float = 2.5, steep: float = 0.2) -> tuple[Hz, Hz]:
    """A vowel sung softly and with force: the throat falls less steeply, and rings at 3 kHz."""
    mouth = vowel(name, hz)
    throat = 1 + rings * np.exp(-0.5 * (np.log2(hz / 3000) / 0.25) ** 2)
    hard = (f0 / hz) ** steep * mouth * throat
    return (f0 / hz) ** 1.25 * mouth / (1 + (hz / (1400 + f0)) ** 2), hard


def _ah(hz: Hz, f0: float, own: tuple[float, ...]) -> tuple[Hz, Hz]:
    return _sung("ah", hz, f0)


def _oo(hz: Hz, f0: float, own: tuple[float, ...]) -> tuple[Hz, Hz]:
    return _sung("oo", hz, f0, 1.6)


def _mm(hz: Hz, f0: float, own: tuple[float, ...]) -> tuple[Hz, Hz]:
    return _sung("mm", hz, f0, 2.5, -0.4)


def _choir(name: str, shape: Shape, request: ToneRequest) -> Tone:
    tone = ensemble(request, name, shape, side=0.5, least_cents=5)
    return breath(request, tone, request.settings.number("breath") / 100, steady=0.05, chiff=0.08)


@kept
def _syllable(pitch: int, rate: int) -> NDArray[np.float32]:
    """Four periods: closed lips and an open ah, each soft and hard."""
    k, f0 = harmonics(pitch, rate, 90), pitch_to_hz(pitch)
    shapes = [*_sung("mm", f0 * k, f0), *_sung("ah", f0 * k, f0)]
    return period(np.stack(shapes), stream(1, "syllable").uniform(0, 2 * np.pi, len(k)))


@kept
def _consonant(variant: int, rate: int) -> Stereo:
    return burst(stream(variant, "consonant"), rate=rate, seconds=0.05, decay_ms=9, low_hz=1800,
                 high_hz=7000, rise_ms=3)  # fmt: skip


def _chopped(request: ToneRequest) -> Tone:
    rng = stream(request.variant, "chopped vowel", request.pitch)
    how = Voices(sides=0.3, vibrato=swaying(request, 5))
    four = played(request, rng, _syllable(request.pitch, request.rate), how)
    late = request.settings.number("lips") / 50 * MOUTH_MS * request.rate / 1e3
    t = np.arange(request.frames, dtype=np.float32)
    share = np.clip(t / np.float32(max(late, 1)), 0, 1)
    share = share * share * (3 - 2 * share)
    tone = Tone(*(four[:2] + share * (four[2:] - four[:2])))
    level = request.settings.number("breath") / 100
    add_at_start(tone.hard, _consonant(request.variant, request.rate), 0.2 * level)
    return breath(request, tone, level, steady=0.03, chiff=0.1)


def _choir_sound(
    name: str, gain_db: float, shape: Shape, about: str, tags: tuple[str, ...]
) -> Instrument:
    return Instrument(
        name=name, family="voice", role="voice", register=(43, 84), about=about, tags=tags,
        spec=shaped(percent("breath", "Breath", 40), opening(200), attack_ms=110, decay_ms=3000,
                    sustain=92, release_ms=380, detune_cents=14),
        tone=functools.partial(_choir, name, shape), noises=("breath",), gain_db=gain_db,
    )  # fmt: skip


SOUNDS = (
    _choir_sound("choir ah", -25.1, _ah, "Open voices; chords that carry the loop on their own.",
                 ("open", "voices", "wide")),
    _choir_sound("choir oo", -24.5, _oo, "Round voices behind the keys; long, soft chords.",
                 ("round", "voices", "dark")),
    _choir_sound("choir mm", -25.0, _mm, "Hummed with closed lips; a warm floor of voices.",
                 ("dark", "voices", "close")),
    Instrument(
        name="chopped vowel", family="voice", role="voice", register=(48, 84),
        about="One short syllable; hooks cut from a voice that nobody sang.",
        tags=("short", "voices", "mid"),
        spec=shaped(percent("lips", "Lips", 50, "how slowly they open"),
                    percent("breath", "Breath", 45), *vibrato_fields(12, 300),
                    attack_ms=8, decay_ms=900, sustain=70, release_ms=90, detune_cents=6),
        tone=_chopped, noises=("breath",), gain_db=-22.5,
    ),
)  # fmt: skip
