"""Voice: choirs on three vowels, and a short sung syllable."""

import functools

import msgspec
import numpy as np
from numpy.typing import NDArray

from cloudrift.ground.draws import number, rng_for
from cloudrift.ground.lru import memoize
from cloudrift.ground.settings import Field, percent
from cloudrift.sound.instrument import (
    Instrument,
    Tone,
    ToneRequest,
    opening,
    shaped,
    vibrato_fields,
)
from cloudrift.sound.kit.air import aired
from cloudrift.sound.kit.formants import VOWELS, Mouth, between, mouth, throat
from cloudrift.sound.kit.noise import add_at_start, band, lasting, puff, wandering
from cloudrift.sound.kit.players import Periods, Section, periods, play
from cloudrift.sound.kit.straying import Vibrato, course, knot_frames, knot_times
from cloudrift.sound.kit.table import curve_to_frames, harmonics
from cloudrift.sound.sounds.leads import solo, swaying
from cloudrift.theory.pitch import pitch_to_hz

Hz = NDArray[np.float64]
SIZES = (0.95, 1.0, 1.05)  # of the heads in a choir
SOFT_DB, HARD_DB = -10.5, 0.0  # an octave, from the throat into the air
SINGERS = Section(
    players=9,
    width=0.9,
    breathe_db=1.2,
    late_ms=70,
    least_cents=5,
    sway=Vibrato(hz=5.5, cents=13, onset_ms=300, drift_cents=4, jitter_cents=3, shimmer_db=0.5),
)


def sung(hz: Hz, f0: float, shape: Mouth, size: float = 1.0) -> tuple[Hz, Hz]:
    """Return a mouth sung into softly and with force: then the throat rings at 3 kHz."""
    through = mouth(shape, hz, f0, size)
    ring = 1 + 3.0 * np.exp(-0.5 * (np.log2(hz / (2900 * size)) / 0.4) ** 2)
    tense = HARD_DB + 4 * min(1.0, f0 / 1000)  # a high note is pressed
    return throat(hz, f0, SOFT_DB) * through, throat(hz, f0, tense) * through * ring


@memoize
def _sung(vowel: str, pitch: int, rate: int) -> Periods:
    """A vowel by three sizes of head, sung softly and with force."""
    k, f0 = harmonics(pitch, rate, 90), pitch_to_hz(pitch)
    hz = f0 * k
    sets = [sung(hz, f0, VOWELS[vowel], size) for size in SIZES]
    phases = rng_for(1, "sung").uniform(0, 2 * np.pi, 90)[: len(k)]
    return periods(np.array(sets)[:, :, None], phases, f0)


def choir(vowel: str, request: ToneRequest) -> Tone:
    """Sing a vowel by ten, with air between them."""
    rng = rng_for(request.variant, "choir", vowel, request.pitch)
    tone = Tone(*play(request, rng, SINGERS, _sung(vowel, request.pitch, request.rate)))
    return aired(
        request, tone, request.settings.number("breath") / 100, steady_db=-28, chiff_db=-24
    )


# Syllables: vowels that the mouth passes, when it is there in ms at 50 % of "lips", and how much of
# a consonant is on the start.
SYLLABLES: dict[str, tuple[tuple[tuple[str, float], ...], float]] = {
    "mah": ((("mm", 0), ("mm", 35), ("ah", 120)), 0.0),
    "yah": ((("ee", 0), ("ee", 20), ("ah", 110)), 0.1),
    "wow": ((("oo", 0), ("ah", 90), ("ah", 180), ("oo", 330)), 0.0),
    "dee": ((("eh", 0), ("ee", 60)), 1.0),
    "noh": ((("mm", 0), ("mm", 45), ("uh", 90), ("oh", 160)), 0.2),
    "hey": ((("eh", 0), ("eh", 120), ("ee", 260)), 0.8),
    "ooh": ((("uh", 0), ("oo", 70)), 0.2),
    "tah": ((("uh", 0), ("ah", 60)), 1.4),
}
MOUTHS = 9  # places of the mouth that a syllable is made of
_SIBILANT, _FLAP = band(1800, 8000), band(300, 2200)


@memoize
def _syllable(name: str, pitch: int, rate: int) -> Periods:
    """The mouth at even times from a syllable's start to its end, soft and hard."""
    k, f0 = harmonics(pitch, rate, 90), pitch_to_hz(pitch)
    hz = f0 * k
    points = SYLLABLES[name][0]
    rows = []
    for at in np.linspace(0, points[-1][1], MOUTHS):
        after = next(i for i in range(1, len(points)) if at <= points[i][1])
        (low, began), (high, ends) = points[after - 1], points[after]
        shape = between(low, high, (at - began) / (ends - began))
        closed = 0.45 if "mm" in (low, high) and at < points[-1][1] / 3 else 1.0
        rows.append([closed * one for one in sung(hz, f0, shape)])
    made = np.array(rows).swapaxes(0, 1)
    made /= np.sqrt((made[:, -1:] ** 2).sum(axis=-1, keepdims=True))  # it ends equally loud
    made /= np.maximum(np.sqrt((made**2).sum(axis=-1, keepdims=True)), 1.0)
    phases = np.cumsum(np.linspace(0, -1.2, len(k)))  # of a throat that closes quickly
    return periods(made[None], phases, f0, even=False)


def _chopped(request: ToneRequest) -> Tone:
    name = request.settings.word("syllable")
    points, consonant = SYLLABLES[name]
    rng = rng_for(request.variant, "chopped vowel", request.pitch)
    made = _syllable(name, request.pitch, request.rate)
    slow = max(0.02, request.settings.number("lips") / 50) * rng.uniform(0.9, 1.1)
    place = course(request, slow * np.linspace(0, points[-1][1], MOUTHS))
    sway = swaying(request, 5, 0.05, 7)
    section = solo(request, sway, -10)
    t = knot_times(request)
    scoop = -60 * np.exp(-t / 0.04)  # a singer comes to a note from below
    tone = Tone(*play(request, rng, section, made, place=place, bend=scoop))
    level = request.settings.number("breath") / 100
    if consonant:
        hiss = puff(request, "consonant", _SIBILANT, decay_ms=12, rise_ms=3)
        add_at_start(tone.soft, hiss, 0.12 * consonant * level)
        add_at_start(tone.hard, hiss, 0.4 * consonant * level)
        add_at_start(tone.hard, puff(request, "flap", _FLAP, decay_ms=6), 0.25 * consonant * level)
    return aired(request, tone, level, steady_db=-30, chiff_db=-20)


def _choir_sound(vowel: str, gain_db: float, about: str, tags: tuple[str, ...]) -> Instrument:
    return Instrument(
        name=f"choir {vowel}",
        family="voice",
        role="voice",
        register=(43, 84),
        about=about,
        tags=tags,
        version=2,
        spec=shaped(
            percent("breath", "Breath", 40),
            opening(200),
            attack_ms=110,
            decay_ms=3000,
            sustain=92,
            release_ms=380,
            detune_cents=13,
        ),
        tone=functools.partial(choir, vowel),
        noises=("breath",),
        gain_db=gain_db,
    )


def _solo_hum(request: ToneRequest) -> Tone:
    """One voice with closed lips, close; it wavers as a throat does."""
    rng = rng_for(request.variant, "solo hum", request.pitch)
    t = knot_times(request)
    section = solo(request, swaying(request, 6, 0.05, 8), -14)
    made = _sung("mm", request.pitch, request.rate)
    tone = Tone(*play(request, rng, section, made, bend=-45 * np.exp(-t / 0.05)))
    return aired(
        request, tone, request.settings.number("breath") / 100, steady_db=-30, chiff_db=-24
    )


WHISPERED = ("ah", "eh", "oo")
MOUTH_KEYS = 3  # share a mouth: the next is a semitone smaller, and each takes 100 ms


@memoize
def _whispered(vowel: str, mouth_key: int, rate: int) -> NDArray[np.float32]:
    """Air through the mouth of a key, dull and sharp: (4, LONG)."""
    size = 2 ** (0.35 * (mouth_key - 60) / 12)
    shapes = (_Air(vowel, size, 1.0), _Air(vowel, size, 0.0))
    name = f"whisper {vowel} {mouth_key}"
    return np.concatenate([lasting(name, rate, shape) for shape in shapes])


class _Air(msgspec.Struct, frozen=True):
    vowel: str
    size: float
    dull: float

    def __call__(self, hz: Hz) -> Hz:
        gain = mouth(VOWELS[self.vowel], hz, 1.0, self.size) * (hz / 500) ** 0.8
        return np.asarray(gain / np.sqrt((1 + (300 / hz) ** 4) * (1 + self.dull * (hz / 450) ** 2)))


def _whisper(request: ToneRequest) -> Tone:
    """Whispered vowels that pass into each other; the key is the size of the mouth."""
    t = knot_times(request)
    first = number(1000, request.variant, "whisper", request.pitch) / 1000
    mouth_key = MOUTH_KEYS * round(request.pitch / MOUTH_KEYS)
    turn = t * 1e3 / request.settings.number("every_ms") + 0.15 * first
    out = np.zeros((4, request.frames), np.float32)
    for i, vowel in enumerate(WHISPERED):
        rng = rng_for(request.variant, "whisper", vowel, request.pitch)
        noise = wandering(
            _whispered(vowel, mouth_key, request.rate), rng, request.frames, request.rate
        )
        near = np.abs((turn * len(WHISPERED) - i + 1.5) % len(WHISPERED) - 1.5)
        share = np.cos(np.clip(near, 0, 1) * np.pi / 2)
        out += curve_to_frames(share, request.frames, knot_frames(request.rate)) * noise
    level = np.float32(request.settings.number("breath") / 50)
    late = int(2e-4 * request.settings.number("detune_cents") * request.rate)
    if late:
        out[1::2, late:] = out[1::2, :-late].copy()
    return Tone(level * out[:2], level * out[2:])


SOUNDS = (
    _choir_sound("ah", -24.8, "Open voices; chords that carry the loop on their own.",
                 ("open", "voices", "wide")),
    _choir_sound("oo", -23.9, "Round voices under the keys; long, soft chords.",
                 ("round", "voices", "dark")),
    _choir_sound("mm", -24.5, "Hummed with closed lips; a warm floor of voices.",
                 ("dark", "voices", "close")),
    Instrument(
        name="chopped vowel", family="voice", role="voice", register=(48, 84), version=2,
        about="One short syllable; vocal chops for hooks.",
        tags=("short", "voices", "mid"),
        spec=shaped(Field(name="syllable", label="Syllable", default="mah",
                          choices=tuple(SYLLABLES)),
                    percent("lips", "Lips", 50, "how slowly they open"),
                    percent("breath", "Breath", 45), *vibrato_fields(12, 300),
                    attack_ms=8, decay_ms=900, sustain=70, release_ms=90, detune_cents=5),
        tone=_chopped, noises=("breath",), gain_db=-22.0,
    ),
    Instrument(
        name="choir low", family="voice", role="voice", register=(33, 64),
        about="Deep voices on oh; a floor under strings, slow and grave.",
        tags=("dark", "voices", "deep"),
        spec=shaped(percent("breath", "Breath", 40), opening(260), attack_ms=150, decay_ms=3000,
                    sustain=92, release_ms=480, detune_cents=12),
        tone=functools.partial(choir, "oh"), noises=("breath",), gain_db=-24.3, variants=2,
    ),
    Instrument(
        name="solo hum", family="voice", role="voice", register=(48, 79),
        about="One voice, lips closed, close to the ear; a tune before the words.",
        tags=("close", "voices", "soft"),
        spec=shaped(percent("breath", "Breath", 45), *vibrato_fields(14, 500, 5.4),
                    attack_ms=70, decay_ms=3000, sustain=92, release_ms=200, detune_cents=2),
        tone=_solo_hum, noises=("breath",), gain_db=-24.4,
    ),
    Instrument(
        name="whisper", family="voice", role="voice", register=(43, 79), tuned=False,
        about="Whispered vowels without words; air between the phrases.",
        tags=("airy", "close", "moving"),
        spec=shaped(Field(name="every_ms", label="Every", default=900, unit="ms", low=100,
                          high=6000, step=10, log=True, hint="length of three vowels"),
                    percent("breath", "Breath", 50), attack_ms=60, release_ms=220, detune_cents=0),
        tone=_whisper, noises=("breath",), gain_db=-25.4,
    ),
)  # fmt: skip
