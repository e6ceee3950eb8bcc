"""Keys: pianos from strings, tines and reeds from bent sines."""

import numpy as np

from cloudrift.audio.buffers import Mono, Stereo
from cloudrift.ground.draws import stream
from cloudrift.ground.lru import kept
from cloudrift.ground.settings import percent
from cloudrift.sound.first import fm
from cloudrift.sound.first.burst import burst
from cloudrift.sound.first.ringing import Pair, Ring, String, ring
from cloudrift.sound.instrument import Instrument, Tone, ToneRequest, shaped
from cloudrift.sound.kit.body import board
from cloudrift.sound.kit.noise import add_at_start
from cloudrift.sound.kit.strung import inharmonicity
from cloudrift.sound.kit.table import curve_to_frames
from cloudrift.theory.pitch import pitch_to_hz

SLOW_HZ, SLOW_POINTS = 630, 60  # points a second of a running mean, and over how many it goes


def _case(rng: np.random.Generator, soft: float, hard: float) -> Ring:
    """The case answering the hammer: short low modes."""
    hz = 85 * 9.0 ** (np.arange(14) / 13) * rng.uniform(0.96, 1.04, 14)
    level = np.full(14, 1 / np.sqrt(14))
    return Ring(hz=hz, t60=0.22 / (hz / 100) ** 0.6, soft=soft * level, hard=hard * level)


@kept
def _hammer(variant: int, rate: int) -> tuple[Stereo, Stereo]:
    """Felt meeting strings, soft and hard."""
    rng = stream(variant, "hammer")
    felt = burst(rng, rate=rate, seconds=0.09, decay_ms=14, low_hz=180, high_hz=900, rise_ms=2)
    strike = burst(rng, rate=rate, seconds=0.05, decay_ms=7, low_hz=400, high_hz=2600)
    return felt, strike


@kept
def _damper(variant: int, _pitch: int, rate: int) -> Stereo:
    """Felt falling back on the strings, 34 dB under a note's start."""
    noise = burst(stream(variant, "damper"), rate=rate, seconds=0.12, decay_ms=24, low_hz=120,
                  high_hz=700, rise_ms=4)  # fmt: skip
    return np.asarray(noise * np.float32(0.02))


UPRIGHT_BOARD, GRAND_BOARD = board(7, 75, 3400), board(11, 48, 7000, 2.2)


def _felt_upright(request: ToneRequest) -> Tone:
    pitch, felt = request.pitch, request.settings.number("felt") / 100
    rng = stream(request.variant, "felt upright", pitch)
    string = String(
        stiffness=inharmonicity, place=1 / 8.3, slope=0.35, top_hz=9000, body=UPRIGHT_BOARD,
        soft=(520 - 300 * felt, 0.55, 1.35), hard=(3600 - 2300 * felt, 0.9, 1.2),
        t60=(4.4, 19), per_partial=0.16, air_hz=2600, air_power=1.5,
    )  # fmt: skip
    return _struck(request, rng, string, Pair(fast=2.3, slow=0.62, shares=(0.7, 0.42)))


def _bright_grand(request: ToneRequest) -> Tone:
    pitch, lid = request.pitch, request.settings.number("lid") / 100
    rng = stream(request.variant, "bright grand", pitch)
    string = String(
        stiffness=lambda p: 0.55 * inharmonicity(p), place=1 / 7.4, slope=0.55, top_hz=15_000,
        body=GRAND_BOARD, soft=(1100 + 500 * lid, 1.0, 1.1), hard=(4200 + 4500 * lid, 1.6, 0.9),
        t60=(7.5, 20), per_partial=0.1, air_hz=4200, air_power=1.4,
    )  # fmt: skip
    return _struck(request, rng, string, Pair(fast=2.0, slow=0.66, shares=(0.68, 0.4)))


def _struck(request: ToneRequest, rng: np.random.Generator, string: String, pair: Pair) -> Tone:
    pitch, level = request.pitch, request.settings.number("hammer") / 100
    tone = ring(
        request, rng, string.partials(pitch_to_hz(pitch), pitch), pair=pair,
        body=_case(rng, 0.16 * level, 0.26 * level), lean=0.09 * (pitch - 62) / 24,
    )  # fmt: skip
    felt, strike = _hammer(request.variant, request.rate)
    add_at_start(tone.soft, felt, 0.05 * level)
    add_at_start(tone.hard, felt, 0.07 * level)
    add_at_start(tone.hard, strike, 0.035 * level)
    return tone


def _two_sides(request: ToneRequest, left: Tone, right: Tone) -> Tone:
    """Lay two mono tones to the left and right, each also a little on the other side."""
    soft = np.stack([left.soft + 0.55 * right.soft, right.soft + 0.55 * left.soft])
    hard = np.stack([left.hard + 0.55 * right.hard, right.hard + 0.55 * left.hard])
    return Tone(soft, hard)


def _fall(frames: int, rate: int, t60: float) -> Mono:
    return np.exp(np.arange(frames, dtype=np.float32) * np.float32(-6.908 / (t60 * rate)))


def _tine_keys(request: ToneRequest) -> Tone:
    """A tine beside a tone bar: a bell that dies at once over a pure tone; a lopsided pickup."""
    pitch, n, rate = request.pitch, request.frames, request.rate
    f0 = pitch_to_hz(pitch)
    settings = request.settings
    rng = stream(request.variant, "tine keys", pitch)
    tine, bark = settings.number("tine") / 100, settings.number("bark") / 100
    ring_s = 6.5 * 2 ** (-(pitch - 60) / 22)
    body, quick = _fall(n, rate, ring_s), _fall(n, rate, ring_s * 0.28)
    strike = _fall(n, rate, min(1.1, ring_s * 0.3))
    sides = []
    for away in (0.5, -0.5):
        hz = f0 * 2 ** (away * settings.number("detune_cents") / 1200)
        phase = rng.uniform(-0.5, 0.5)
        bell = fm.pair(hz * 7.02, hz * 7.02, 0.4, n, rate, phase=rng.uniform(0, 6)) * strike
        soft = fm.pair(hz, hz, 0.12 + 0.25 * bark * quick, n, rate, phase=phase) * body
        hard = fm.pair(hz, hz, 0.45 + (0.7 + 1.8 * bark) * quick, n, rate, phase=phase) * body
        sides.append(Tone((soft + 0.05 * tine * bell).astype(np.float32),
                          (0.9 * hard + 0.22 * tine * bell).astype(np.float32)))  # fmt: skip
    return _settled(_two_sides(request, *sides), rate)


def _reed_keys(request: ToneRequest) -> Tone:
    """A struck reed near a plate: hollow, with a growl when it is hit."""
    pitch, n, rate = request.pitch, request.frames, request.rate
    f0 = pitch_to_hz(pitch)
    settings = request.settings
    rng = stream(request.variant, "reed keys", pitch)
    growl = settings.number("growl") / 100
    ring_s = 3.4 * 2 ** (-(pitch - 60) / 26)
    body, quick = _fall(n, rate, ring_s), _fall(n, rate, ring_s * 0.4)
    sides = []
    for away in (0.5, -0.5):
        hz = f0 * 2 ** (away * settings.number("detune_cents") / 1200)
        phase = rng.uniform(-0.5, 0.5)
        # A modulator at twice the carrier leaves odd harmonics: the hollow of a reed.
        soft = fm.pair(hz, 2 * hz, 0.2 + 0.2 * growl * quick, n, rate, phase=phase)
        hard = fm.pair(hz, 2 * hz, 0.8 + (0.6 + 1.7 * growl) * quick, n, rate, phase=phase)
        even = fm.pair(2 * hz, hz, 0.5 + growl * quick, n, rate, phase=phase + 0.7)
        sides.append(
            Tone(
                ((soft + 0.06 * even) * body).astype(np.float32),
                ((soft * 0.2 + hard * 0.8 + 0.2 * even) * body).astype(np.float32),
            )
        )
    tone = _settled(_two_sides(request, *sides), rate)
    click = _hammer(request.variant, rate)[1]
    level = settings.number("hammer") / 100
    add_at_start(tone.soft, click, 0.04 * level)
    add_at_start(tone.hard, click, 0.09 * level)
    return tone


def _digital_keys(request: ToneRequest) -> Tone:
    """Three pairs of sines: a round body, a long glass an octave up, and a ping far above."""
    pitch, n, rate = request.pitch, request.frames, request.rate
    f0 = pitch_to_hz(pitch)
    settings = request.settings
    rng = stream(request.variant, "digital keys", pitch)
    glass = settings.number("glass") / 100
    ring_s = 6.0 * 2 ** (-(pitch - 60) / 24)
    body, long, strike = _fall(n, rate, ring_s), _fall(n, rate, 0.7 * ring_s), _fall(n, rate, 0.6)
    sides = []
    for away in (0.5, -0.5):
        hz = f0 * 2 ** (away * settings.number("detune_cents") / 1200)
        phase = rng.uniform(-0.3, 0.3)
        base = fm.pair(hz, hz, 0.25 * body + 0.1, n, rate, phase=phase) * body
        edge = fm.pair(hz, 3 * hz, 0.5 * long + 0.9 * strike, n, rate, phase=phase) * body
        upper = fm.pair(2 * hz, 7 * hz, 0.35 * long + 0.8 * strike, n, rate, phase=phase) * long
        ping = fm.pair(5 * hz, 14 * hz, 0.7 * strike, n, rate, phase=phase + 1.1) * strike
        sides.append(
            Tone(
                (base + glass * (0.16 * upper + 0.03 * ping)).astype(np.float32),
                (0.75 * edge + glass * (0.85 * upper + 0.4 * ping)).astype(np.float32),
            )
        )
    return _settled(_two_sides(request, *sides), rate)


def _settled(tone: Tone, rate: int) -> Tone:
    """Take a steady offset away: a lopsided wave may have one."""
    return Tone(*(audio - _slow(audio, rate) for audio in tone))


def _slow(audio: Stereo, rate: int) -> Stereo:
    """What moves more slowly than a tenth of a second: a running mean, from silence.

    It moves so slowly that its values at some points are enough.
    """
    apart = rate // SLOW_HZ
    points = -(-audio.shape[1] // apart)
    padded = np.zeros((2, points * apart), np.float32)
    padded[:, : audio.shape[1]] = audio
    steps = padded.reshape(2, points, apart).mean(axis=2, dtype=np.float64)
    summed = np.cumsum(np.pad(steps, ((0, 0), (SLOW_POINTS + 1, 0))), axis=1)
    mean = (summed[:, SLOW_POINTS:] - summed[:, :-SLOW_POINTS]) / SLOW_POINTS
    return np.stack([curve_to_frames(side, audio.shape[1], apart) for side in mean])


SOUNDS = (
    Instrument(
        name="felt upright", family="keys", role="keys", register=(36, 84),
        about="Soft, close piano with the felt down; carries chords without shouting.",
        tags=("dark", "warm", "intimate"),
        spec=shaped(percent("felt", "Felt", 60), percent("hammer", "Hammer", 55),
                    attack_ms=3, release_ms=220, detune_cents=0.9),
        tone=_felt_upright, damper=_damper, noises=("hammer",), gain_db=-14.3,
    ),
    Instrument(
        name="bright grand", family="keys", role="keys", register=(28, 96),
        about="Open, long grand for chords that have to speak through a full loop.",
        tags=("bright", "open", "long"),
        spec=shaped(percent("lid", "Lid", 55, "how far it is open"),
                    percent("hammer", "Hammer", 35),
                    attack_ms=1, release_ms=260, detune_cents=0.7),
        tone=_bright_grand, damper=_damper, noises=("hammer",), gain_db=-15.2,
    ),
    Instrument(
        name="tine keys", family="keys", role="keys", register=(36, 88),
        about="Electric keys with a bell on top; sevenths and ninths at any tempo.",
        tags=("warm", "bell-like", "round"),
        spec=shaped(percent("tine", "Tine", 50), percent("bark", "Bark", 40),
                    attack_ms=2, decay_ms=6000, release_ms=260, detune_cents=1.2),
        tone=_tine_keys, gain_db=-17.4,
    ),
    Instrument(
        name="reed keys", family="keys", role="keys", register=(36, 86),
        about="Hollow electric reeds; short chords that growl when pushed.",
        tags=("hollow", "dusty", "mid"),
        spec=shaped(percent("growl", "Growl", 45), percent("hammer", "Hammer", 40),
                    attack_ms=2, release_ms=120, detune_cents=1.5),
        tone=_reed_keys, noises=("hammer",), gain_db=-18.6,
    ),
    Instrument(
        name="digital keys", family="keys", role="keys", register=(40, 92),
        about="Clear, glassy keys; high voicings and slow ballads of chords.",
        tags=("glassy", "clean", "bright"),
        spec=shaped(percent("glass", "Glass", 45), attack_ms=2, release_ms=300, detune_cents=3),
        tone=_digital_keys, gain_db=-18.5,
    ),
)  # fmt: skip
