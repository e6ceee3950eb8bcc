"""Strings that are struck or plucked, on a body that answers the blow.

A string is a list of partials with two or three courses that beat and drain at different speeds;
a body is a set of modes that belong to the instrument, not to the note, and a tail in the wood.
"""

import functools
from collections.abc import Callable

import msgspec
import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Mono, Stereo
from cloudrift.ground.draws import number, rng_for
from cloudrift.ground.lru import memoize
from cloudrift.ground.settings import percent
from cloudrift.sound.instrument import Tone, ToneRequest
from cloudrift.sound.kit.bank import decaying_partials
from cloudrift.sound.kit.noise import lasting, read_round

NEPERS_A_DB = np.log(10) / 20
Curve = Callable[[NDArray[np.float64]], NDArray[np.float64]]
ByKey = tuple[tuple[float, float], ...]  # MIDI number, value; between them in ratios
WOOD = percent("wood", "Body", 50, "how much the box or board resonates")
TAIL_NARROW = 5.0  # what rings on does so in narrower modes than what answers the blow
TAIL_DB_A_KEY = (
    0.3  # how much weaker the tail is, for each key above C4: it has little to ring with
)
START = 1.3  # what the levels of courses add up to, however many there are
BLOW_S = 0.3  # how long the first answer of a body lasts


def by_key(points: ByKey, pitch: float) -> float:
    """Return a value that goes from key to key in ratios; flat beyond the ends."""
    keys, values = zip(*points, strict=True)
    return float(np.exp(np.interp(pitch, keys, np.log(values))))


def inharmonicity(pitch: float) -> float:
    """Return the stiffness coefficient B of a piano string by MIDI number.

    The sum of a bass and a treble exponential, the shape found by fitting whole pianos (Rigaud,
    David and Daudet, 2011); about 3e-4 at C4.
    """
    return float(np.exp(0.0926 * pitch - 13.64) + np.exp(-0.0847 * pitch - 5.82))


def wound(light: float) -> "functools.partial[float]":
    """Return the stiffness of a plucked string by MIDI number; ``light`` is B at C4."""
    return functools.partial(_wound, light)


def _wound(light: float, pitch: float) -> float:
    return light * 2.0 ** ((pitch - 60) / 14)


class Ring(msgspec.Struct, frozen=True, kw_only=True):
    """Partials: Hz, fall in dB a second, amplitudes struck softly and hard; all (P,)."""

    hz: NDArray[np.float64]
    fall: NDArray[np.float64]
    soft: NDArray[np.float64]
    hard: NDArray[np.float64]


class String(msgspec.Struct, frozen=True, kw_only=True):
    """A string as numbers; ``partials`` turns them into a Ring for a pitch.

    Parameters
    ----------
    stiffness : inharmonicity B by MIDI number.
    place : where it is struck or plucked, as a share of its length: that comb of partials is weak,
        but never more than ``deepest`` (a hammer and a finger are not points).
    slope : amplitudes fall as 1 / k ** slope.
    soft, hard : low-pass of the hammer or finger: Hz, share of the fundamental added, power.
    bite : how much more of the high partials a hard blow brings out: times k ** bite.
    fall : of the first partial, by key, in dB a second.
    per_partial : how much quicker each further partial falls, as a share.
    air_hz, air_power : above this frequency air and bridge take over: at it they take 20 dB/s.
    body : gain of box or soundboard by frequency.
    uneven_db : how much partials of one key differ from that, as a standard deviation.
    """

    stiffness: Callable[[float], float]
    place: float
    fall: ByKey
    slope: float = 1.0
    soft: tuple[float, float, float] = (500, 0.5, 1.0)
    hard: tuple[float, float, float] = (3500, 1.0, 1.0)
    bite: float = 0.0
    per_partial: float = 0.15
    air_hz: float = 2800
    air_power: float = 1.6
    body: Curve = np.ones_like
    uneven_db: float = 1.5
    deepest: float = 0.2
    count: int = 56
    top_hz: float = 12_000

    def partials(self, f0: float, pitch: int, name: str) -> Ring:
        """Return the partials at a pitch; ``name`` decides how uneven they are."""
        b = self.stiffness(pitch)
        k = np.arange(1, self.count + 1)
        hz = f0 * k * np.sqrt((1 + b * k**2) / (1 + b))
        k, hz = k[hz < self.top_hz], hz[hz < self.top_hz]
        comb = np.hypot(np.sin(np.pi * k * self.place), self.deepest)
        uneven = rng_for(0, "uneven", name, pitch).standard_normal(self.count)[: len(k)]
        # The first decide how loud and how bright a key is; high up there are no others.
        uneven *= self.uneven_db * np.clip((k - 2) / 4, 0, 1) * np.clip((96 - pitch) / 30, 0, 1)
        shape = comb * self.body(hz) * 10 ** (uneven / 20) / k**self.slope
        soft, hard = (
            shape / (1 + (hz / (base + share * f0)) ** 2) ** power
            for base, share, power in (self.soft, self.hard)
        )
        fall = by_key(self.fall, pitch) * (1 + self.per_partial * (k - 1))
        fall = fall + 20 * (hz / self.air_hz) ** self.air_power
        return Ring(hz=hz, fall=fall, soft=soft, hard=hard * k**self.bite)


class Modes(msgspec.Struct, frozen=True, kw_only=True):
    """A bar, a bell or a tongue: modes as ratios to the note, each with level and decay.

    ``soft`` and ``hard`` are levels in dB; ``t60`` are times at C4 in s; ``halved_st`` is how many
    semitones up halves them.
    """

    ratios: tuple[float, ...]
    soft: tuple[float, ...]
    hard: tuple[float, ...]
    t60: tuple[float, ...]
    halved_st: float = 24.0

    def partials(self, f0: float, pitch: float) -> Ring:
        """Return the modes at a pitch; none goes above 19 kHz."""
        hz = f0 * np.asarray(self.ratios)
        use = hz < 19_000
        fall = 60 / np.asarray(self.t60) * 2.0 ** ((pitch - 60) / self.halved_st)
        soft, hard = (10 ** (np.asarray(db) / 20) for db in (self.soft, self.hard))
        return Ring(hz=hz[use], fall=fall[use], soft=soft[use], hard=hard[use])


class Courses(msgspec.Struct, frozen=True, kw_only=True):
    """What each partial is shared by: strings side by side, or two planes of one.

    ``off`` is how far each is from the pitch, in parts of the sound's detune; ``fall`` how quickly
    it drains against the string's own; ``level`` how loud it begins. Partials after ``upto`` have
    the first two alone.
    """

    off: tuple[float, ...] = (-0.5, 0.5)
    fall: tuple[float, ...] = (1.5, 0.8)
    level: tuple[float, ...] = (0.72, 0.45)
    upto: int = 99


THREE = Courses(off=(-0.6, 0.45, 0.0), fall=(1.35, 0.7, 0.36), level=(0.65, 0.5, 0.42), upto=12)


class Body(msgspec.Struct, frozen=True, kw_only=True):
    """A box or board: its modes, how loud it answers a blow, and its tail.

    Levels are in dB against the string's own start. Modes lie from ``low_hz`` to ``high_hz`` and
    belong to the instrument; which of them a key moves more, and which way, belongs to the key.
    The tail falls ``tail_fall`` times as fast as the string's first partial.
    ``colour`` is how the answer falls towards the top, in dB an octave, softly and hard.
    """

    name: str
    low_hz: float = 60
    high_hz: float = 2500
    count: int = 48
    q: tuple[float, float] = (20, 45)
    soft_db: float = -18
    hard_db: float = -14
    colour: tuple[float, float] = (-4.0, -1.5)
    tail_db: float = -33
    tail_fall: float = 0.8


@memoize
def _modes(
    name: str, low_hz: float, high_hz: float, count: int, q: tuple[float, float]
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """An instrument's modes: Hz, decay in nepers a second, level."""
    rng = rng_for(0, "body", name)
    hz = np.geomspace(low_hz, high_hz, count) * rng.uniform(0.97, 1.03, count)
    decay = np.pi * hz / rng.uniform(*q, count)
    return hz, decay, np.exp(0.35 * rng.standard_normal(count))


def struck(
    request: ToneRequest,
    rng: np.random.Generator,
    strings: Ring,
    courses: Courses,
    *,
    body: Body | None = None,
    wood: float = 1.0,
    spread: float = 0.45,
    scatter: float = 0.35,
    lean: float = 0.0,
    rise_ms: tuple[float, float] = (0.0, 0.0),
) -> Tone:
    """Ring a set of partials on a body.

    Parameters
    ----------
    wood : how much of the body is heard, 1 as it is.
    spread : how far left and right part in phase, in radians (0 = mono).
    scatter : how much phases are drawn, in radians: no two blows are the same.
    lean : the balance, -1 left to 1 right.
    rise_ms : time constant with which the partials build up, softly and hard.
    """
    cents = request.settings.number("detune_cents")
    soft, hard = (a / np.sqrt((a**2).sum()) for a in (strings.soft, strings.hard))
    soft, hard = soft * (START / sum(courses.level)), hard * (START / sum(courses.level))
    n = len(strings.hz)
    hz, decay, share, which = [], [], [], []
    for i, (off, fall, level) in enumerate(
        zip(courses.off, courses.fall, courses.level, strict=True)
    ):
        m = n if i < 2 else min(n, courses.upto)
        away = off * cents * rng.uniform(0.7, 1.3, m)
        hz.append(strings.hz[:m] * 2 ** (away / 1200))
        decay.append(strings.fall[:m] * fall * NEPERS_A_DB)
        share.append(np.full(m, level))
        which.append(np.arange(m))
    of = np.concatenate(which)
    count = len(of)
    # Courses of one partial begin nearly together: they are moved by one blow.
    phase = rng.uniform(-scatter, scatter, n)[of] + rng.uniform(-0.25, 0.25, count) - np.pi / 2
    # Courses of one partial lie apart alike: they would beat in the two sides at different times.
    apart = (spread * rng.uniform(0.4, 1.25, n) * rng.choice([-1, 1], n))[of]
    tilt = np.clip(lean + 0.08 * rng.uniform(-1, 1, n), -0.6, 0.6)[of]
    turn = np.concatenate(share) * np.exp(1j * phase)
    sides = np.stack([(1 - tilt) * np.exp(1j * apart), (1 + tilt) * np.exp(-1j * apart)]) * turn
    audio = decaying_partials(
        np.concatenate(hz),
        np.concatenate(decay),
        np.concatenate([sides * soft[of], sides * hard[of]]),
        request.frames,
        request.rate,
        floor=3e-5,
    )
    tone = Tone(audio[:2], audio[2:])
    for one, ms in zip(tone, rise_ms, strict=True):
        if ms:
            count = min(request.frames, int(8e-3 * ms * request.rate))
            one[:, :count] *= _rise(count, ms * 1e-3 * request.rate)
    if body is not None and wood > 0:
        _answer(request, tone, body, wood, float(strings.fall[0]))
    return tone


@memoize
def _rise(count: int, tau: float) -> Mono:
    return np.asarray(1 - np.exp(np.arange(count, dtype=np.float32) * np.float32(-1 / tau)))


def _answer(request: ToneRequest, tone: Tone, body: Body, wood: float, fall: float) -> None:
    """Add what the body answers: the blow on its modes, and a tail in the wood."""
    soft, hard = _blow(body, request.pitch, request.rate)
    strays = number(1000, request.variant, "blow", request.pitch) / 1000
    blow = np.float32(wood * (0.85 + 0.3 * strays))
    count = min(request.frames, soft.shape[1])
    tone.soft[:, :count] += blow * soft[:, :count]
    tone.hard[:, :count] += blow * hard[:, :count]
    noise = lasting(f"wood {body.name}", request.rate, _Grain(body))
    start = number(noise.shape[1], request.variant, "wood", request.pitch)
    tail = read_round(noise, start, request.frames)
    tail *= _dying(request.frames, request.rate, body.tail_fall * fall + 2)
    weaker = TAIL_DB_A_KEY * max(0, request.pitch - 60)
    tail *= np.float32(wood * 10 ** ((body.tail_db - weaker) / 20))
    np.add(tone.soft, tail, out=tone.soft)
    np.add(tone.hard, tail, out=tone.hard)


@memoize
def _dying(frames: int, rate: int, db_s: float) -> Mono:
    t = np.arange(frames, dtype=np.float32)
    fall = np.exp(t * np.float32(-db_s * NEPERS_A_DB / rate))
    return np.asarray(fall * (1 - np.exp(t * np.float32(-1 / (0.012 * rate)))))


@memoize
def _blow(body: Body, pitch: int, rate: int) -> tuple[Stereo, Stereo]:
    """The first answer, soft and hard: RMS over 50 ms as the body says."""
    hz, decay, level = _modes(body.name, body.low_hz, body.high_hz, body.count, body.q)
    rng = rng_for(0, "blow", body.name, pitch)
    size = level * np.exp(0.15 * rng.standard_normal(len(hz))) * rng.choice([-1, 1], len(hz))
    turn = np.exp(1j * (rng.uniform(-0.3, 0.3, len(hz)) - np.pi / 2))
    apart = np.exp(0.6j * rng.uniform(-1, 1, len(hz)))
    octaves = np.log2(hz / 200)
    shapes = [size * 10 ** (np.minimum(0, octaves) * 0.1 + db * octaves / 20) for db in body.colour]
    sides = np.stack([turn * apart, turn / apart])
    frames = int(BLOW_S * rate)
    audio = decaying_partials(hz, decay, np.concatenate([sides * s for s in shapes]), frames, rate)
    fall = frames // 4
    audio[:, -fall:] *= np.linspace(1, 0, fall, dtype=np.float32)
    out = []
    for one, db in ((audio[:2], body.soft_db), (audio[2:], body.hard_db)):
        early = np.sqrt((one[:, : int(0.05 * rate)] ** 2).mean())
        out.append(one * np.float32(10 ** (db / 20) / early / np.sqrt(2)))
    return out[0], out[1]


class _Grain(msgspec.Struct, frozen=True):
    """The spectrum of a body's tail: its modes, falling towards the top."""

    body: Body

    def __call__(self, hz: NDArray[np.float64]) -> NDArray[np.float64]:
        body = self.body
        centres, decay, level = _modes(body.name, body.low_hz, body.high_hz, body.count, body.q)
        gain = np.zeros(len(hz), np.float32)
        at = hz.astype(np.float32)
        for centre, width, size in zip(centres, decay / np.pi, level, strict=True):
            gain += np.float32(size) / (1 + np.square((at - centre) * (2 * TAIL_NARROW / width)))
        gain /= np.sqrt((1 + (body.low_hz / hz) ** 8) * (1 + (hz / 900) ** 2))
        return np.asarray(gain, np.float64)
