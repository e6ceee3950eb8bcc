"""What is struck or plucked: partials that ring and die, on strings, bars, bells and boxes."""

from collections.abc import Callable

import msgspec
import numpy as np
from numpy.typing import NDArray

from cloudrift.sound.instrument import Tone, ToneRequest
from cloudrift.sound.kit.bank import decaying_partials

NEPERS_60_DB = 6.908
Curve = Callable[[NDArray[np.float64]], NDArray[np.float64]]


class Ring(msgspec.Struct, frozen=True, kw_only=True):
    """Partials: frequencies in Hz, time to fall by 60 dB in s, amplitudes struck softly and hard.

    All are (P,). Amplitudes are relative: the loudest sum of squares is brought to 1 by ``ring``.
    """

    hz: NDArray[np.float64]
    t60: NDArray[np.float64]
    soft: NDArray[np.float64]
    hard: NDArray[np.float64]


class Pair(msgspec.Struct, frozen=True, kw_only=True):
    """Two of everything, as with strings side by side or two planes of one string.

    The first drains fast (its decay is ``fast`` times as quick), the second slowly; their levels
    are in ``shares``. They differ by the sound's detune, so that they beat.
    """

    fast: float = 1.6
    slow: float = 0.7
    shares: tuple[float, float] = (0.72, 0.45)


def ring(
    request: ToneRequest,
    rng: np.random.Generator,
    strings: Ring,
    *,
    pair: Pair,
    body: Ring | None = None,
    spread: float = 0.5,
    scatter: float = 0.4,
    lean: float = 0.0,
) -> Tone:
    """Ring a set of partials.

    Parameters
    ----------
    pair : two of each partial, drained at different speeds.
    body : what answers the blow beside them, at levels relative to the strings' own 1.
    spread : how far left and right part in phase, in radians (0 = mono).
    scatter : how much phases are drawn, in radians: no two blows are the same.
    lean : the balance, -1 left to 1 right.
    """
    cents = request.settings.number("detune_cents")
    soft, hard = (a / np.sqrt((a**2).sum()) for a in (strings.soft, strings.hard))
    n = len(strings.hz)
    drift = cents * rng.uniform(0.6, 1.4, n)
    hz = np.concatenate([strings.hz * 2 ** (drift / 2400), strings.hz * 2 ** (-drift / 2400)])
    t60 = np.concatenate([strings.t60 / pair.fast, strings.t60 / pair.slow])
    share = np.repeat(pair.shares, n)
    soft, hard = np.tile(soft, 2), np.tile(hard, 2)
    count = 2 * n
    phase = rng.uniform(-scatter, scatter, count) - np.pi / 2
    apart = spread * rng.uniform(0.4, 1.25, count) * rng.choice([-1, 1], count)
    turn = share * np.exp(1j * phase)
    tilt = np.clip(lean + 0.08 * rng.uniform(-1, 1, count), -0.6, 0.6)
    sides = np.stack([(1 - tilt) * np.exp(1j * apart), (1 + tilt) * np.exp(-1j * apart)]) * turn
    amplitude = np.concatenate([sides * soft, sides * hard])
    if body is not None:
        phase = rng.uniform(0, 2 * np.pi, len(body.hz))
        apart = 0.35 * rng.uniform(-1, 1, len(body.hz))
        turned = np.stack([np.exp(1j * (phase + apart)), np.exp(1j * (phase - apart))])
        knocks = np.concatenate([turned * body.soft, turned * body.hard])
        amplitude = np.concatenate([amplitude, knocks], axis=1)
        hz, t60 = np.concatenate([hz, body.hz]), np.concatenate([t60, body.t60])
    channels = decaying_partials(hz, NEPERS_60_DB / t60, amplitude, request.frames, request.rate)
    return Tone(channels[:2], channels[2:])


class String(msgspec.Struct, frozen=True, kw_only=True):
    """A string as a list of numbers; ``partials`` turns them into a Ring for a pitch.

    Parameters
    ----------
    stiffness : inharmonicity B by MIDI number.
    place : where it is struck or plucked, as a share of its length: that comb of partials is weak.
    slope : amplitudes fall as 1 / k ** slope.
    soft, hard : low-pass of the hammer or finger: Hz, share of the fundamental added, power.
    bite : how much more of the high partials a hard blow brings out: times k ** bite.
    t60 : time to fall by 60 dB at C4, and semitones up at which it is halved.
    per_partial : how much quicker each further partial decays.
    air_hz, air_power : above this frequency air and bridge take over: decay grows with its power.
    body : gain of box or soundboard by frequency.
    """

    stiffness: Callable[[float], float]
    place: float
    slope: float = 1.0
    soft: tuple[float, float, float] = (500, 0.5, 1.0)
    hard: tuple[float, float, float] = (3500, 1.0, 1.0)
    bite: float = 0.0
    t60: tuple[float, float] = (4.0, 20.0)
    per_partial: float = 0.12
    air_hz: float = 2800
    air_power: float = 1.6
    body: Curve = np.ones_like
    count: int = 56
    top_hz: float = 10_000

    def partials(self, f0: float, pitch: float) -> Ring:
        """Return the string's partials at a pitch."""
        b = self.stiffness(pitch)
        k = np.arange(1, self.count + 1)
        hz = f0 * k * np.sqrt((1 + b * k**2) / (1 + b))
        k, hz = k[hz < self.top_hz], hz[hz < self.top_hz]
        shape = (np.abs(np.sin(np.pi * k * self.place)) + 0.04) * self.body(hz) / k**self.slope
        soft, hard = (
            shape / (1 + (hz / (base + share * f0)) ** 2) ** power
            for base, share, power in (self.soft, self.hard)
        )
        hard = hard * k**self.bite
        longest = self.t60[0] * 2.0 ** (-(pitch - 60) / self.t60[1])
        t60 = longest / (
            1 + self.per_partial * (k - 1) + longest * (hz / self.air_hz) ** self.air_power / 7
        )
        return Ring(hz=hz, t60=t60, soft=soft, hard=hard)


class Modes(msgspec.Struct, frozen=True, kw_only=True):
    """A bar, a bell or a tongue: modes as ratios to the note, each with level and decay.

    ``soft`` and ``hard`` are levels in dB; ``t60`` are times at C4 in s; ``halved_st`` is how
    many semitones up halves them.
    """

    ratios: tuple[float, ...]
    soft: tuple[float, ...]
    hard: tuple[float, ...]
    t60: tuple[float, ...]
    halved_st: float = 24.0
    split: float = 0.0  # how far the two planes of each mode part, in cents, beside the detune

    def partials(self, f0: float, pitch: float) -> Ring:
        """Return the modes at a pitch; none goes above 19 kHz."""
        hz = f0 * np.asarray(self.ratios)
        use = hz < 19_000
        t60 = np.asarray(self.t60) * 2.0 ** (-(pitch - 60) / self.halved_st)
        soft, hard = (10 ** (np.asarray(db) / 20) for db in (self.soft, self.hard))
        return Ring(hz=hz[use], t60=t60[use], soft=soft[use], hard=hard[use])


def box(hz: tuple[float, ...], t60: tuple[float, ...], soft_db: float, hard_db: float) -> Ring:
    """Return what a wooden box answers: a few short low modes, each weaker than the one below."""
    fall: NDArray[np.float64] = np.power(0.8, np.arange(float(len(hz))))
    return Ring(
        hz=np.asarray(hz, float),
        t60=np.asarray(t60, float),
        soft=10 ** (soft_db / 20) * fall,
        hard=10 ** (hard_db / 20) * fall,
    )
