"""Players: periods read along phases by several who differ in pitch, level, place and entry.

An ensemble is some players and one steady voice between them; a solo line is one player and two
faint ones at its sides. What a player reads is a period without anything that could fold back, so
that brightness, vowels and filters are ways from one period to the next, never filters on audio.
"""

from itertools import pairwise
from statistics import NormalDist
from typing import NamedTuple

import msgspec
import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio import quick
from cloudrift.sound.instrument import ToneRequest
from cloudrift.sound.kit.straying import (
    KNOT,
    Vibrato,
    _breathing,
    _swaying,
    knot_frames,
    knot_times,
)
from cloudrift.sound.kit.table import Phase, bits_of, counts, curve_to_frames, read
from cloudrift.theory.pitch import pitch_to_hz

NO_STEADY_DB = -60.0
LOW_HZ, SPLIT_HZ = 170.0, 200.0  # below the first an ensemble stands in the middle
HEARD = 10  # harmonics whose sum decides how loud a strike starts
TRIES = 64
AT_S = (0.1, 0.2, 0.29, 0.37, 0.45, 0.53, 0.61, 0.9)  # when a start is heard
ENTRY_MS = 18.0
# Tables are as long as linear reading needs for an error of READ_DB: small ones stay near the
# processor. Harmonics under FAINT are left out.
READ_DB, LEAST_BITS, MOST_BITS, FAINT = -86.0, 9, 14, 2e-5


class Section(msgspec.Struct, frozen=True, kw_only=True):
    """Who plays.

    Parameters
    ----------
    players : how many are detuned; their standard deviation is the sound's detune.
    steady_db : level of the voice without detune against all of them together; none at
        NO_STEADY_DB.
    width : how far they sit from the middle, 0 to 1.
    breathe_db : how far the level of each drifts, each at its own 0.05 to 0.2 Hz.
    late_ms : when the last of them enters.
    least_cents : the smallest standard deviation.
    alike : all sway together, as the sides of one voice do.
    """

    players: int = 7
    steady_db: float = -4.0
    width: float = 0.9
    breathe_db: float = 2.5
    late_ms: float = 0.0
    least_cents: float = 0.0
    sway: Vibrato = Vibrato()
    alike: bool = False


class Periods(NamedTuple):
    """Periods, (rows, a power of 2 and one more, takes): takes lie beside each other.

    Rows are in the order of sets, middle and side, and depth; ``shape`` is how many there are of
    each. ``aside`` is how many rows further on a set has those of its sides: (sets,), 0 where they
    are those of the middle. ``power`` is that of the first harmonics: (sets, harmonics).
    """

    tables: NDArray[np.float32]
    shape: NDArray[np.int64]  # sets, sides, depth
    aside: NDArray[np.int64]
    power: NDArray[np.float64]


def periods(
    amplitudes: NDArray[np.float64] | NDArray[np.complex128],
    phases: NDArray[np.float64] | float,
    f0: float | NDArray[np.float64],
    *,
    even: bool = True,
) -> Periods:
    """Return periods for players.

    Parameters
    ----------
    amplitudes : (sets, takes, depth, P) of harmonics 1 to P, complex where they have phases of
        their own; a player keeps to one set.
    phases : (P,) in radians, shared by all: 0 is a sine.
    f0 : Hz, of all sets or (sets,); where harmonics lie under LOW_HZ the sides get periods without
        them.
    even : bring each to an RMS of 1; otherwise the loudest of all.
    """
    size = np.sqrt((np.abs(amplitudes) ** 2).sum(axis=-1, keepdims=True))
    if not even:
        size = size.max(keepdims=True)
    level = amplitudes / np.maximum(size, 1e-12)
    loudest = np.abs(level).max(axis=(0, 1, 2))
    count = int(np.flatnonzero(loudest > FAINT * loudest.max())[-1]) + 1
    level, loudest = level[..., :count], loudest[:count]
    hz = np.reshape(f0, (-1, 1, 1, 1)) * np.arange(1, count + 1)
    sides = [level]
    if np.min(f0) < SPLIT_HZ:
        sides.append(level / np.sqrt(1 + (LOW_HZ / hz) ** 6))
    rows = np.moveaxis(np.stack(sides, axis=2), 1, 4)  # sets, sides, depth, harmonics, takes
    bend = np.sqrt(
        (loudest**2 * np.arange(1, count + 1) ** 4.0).sum()
    )  # of the curve between points
    needed = np.pi * np.sqrt(bend / 2 / 10 ** (READ_DB / 20))
    size = 1 << min(MOST_BITS, max(LEAST_BITS, int(np.ceil(np.log2(needed)))))
    size = max(size, 1 << (2 * count + 1).bit_length())
    turn = np.exp(1j * (np.broadcast_to(phases, amplitudes.shape[-1])[:count] - np.pi / 2))
    spectrum = np.zeros((*rows.shape[:3], size // 2 + 1, rows.shape[4]), np.complex64)
    spectrum[..., 1 : count + 1, :] = rows * turn[:, None]
    wave = sf.irfft(spectrum, size, axis=3, overwrite_x=True)
    tables = np.empty((*rows.shape[:3], size + 1, rows.shape[4]), np.float32)
    np.multiply(wave, np.float32(size / np.sqrt(2)), out=tables[..., :-1, :])
    tables[..., -1, :] = tables[..., 0, :]
    heard = (np.abs(level) ** 2).mean(axis=(1, 2))[:, :HEARD]
    aside = np.where(np.broadcast_to(f0, len(rows)) < SPLIT_HZ, rows.shape[2], 0)
    return Periods(tables.reshape(-1, *tables.shape[3:]), np.array(rows.shape[:3]), aside, heard)


def play(
    request: ToneRequest,
    rng: np.random.Generator,
    section: Section,
    read_from: Periods,
    *,
    ratios: tuple[float, ...] = (1.0,),
    place: NDArray[np.float64] | None = None,
    level: NDArray[np.float64] | None = None,
    bend: NDArray[np.float64] | None = None,
) -> NDArray[np.float32]:
    """Play periods: (takes, 2, frames), RMS about 1.

    Parameters
    ----------
    ratios : of what is played to the note's pitch; if several, of each set, which that many players
        read then (and there is no steady voice).
    place : (knots + 1,), where between the periods of its depth it is, from 0 on; knots are KNOT
        frames apart.
    level : (knots + 1,) that all players share.
    bend : (knots + 1,) in cents, by which the pitch of all is off.
    """
    frames, rate = request.frames, request.rate
    t = knot_times(request)
    knots = len(t)
    if t[-1] < AT_S[-1]:  # a short note starts as a long one does
        t = np.arange(int(AT_S[-1] / t[1]) + 2) * t[1]
    sets, sides, depth = (int(n) for n in read_from.shape)
    spread = max(section.least_cents, request.settings.number("detune_cents"))
    off = _off(section.players)
    # Players of a set lie as far apart as sets are many: 0, 1, 2, 0, 1, 2.
    cents = spread * (off if section.alike else _each_drawn(rng, off, len(ratios)))
    seats = _each_drawn(rng, np.linspace(-1, 1, section.players), len(ratios))
    share = np.full(len(cents), 1 / np.sqrt(len(cents)))
    if section.steady_db > NO_STEADY_DB:
        steady = 10 ** (section.steady_db / 20)
        cents, share, seats = (
            np.concatenate([[first], rest])
            for first, rest in ((0.0, cents), (steady, share), (0.0, seats))
        )
    share /= np.sqrt((share**2).sum())
    count = len(cents)
    hz = pitch_to_hz(request.pitch) * np.resize(ratios, count) * 2 ** (cents / 1200)
    curve, loud = _swaying(rng, section.sway, t, 1 if section.alike else count)
    if section.alike:
        curve, loud = np.repeat(curve, count, axis=0), np.repeat(loud, count, axis=0)
    speed = (hz / rate)[:, None] * np.exp2(curve / 1200)
    loud += _breathing(rng, section.breathe_db, t, count)
    loud[0] *= 0.5  # the steady one is steadier
    levels = share[:, None] * 10 ** (loud / 20)
    if section.late_ms:
        levels *= _entries(rng, section.late_ms, t, count)
    if section.alike:
        start = _beside(rng, cents)
    else:
        power = read_from.power if len(ratios) > 1 else read_from.power.mean(axis=0, keepdims=True)
        start = _starts(rng, t, rate * speed, levels, power)
    if bend is not None:  # after the starts were chosen, which must not depend on how far it goes
        speed[:, :knots] *= np.exp2(bend / 1200)
    steps = np.ascontiguousarray(counts((speed[:, 1:] + speed[:, :-1]) / 2)[:, : knots - 1])
    levels = levels[:, :knots] if level is None else levels[:, :knots] * level
    of = np.arange(count) % sets
    first = of * (sides * depth)
    rows = np.stack([first, first + read_from.aside[of]], axis=1).astype(np.int32)
    where = None
    if place is not None:
        last = np.nextafter(np.float32(depth - 1), 0)
        where = np.clip(place, 0, depth - 1).astype(np.float32).clip(max=last)
    return read_by(
        read_from.tables,
        frames,
        counts(start),
        steps,
        np.ascontiguousarray(levels, np.float32),
        (section.width * seats).astype(np.float32),
        rows,
        where,
        apart=knot_frames(rate),
    )


def read_by(
    tables: NDArray[np.float32],
    frames: int,
    start: Phase,
    steps: Phase,
    level: NDArray[np.float32],
    aside: NDArray[np.float32],
    rows: NDArray[np.int32],
    place: NDArray[np.float32] | None = None,
    *,
    apart: int = KNOT,
) -> NDArray[np.float32]:
    """Read periods by players: (takes, 2, frames).

    Parameters
    ----------
    tables : (rows, a power of 2 and one more, takes); the last of a row is the first. One take, or
        two that lie beside each other.
    start, steps : a phase for each player, and by how much it goes on in each block: (players,),
        (players, blocks).
    level : (players, blocks + 1), how loud each is at each block's ends.
    aside : (players,), from -1 on the left to 1 on the right.
    rows : (players, 2), what each reads for the middle and for the side.
    place : (blocks + 1,), how many rows further on, between rows as well.
    apart : frames of a block, at most 1024.
    """
    if quick.library:
        return quick.read_players(
            tables, 32 - bits_of(tables.shape[1]), apart, frames, start, steps, level, aside, rows,
            place,
        )  # fmt: skip
    within = np.arange(apart, dtype=np.uint32)
    gone = np.uint32(apart) * (np.cumsum(steps, axis=1, dtype=np.uint32) - steps)
    takes = tables.shape[2]
    out = np.zeros((takes, 2, frames), np.float32)
    for p, (middle_row, side_row) in enumerate(rows):
        knots = start[p] + gone[p]
        phase = (knots[:, None] + steps[p][:, None] * within).ravel()[:frames]
        gain = curve_to_frames(level[p], frames, apart)
        for take in range(takes):
            of = np.ascontiguousarray(tables[..., take])
            middle = gain * _between(of, middle_row, phase, place, apart)
            out[take, 0] += middle
            if side_row != middle_row:
                middle = gain * _between(of, side_row, phase, place, apart)
            out[take, 1] += aside[p] * middle
    return np.stack([out[:, 0] + out[:, 1], out[:, 0] - out[:, 1]], axis=1)


def _between(
    tables: NDArray[np.float32],
    row: int,
    phase: Phase,
    place: NDArray[np.float32] | None,
    apart: int,
) -> NDArray[np.float32]:
    if place is None:
        return read(tables[row : row + 1], phase)[0]
    out = np.empty(len(phase), np.float32)
    at = np.linspace(0, 1, apart, endpoint=False, dtype=np.float32)
    for k, (here, there) in enumerate(pairwise(place)):
        piece = slice(k * apart, min((k + 1) * apart, len(phase)))
        of = phase[piece]
        past = int(here)
        low, high = read(tables[row + past : row + past + 2], of)
        share = here + (there - here) * at[: len(of)] - np.float32(past)
        out[piece] = low + share * (high - low)
    return out


def _off(count: int) -> NDArray[np.float64]:
    """How many standard deviations each player is off: spread evenly, so that their mean is 0."""
    normal = NormalDist()
    off = np.array([normal.inv_cdf((i + 0.5) / count) for i in range(count)])
    return off / off.std() if count > 1 else off


def _each_drawn(
    rng: np.random.Generator, values: NDArray[np.float64], count: int
) -> NDArray[np.float64]:
    """Values for each of some sets, each in an order of its own: (values * count,)."""
    return np.stack([rng.permutation(values) for _ in range(count)], axis=1).ravel()


def _beside(rng: np.random.Generator, cents: NDArray[np.float64]) -> NDArray[np.float64]:
    """Where one voice and its sides start: by fifths of a turn, so that no low harmonic of both
    adds up against the voice's own, nor takes it away."""
    away = np.arange(len(cents)) / 5 + rng.uniform(-0.02, 0.02, len(cents))
    return np.asarray((rng.random() + away) % 1.0)


def _starts(
    rng: np.random.Generator,
    t: NDArray[np.float64],
    hz: NDArray[np.float64],
    levels: NDArray[np.float64],
    power: NDArray[np.float64],
) -> NDArray[np.float64]:
    """Where in their periods players start: as loud and as bright as it should be.

    Players that happen to agree, or not to, would make one strike louder than the next. How they
    will beat is known, for the first harmonics, from their speeds in Hz at times ``t``. ``power``
    is (sets, harmonics), where only players of one set beat with each other.
    """
    at = (np.array(AT_S) / t[1]).astype(int)
    gone = np.cumsum(hz[:, : at[-1] + 1], axis=1)[:, at] * t[1]
    loud = levels[:, at]
    sets, count = power.shape
    then = loud * _powers(np.exp(2j * np.pi * (gone - gone[0])), count)
    then = then.reshape(count, -1, sets, len(AT_S))
    of = (loud**2).reshape(-1, sets, len(AT_S)).sum(axis=0).mean(axis=1)
    wanted = power * of[:, None]
    shape = TRIES, len(hz) // sets, sets
    drawn = rng.random(shape)
    best = _of_each(drawn, _unlike(drawn, then, power, wanted).argmin(axis=1))
    near = best + 0.06 * rng.standard_normal(shape)
    near[0] = best
    best = _of_each(near, _unlike(near, then, power, wanted).argmin(axis=1))
    return np.asarray(best.ravel() % 1.0)


def _of_each(starts: NDArray[np.float64], which: NDArray[np.intp]) -> NDArray[np.float64]:
    """Return the starts of the try that was chosen for each set: (players of one, sets)."""
    return np.take_along_axis(starts, which[None, None], axis=0)[0]


def _powers(one: NDArray[np.complex128], count: int) -> NDArray[np.complex128]:
    """The first to the last power: (count, ...)."""
    return np.asarray(np.cumprod(np.broadcast_to(one, (count, *one.shape)), axis=0), complex)


def _unlike(
    starts: NDArray[np.float64],
    then: NDArray[np.complex128],
    power: NDArray[np.float64],
    wanted: NDArray[np.float64],
) -> NDArray[np.float64]:
    """How far some starts are from being as loud and as bright as players are on average, for each
    set and each of the tries: (sets, tries).

    Starts are (tries, players of a set, sets); ``then`` is where each harmonic of each player has
    come to when it is heard, (harmonics, players of a set, sets, times); ``wanted`` the power of
    each harmonic on average, (sets, harmonics).
    """
    each = _powers(np.exp(2j * np.pi * starts), power.shape[1])
    sum_of = np.moveaxis(each, 3, 1) @ np.moveaxis(then, 2, 1)
    heard = power.T[..., None, None] * (sum_of.real**2 + sum_of.imag**2)
    number, of, all_of = np.arange(1, power.shape[1] + 1), heard.mean(axis=3), wanted.sum(axis=1)
    whole = np.log(of.sum(axis=0) / all_of[:, None])
    centre = np.tensordot(number, of, 1) / of.sum(axis=0) / (wanted @ number / all_of)[:, None]
    off = np.log(np.maximum(heard.sum(axis=0), 1e-9) / all_of[:, None, None])
    return np.asarray(whole**2 + np.log(centre) ** 2 + 0.12 * (off**2).mean(axis=2))


def _entries(
    rng: np.random.Generator, late_ms: float, t: NDArray[np.float64], count: int
) -> NDArray[np.float64]:
    late = rng.permutation(np.linspace(0, late_ms, count))[:, None]
    late[0] *= 0.3
    share = np.clip((t * 1e3 - late) / ENTRY_MS + (late == 0), 0, 1)
    return np.asarray(share * share * (3 - 2 * share))
