"""Keys: pianos from strings on a board, tines and reeds before a pickup, and drawn sines."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo
from cloudrift.ground.draws import number, rng_for
from cloudrift.ground.lru import memoize
from cloudrift.ground.settings import percent
from cloudrift.sound.instrument import Instrument, Tone, ToneRequest, shaped, tape_sway
from cloudrift.sound.kit.air import beside
from cloudrift.sound.kit.bank import decaying_partials
from cloudrift.sound.kit.body import board
from cloudrift.sound.kit.noise import add_at_start, band, lasting, puff, read_round
from cloudrift.sound.kit.players import Periods, Section, periods, play
from cloudrift.sound.kit.straying import Vibrato, course, knot_times, straying
from cloudrift.sound.kit.strung import (
    THREE,
    WOOD,
    Body,
    ByKey,
    Courses,
    Modes,
    String,
    by_key,
    inharmonicity,
    struck,
)
from cloudrift.sound.kit.table import harmonics
from cloudrift.theory.pitch import pitch_to_hz

Hz = NDArray[np.float64]

# --- pianos ---------------------------------------------------------------------------------------

ONE = Courses(off=(-0.25, 0.25), fall=(1.1, 0.45), level=(0.85, 0.35))
TWO = Courses(off=(-0.5, 0.5), fall=(1.2, 0.5), level=(0.75, 0.5))
TWO_FROM, THREE_FROM = 34, 46  # the keys from which on a note has two strings, and three
LAST_DAMPER = 89  # F6: the strings above it ring on
FALLS: ByKey = (
    (21, 2.2),
    (36, 4.5),
    (48, 6.5),
    (60, 9.5),
    (72, 20),
    (84, 52),
    (96, 95),
    (108, 170),
)
RISES: ByKey = ((36, 3.6), (60, 3.0), (72, 2.6), (84, 1.3), (96, 0.8))  # ms
DAMPED: ByKey = ((24, 3.2), (36, 2.5), (48, 1.6), (60, 1.0), (76, 0.75), (LAST_DAMPER, 0.7))
_FELT, _STRIKE = band(140, 900), band(380, 3000)
_FALLEN = band(110, 700)


def damping(pitch: int) -> float:
    """Return how long felt takes to stop a key, against C4; far longer where there is none."""
    return by_key(DAMPED, pitch) if pitch <= LAST_DAMPER else 14.0


def damper(variant: int, pitch: int, rate: int) -> Stereo:
    """Return felt falling back on the strings, 34 dB under a note's start."""
    noise = lasting("damper", rate, _FALLEN)
    start = number(noise.shape[1], variant, "damper", pitch)
    count = int(0.12 * rate)
    t = np.arange(count, dtype=np.float32) / np.float32(rate)
    envelope = np.exp(t * np.float32(-1 / 0.024)) * (1 - np.exp(t * np.float32(-1 / 0.002)))
    level = np.float32(0.02 if pitch <= LAST_DAMPER else 0.0)
    return np.asarray(level * envelope * read_round(noise, start, count))


def piano(
    request: ToneRequest, name: str, string: String, body: Body, *, knock: float = 1.0
) -> Tone:
    """Strike a piano's key: one to three strings, its board, and felt on the string."""
    pitch, level = request.pitch, request.settings.number("hammer") / 50
    rng = rng_for(request.variant, name, pitch)
    courses = ONE if pitch < TWO_FROM else TWO if pitch < THREE_FROM else THREE
    rise = by_key(RISES, pitch)
    tone = struck(
        request,
        rng,
        string.partials(pitch_to_hz(pitch), pitch, name),
        courses,
        body=body,
        wood=request.settings.number("wood") / 50,
        lean=0.09 * (pitch - 62) / 24,
        rise_ms=(1.7 * rise, rise),
    )
    felt = puff(request, "felt", _FELT, decay_ms=14, rise_ms=2)
    add_at_start(tone.soft, felt, 0.035 * knock * level)
    add_at_start(tone.hard, felt, 0.05 * knock * level)
    add_at_start(tone.hard, puff(request, "strike", _STRIKE, decay_ms=7), 0.045 * knock * level)
    return tone


UPRIGHT_BOARD, GRAND_BOARD = board(7, 75, 5200, 2.6), board(11, 48, 9500, 1.6)
UPRIGHT = Body(name="upright", soft_db=-14, hard_db=-11)
GRAND = Body(name="grand", low_hz=50, high_hz=2800, count=54, soft_db=-15, hard_db=-12)


def _felt_upright(request: ToneRequest) -> Tone:
    felt = request.settings.number("felt") / 100
    string = String(
        stiffness=inharmonicity,
        place=1 / 8.3,
        slope=0.3,
        top_hz=15_000,
        count=84,
        body=UPRIGHT_BOARD,
        soft=(620 - 330 * felt, 0.6, 1.25),
        hard=(6800 - 3900 * felt, 1.0, 0.62),
        fall=FALLS,
        per_partial=0.12,
        air_hz=5600,
        air_power=1.5,
        uneven_db=1.6,
    )
    return piano(request, "felt upright", string, UPRIGHT)


def _bright_grand(request: ToneRequest) -> Tone:
    lid = request.settings.number("lid") / 100
    string = String(
        stiffness=_grand_stiffness,
        place=1 / 7.4,
        slope=0.5,
        top_hz=15_000,
        count=84,
        body=GRAND_BOARD,
        soft=(1100 + 500 * lid, 1.0, 1.1),
        hard=(5200 + 5600 * lid, 1.6, 0.75),
        fall=FALLS,
        per_partial=0.1,
        air_hz=4600,
        air_power=1.4,
        uneven_db=2.0,
    )
    return piano(request, "bright grand", string, GRAND)


def _grand_stiffness(pitch: float) -> float:
    return 0.55 * inharmonicity(pitch)


# --- electric keys --------------------------------------------------------------------------------

PHASES = 512
SWINGS = np.geomspace(0.05, 2.2, 10)  # how far a tine or reed swings, in distances of its pickup
REED_REACH = 0.56  # of the plate's distance, for a swing of 1
_THUMP, _TICK = band(60, 420), band(500, 3200)
ELECTRIC = Section(
    players=2, steady_db=11.0, width=1.0, breathe_db=0.0, alike=True, sway=Vibrato(drift_cents=0.0)
)


def _harmonics_of(waves: Hz, count: int) -> NDArray[np.complex128]:
    """The harmonics of periods, (rows, PHASES), as amplitudes of sines: (rows, count)."""
    return np.asarray(2j * np.fft.rfft(waves)[:, 1 : count + 1] / PHASES)


@memoize
def _before_tine(pitch: int, rate: int, bark: float) -> Periods:
    """A tine before a magnet that it passes off the middle: what is heard is how the flux moves."""
    swing = SWINGS[:, None] * np.sin(2 * np.pi * np.arange(PHASES) / PHASES)
    flux = 1 / (1 + (swing - 0.25 - 0.45 * bark) ** 2) ** 1.5
    moves = np.diff(flux, axis=1, append=flux[:, :1])
    count = len(harmonics(pitch, rate, 60))
    return periods(_harmonics_of(moves, count)[None, None], 0.0, pitch_to_hz(pitch))


@memoize
def _before_reed(pitch: int, rate: int, growl: float) -> Periods:
    """A reed beside a plate: as it comes near, the charge runs away."""
    swing = np.minimum(REED_REACH * SWINGS, 0.96)[:, None] * np.sin(
        2 * np.pi * np.arange(PHASES) / PHASES
    )
    charge = 1 / (1.0 + 0.2 * (1 - growl) - swing)
    count = len(harmonics(pitch, rate, 60))
    return periods(_harmonics_of(charge, count)[None, None], 0.0, pitch_to_hz(pitch))


def _picked_up(
    request: ToneRequest,
    name: str,
    made: Periods,
    swings: tuple[float, float],
    ring_s: float,
    bend: Hz | None = None,
) -> Tone:
    """Let something swing before its pickup: it is the duller, the less it still swings."""
    t = knot_times(request)
    fall = np.exp(-6.908 / ring_s * t)
    rng = rng_for(request.variant, name, request.pitch)
    state = rng.bit_generator.state
    sides = []
    for swing in swings:
        rng.bit_generator.state = state  # in phase with each other
        swung = swing * (0.25 * np.exp(-t / (0.05 * ring_s)) + 0.75) * fall**0.45
        place = np.interp(np.log(swung), np.log(SWINGS), np.arange(float(len(SWINGS))))
        sides.append(play(request, rng, ELECTRIC, made, place=place, level=fall, bend=bend)[0])
    return Tone(*sides)


def _add_thump(request: ToneRequest, tone: Tone, decay_ms: float, soft: float, hard: float) -> None:
    """Add what the key itself is heard by: its hammer's tip, and the bed it falls on."""
    level = request.settings.number("hammer") / 50
    thump = puff(request, "thump", _THUMP, decay_ms=decay_ms, rise_ms=2)
    add_at_start(tone.soft, thump, soft * level)
    add_at_start(tone.hard, thump, hard * level)


def _tine_keys(request: ToneRequest) -> Tone:
    pitch, settings = request.pitch, request.settings
    tine, bark = settings.number("tine") / 50, settings.number("bark") / 100
    far = by_key(((36, 1.5), (60, 1.15), (84, 1.05), (96, 0.8)), pitch)
    made = _before_tine(pitch, request.rate, bark)
    tone = _picked_up(
        request, "tine keys", made, (0.22 * far, far), 7.5 * 2 ** (-(pitch - 60) / 22)
    )
    rng = rng_for(request.variant, "tine", pitch)
    f0 = pitch_to_hz(pitch)
    modes = np.array([6.7, 11.3, 18.4]) * f0 * rng.uniform(0.998, 1.002, 3)
    level = tine * np.array([0.085, 0.05, 0.025]) * np.exp(1j * rng.uniform(0, 6.28, 3))
    frames = min(request.frames, int(0.35 * request.rate))
    bell = decaying_partials(
        modes, 6.908 / np.array([0.16, 0.1, 0.06]), level[None], frames, request.rate
    )
    tone.soft[:, :frames] += np.float32(0.3) * bell
    tone.hard[:, :frames] += np.float32(1.3) * bell
    _add_thump(request, tone, 11, 0.06, 0.1)
    return tone


def _reed_keys(request: ToneRequest) -> Tone:
    pitch, settings = request.pitch, request.settings
    growl, level = settings.number("growl") / 100, settings.number("hammer") / 50
    far = by_key(((36, 1.8), (60, 2.1), (84, 2.2)), pitch)
    made = _before_reed(pitch, request.rate, growl)
    tone = _picked_up(
        request, "reed keys", made, (0.07 * far, far), 4.2 * 2 ** (-(pitch - 60) / 26)
    )
    _add_thump(request, tone, 16, 0.07, 0.08)
    add_at_start(tone.hard, puff(request, "tick", _TICK, decay_ms=5), 0.12 * level)
    return tone


GLASS_MS = np.array([0.0, 30, 70, 130, 220, 380, 650, 1100, 1900, 3200, 5500])


@memoize
def _drawn_glass(pitch: int, rate: int, glass: float) -> Periods:
    """Sines that bend each other, at times from the stroke on: a ping, a glass, a round body."""
    turn = 2 * np.pi * np.arange(PHASES) / PHASES
    fine = turn[None]
    count = len(harmonics(pitch, rate, 70))
    tame = by_key(((60, 1.0), (84, 0.7), (96, 0.45)), pitch)
    strike = np.exp(-GLASS_MS / 130)[:, None] * tame
    long = np.exp(-GLASS_MS / 1500)[:, None]
    body = np.exp(-GLASS_MS / 3500)[:, None]
    base = np.sin(fine + (0.2 * body + 0.1) * np.sin(fine))
    upper = np.sin(2 * fine + (0.3 * long * tame + 0.7 * strike) * np.sin(7 * fine)) * long**0.3
    ping = np.sin(5 * fine + 0.7 * strike * np.sin(14 * fine)) * strike
    edge = np.sin(fine + (0.55 * long * tame + 0.9 * strike) * np.sin(3 * fine))
    soft = base + glass * (0.16 * upper + 0.03 * ping)
    hard = 0.75 * edge + glass * (0.9 * upper + 0.5 * ping)
    both = np.stack([_harmonics_of(wave, count) for wave in (soft, hard)])
    return periods(both[None], 0.0, pitch_to_hz(pitch))


def _digital_keys(request: ToneRequest) -> Tone:
    pitch = request.pitch
    made = _drawn_glass(pitch, request.rate, request.settings.number("glass") / 100)
    rng = rng_for(request.variant, "digital keys", pitch)
    place = course(request, GLASS_MS)
    t = knot_times(request)
    fall = np.exp(-6.908 / (6.0 * 2 ** (-(pitch - 60) / 24)) * t)
    how = Section(
        players=2,
        steady_db=10.0,
        width=1.0,
        breathe_db=0.0,
        alike=True,
        sway=Vibrato(drift_cents=0.5),
    )
    return Tone(*play(request, rng, how, made, place=place, level=fall))


# --- other pianos, and keys from elsewhere --------------------------------------------------------


PRACTICE = Body(name="practice", soft_db=-19, hard_db=-16)


def _practice_piano(request: ToneRequest) -> Tone:
    """A strip of felt between hammers and strings: soft, short, close."""
    strip = request.settings.number("strip") / 100
    string = String(
        stiffness=inharmonicity,
        place=1 / 8.0,
        slope=0.45,
        top_hz=6000,
        body=UPRIGHT_BOARD,
        soft=(340 - 150 * strip, 0.35, 1.3),
        hard=(2600 - 1300 * strip, 1.2, 1.2),
        fall=tuple((key, 1.5 * fall) for key, fall in FALLS),
        per_partial=0.2,
        air_hz=2400,
        air_power=1.5,
        uneven_db=0.8,
    )
    return piano(request, "practice piano", string, PRACTICE, knock=1.6)


WORN_BODY = Body(name="worn piano", low_hz=70, high_hz=2200, q=(14, 30), soft_db=-14, hard_db=-11)
WORN_BOARD = board(41, 95, 2800, 2.6)


def _worn_piano(request: ToneRequest) -> Tone:
    """Strings that have drifted apart, hard felt, a loose board."""
    age = request.settings.number("age") / 100
    string = String(
        stiffness=inharmonicity,
        place=1 / 7.7,
        slope=0.4,
        top_hz=9000,
        body=WORN_BOARD,
        soft=(700, 0.6, 1.2),
        hard=(4800, 1.2, 1.0),
        fall=FALLS,
        per_partial=0.2,
        air_hz=2800,
        air_power=1.5,
        uneven_db=2 + age,
    )
    return piano(request, "worn piano", string, WORN_BODY, knock=1.4)


CELESTA_BARS = Modes(
    ratios=(1.0, 2.76, 4.0, 5.4, 8.93, 13.3),
    soft=(0, -30, -22, -42, -56, -66),
    hard=(0, -8, -5, -10, -19, -27),
    t60=(4.2, 0.9, 1.4, 0.4, 0.2, 0.12),
    halved_st=20,
)
CELESTA_BOX = Body(
    name="celesta",
    low_hz=120,
    high_hz=2400,
    count=42,
    q=(15, 35),
    soft_db=-20,
    hard_db=-15,
    tail_db=-40,
)


def _celesta(request: ToneRequest) -> Tone:
    pitch, level = request.pitch, request.settings.number("hammer") / 50
    rng = rng_for(request.variant, "celesta", pitch)
    tone = struck(
        request,
        rng,
        CELESTA_BARS.partials(pitch_to_hz(pitch), pitch),
        TWO,
        body=CELESTA_BOX,
        wood=request.settings.number("wood") / 50,
        rise_ms=(1.2, 0.5),
    )
    felt = puff(request, "felt", _FELT, decay_ms=8, rise_ms=1)
    add_at_start(tone.soft, felt, 0.03 * level)
    add_at_start(tone.hard, felt, 0.05 * level)
    return tone


_CASSETTE = band(900, 9000)
CASSETTE_WAVES = ((0.6, 0.6), (1.3, 0.35), (7.1, 0.15))


@memoize
def _narrow_tine(pitch: int, rate: int) -> Periods:
    """The tine's periods, less what a small tape does not keep."""
    swing = SWINGS[:, None] * np.sin(2 * np.pi * np.arange(PHASES) / PHASES)
    flux = 1 / (1 + (swing - 0.5) ** 2) ** 1.5
    moves = np.diff(flux, axis=1, append=flux[:, :1])
    k, f0 = harmonics(pitch, rate, 40), pitch_to_hz(pitch)
    keeps = 1 / np.sqrt((1 + (140 / (f0 * k)) ** 4) * (1 + (f0 * k / 5200) ** 6))
    made = _harmonics_of(np.tanh(12 * moves) / 12, len(k)) * keeps
    return periods(made[None, None], 0.0, f0)


def _cassette_keys(request: ToneRequest) -> Tone:
    """Electric keys that went through a cassette: they sway, hiss and have lost their ends."""
    settings, pitch = request.settings, request.pitch
    rng = rng_for(request.variant, "cassette", pitch)
    bend = straying(request, rng, settings.number("sway_cents"), CASSETTE_WAVES, 0.1)
    far = by_key(((36, 1.5), (60, 1.2), (84, 1.05)), pitch)
    made = _narrow_tine(pitch, request.rate)
    tone = _picked_up(
        request, "cassette keys", made, (0.3 * far, far), 5.5 * 2 ** (-(pitch - 60) / 22), bend
    )
    _add_thump(request, tone, 11, 0.05, 0.08)
    return beside(request, tone, "cassette", _CASSETTE, 0.02 * settings.number("hiss") / 100, 0)


SOUNDS = (
    Instrument(
        name="felt upright", family="keys", role="keys", register=(36, 84), version=2,
        about="Soft, close piano with the felt down; carries chords without shouting.",
        tags=("dark", "warm", "intimate"),
        spec=shaped(percent("felt", "Felt", 55), percent("hammer", "Hammer", 50), WOOD,
                    attack_ms=1, release_ms=200, detune_cents=0.8),
        tone=_felt_upright, damper=damper, damping=damping, noises=("hammer", "wood"),
        gain_db=-16.8,
    ),
    Instrument(
        name="bright grand", family="keys", role="keys", register=(28, 96), version=2,
        about="Open, long grand for chords that have to speak through a full loop.",
        tags=("bright", "open", "long"),
        spec=shaped(percent("lid", "Lid", 55, "how far it is open"),
                    percent("hammer", "Hammer", 45), WOOD,
                    attack_ms=1, release_ms=200, detune_cents=0.7),
        tone=_bright_grand, damper=damper, damping=damping, noises=("hammer", "wood"),
        gain_db=-17.6,
    ),
    Instrument(
        name="tine keys", family="keys", role="keys", register=(36, 88), version=2,
        about="Electric keys with a bell on top; sevenths and ninths at any tempo.",
        tags=("warm", "bell-like", "round"),
        spec=shaped(percent("tine", "Tine", 50), percent("bark", "Bark", 40),
                    percent("hammer", "Hammer", 50),
                    attack_ms=2, decay_ms=6000, release_ms=260, detune_cents=1.2),
        tone=_tine_keys, noises=("hammer",), gain_db=-17.6,
    ),
    Instrument(
        name="reed keys", family="keys", role="keys", register=(36, 86), version=2,
        about="Hollow electric reeds; short chords that growl when pushed.",
        tags=("hollow", "dusty", "mid"),
        spec=shaped(percent("growl", "Growl", 45), percent("hammer", "Hammer", 40),
                    attack_ms=2, release_ms=120, detune_cents=1.5),
        tone=_reed_keys, noises=("hammer",), gain_db=-17.0,
    ),
    Instrument(
        name="digital keys", family="keys", role="keys", register=(40, 92), version=2,
        about="Clear, glassy keys; high voicings and slow ballads of chords.",
        tags=("glassy", "clean", "bright"),
        spec=shaped(percent("glass", "Glass", 45), attack_ms=2, release_ms=300, detune_cents=3),
        tone=_digital_keys, gain_db=-17.6,
    ),
    Instrument(
        name="practice piano", family="keys", role="keys", register=(33, 88),
        about="Upright with the practice pedal down; quiet and close, for late at night.",
        tags=("dark", "close", "short"),
        spec=shaped(percent("strip", "Felt strip", 60), percent("hammer", "Hammer", 55), WOOD,
                    attack_ms=1, release_ms=190, detune_cents=0.8),
        tone=_practice_piano, damper=damper, damping=damping, noises=("hammer", "wood"),
        gain_db=-16.7,
    ),
    Instrument(
        name="worn piano", family="keys", role="keys", register=(33, 91),
        about="Old, detuned piano; cellar chords, broken lullabies.",
        tags=("worn", "woody", "mid"),
        spec=shaped(percent("age", "Age", 50), percent("hammer", "Hammer", 55), WOOD,
                    attack_ms=1, release_ms=260, detune_cents=5),
        tone=_worn_piano, damper=damper, damping=damping, noises=("hammer", "wood"),
        gain_db=-14.5,
    ),
    Instrument(
        name="celesta", family="keys", role="bell", register=(55, 103),
        about="Steel bars under soft hammers; small figures far above a pad.",
        tags=("small", "bell-like", "soft"),
        spec=shaped(percent("hammer", "Hammer", 40), WOOD, attack_ms=1, release_ms=420,
                    detune_cents=1.2),
        tone=_celesta, noises=("hammer", "wood"), gain_db=-15.6,
    ),
    Instrument(
        name="cassette keys", family="keys", role="keys", register=(40, 84),
        about="Electric keys off an old cassette; sways and hisses before any treatment does.",
        tags=("worn", "warm", "dusty"),
        spec=shaped(tape_sway(9),
                    percent("hiss", "Hiss", 45), percent("hammer", "Hammer", 50),
                    attack_ms=3, decay_ms=6000, release_ms=240,
                    detune_cents=2),
        tone=_cassette_keys, noises=("hiss", "hammer"), gain_db=-16.9,
    ),
)  # fmt: skip
