"""How players stray: in pitch and level, by swaying, breathing and chance."""

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from cloudrift.audio.buffers import DEFAULT_RATE
from cloudrift.sound.instrument import ToneRequest
from cloudrift.sound.kit.table import sine

KNOT = 128  # frames at CD rate from one point of a player's pitch and level to the next


COLUMNS = 16  # knots in a row, where sums of slow waves are computed


class Vibrato(msgspec.Struct, frozen=True, kw_only=True):
    """How a player's pitch and level sway: in time, from when on, and by chance.

    ``level_db`` is how far the level goes with the pitch: a flute sways in it more than in pitch.
    ``jitter_cents`` and ``shimmer_db`` are quick and small, as in a throat.
    """

    hz: float = 5.2
    cents: float = 0.0
    onset_ms: float = 500.0
    drift_cents: float = 2.5
    level_db: float = 0.0
    jitter_cents: float = 0.0
    shimmer_db: float = 0.0


def knot_times(request: ToneRequest) -> NDArray[np.float64]:
    """Return when a tone's knots are, in seconds: one more than it has blocks.

    They are at the same times at any multiple of a rate, so that a sound is the same sound there.
    """
    apart = knot_frames(request.rate)
    count = -(-request.frames // apart) + 1
    return np.arange(count, dtype=np.float64) * (apart / request.rate)


def knot_frames(rate: int) -> int:
    """Return how many frames knots are apart: KNOT, and more where there are more in a second."""
    return KNOT * max(1, rate // DEFAULT_RATE)


def course(request: ToneRequest, times_ms: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the place that passes a period at each of some times: (knots + 1,)."""
    return np.interp(1e3 * knot_times(request), times_ms, np.arange(float(len(times_ms))))


def straying(
    request: ToneRequest,
    rng: np.random.Generator,
    cents: float,
    waves: tuple[tuple[float, float], ...],
    uneven: float,
) -> NDArray[np.float64]:
    """Return how far a tape's speed is off, in cents at knots: waves of Hz and a share of it.

    ``uneven`` is by how much the speed of each wave differs from what is said, as a share.
    """
    t = knot_times(request)
    bend = np.zeros(len(t))
    for hz, share in waves:
        turn = hz * rng.uniform(1 - uneven, 1 + uneven) * t + rng.random()
        bend += cents * share * np.sin(2 * np.pi * turn)
    return bend


def _swaying(
    rng: np.random.Generator, sway: Vibrato, t: NDArray[np.float64], count: int
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return how far each player's pitch is off in cents, and its level in dB: (players, knots)."""
    cents, loud = np.zeros((count, len(t))), np.zeros((count, len(t)))
    speed, at = sway.hz * rng.uniform(0.94, 1.06, count), rng.random(count)
    if sway.cents or sway.level_db:
        grown = np.clip((t * 1e3 - sway.onset_ms) / 400, 0, 1)
        wave = grown * grown * (3 - 2 * grown) * _waves(t, [1.0], speed[:, None], at[:, None])
        cents += sway.cents * wave
        loud += sway.level_db * wave
    hz, at = _drawn(rng, (0.31, 0.83, 1.7, 0.07), count)
    # Players alone hold their pitch; several wander by themselves, so that nothing comes again.
    if sway.drift_cents:
        shares = np.array([1 / 3, 1 / 3, 1 / 3, 1.0 if count > 1 else 0.0])
        cents += _waves(t, sway.drift_cents * shares, hz, at)
    if sway.jitter_cents or sway.shimmer_db:
        hz, at = _drawn(rng, (5.1, 8.3, 12.7, 18.0), count)
        each = np.full(4, 0.5)
        cents += _waves(t, sway.jitter_cents * each, hz, at)
        loud += _waves(t, sway.shimmer_db * each, 1.13 * hz, 1.13 * at + 0.25)
    return cents, loud


def _breathing(
    rng: np.random.Generator, db: float, t: NDArray[np.float64], count: int
) -> NDArray[np.float64]:
    """How each player's level drifts, in dB: two slow waves of its own."""
    speed, at = rng.uniform(0.05, 0.2, (count, 2)), rng.random((count, 2))
    return _waves(t, [db / 2, db / 2], speed, at)


def _drawn(
    rng: np.random.Generator, about_hz: tuple[float, ...], count: int
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Each player's own waves about some speeds: in Hz, and where they start; (players, waves)."""
    drawn = [(hz * rng.uniform(0.8, 1.2, count), rng.random(count)) for hz in about_hz]
    hz, at = np.moveaxis(np.array(drawn), 0, -1)
    return hz, at


def _waves(
    t: NDArray[np.float64], sizes: ArrayLike, hz: NDArray[np.float64], at: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Sums of sines of some sizes: (players, knots). ``hz``, and ``at`` in turns, are (players,
    waves); ``t`` even, from 0 on.

    As in ``bank``, each splits into a factor of a row and one of a column, so that few sines have
    to be computed.
    """
    rows = -(-len(t) // COLUMNS)
    row = at[:, None, :] + hz[:, None, :] * (COLUMNS * t[1] * np.arange(rows))[:, None]
    column = hz[..., None] * (t[1] * np.arange(COLUMNS))
    size = np.asarray(sizes, np.float32)
    both = (size * sine(row)) @ sine(column + 0.25) + (size * sine(row + 0.25)) @ sine(column)
    return both.reshape(len(hz), -1)[:, : len(t)].astype(float)
