"""One period of a sound, read along a phase: for what is blown, bowed, sung or oscillates.

A period is band-limited by leaving out harmonics, so nothing aliases as long as the pitch does
not rise above what it was made for; TOP leaves room for vibrato and glides.
"""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Mono
from cloudrift.sound.instrument import ToneRequest
from cloudrift.theory.pitch import pitch_to_hz

# Phase is counted in parts of a turn: it goes round by itself and never loses accuracy.
Phase = NDArray[np.uint32]
TOP = 0.44  # of the rate
CONTROL = 64  # curves of pitch and level are computed every so many frames


def harmonics(pitch: float, rate: int, most: int = 200) -> NDArray[np.float64]:
    """Return the numbers of the harmonics that fit under the top at a pitch."""
    return np.arange(1.0, min(most, max(1, int(TOP * rate / pitch_to_hz(pitch)))) + 1)


def bits_of(length: int) -> int:
    """Return of which power of 2 a period is long, whose last number is its first."""
    return (length - 1).bit_length() - 1


def read(tables: NDArray[np.float32], phase: Phase) -> NDArray[np.float32]:
    """Read periods, (tables, a power of 2 and one more), at phases, linearly: (tables, frames)."""
    fine = 32 - bits_of(tables.shape[-1])
    at = (phase >> np.uint32(fine)).astype(np.intp)
    rest = (phase & np.uint32((1 << fine) - 1)).astype(np.float32)
    rest *= np.float32(1 / (1 << fine))
    out = np.empty((len(tables), len(at)), np.float32)
    after = at + 1
    for i, table in enumerate(tables):
        low = table.take(at, mode="clip")
        step = table.take(after, mode="clip")
        step -= low
        step *= rest
        np.add(low, step, out=out[i])
    return out


def turns(
    hz: float, cents: NDArray[np.float64] | None, frames: int, rate: int, start: float
) -> Phase:
    """Return the phase of each frame for a frequency that sways; ``start`` is in turns."""
    first = counts(np.asarray(start % 1.0))
    if cents is None:
        return np.arange(frames, dtype=np.uint32) * counts(np.asarray(hz / rate)) + first
    speed = hz / rate * 2 ** (cents / 1200)
    steps = counts((speed[1:] + speed[:-1]) / 2)[: -(-frames // CONTROL)]
    knots = first + np.uint32(CONTROL) * (np.cumsum(steps, dtype=np.uint32) - steps)
    within = np.arange(CONTROL, dtype=np.uint32)
    return (knots[:, None] + steps[:, None] * within).ravel()[:frames]


def counts(share: NDArray[np.float64]) -> Phase:
    """Return shares of a turn as counts; whole turns fall away by themselves."""
    return np.rint(share * 2.0**32).astype(np.int64).astype(np.uint32)


def curve_to_frames(values: NDArray[np.float64], frames: int, apart: int = CONTROL) -> Mono:
    """Stretch a curve at control points, ``apart`` frames from each other, to frames."""
    count = -(-frames // apart)
    knots = np.concatenate([values, values[-1:]])[: count + 1].astype(np.float32)
    within = np.arange(apart, dtype=np.float32) / np.float32(apart)
    return (knots[:-1, None] + np.diff(knots)[:, None] * within).ravel()[:frames]


def sine(phase: NDArray[np.float64]) -> Mono:
    """Return the sine of a phase counted in turns, reduced in double precision first."""
    return np.sin(((phase - np.floor(phase)) * (2 * np.pi)).astype(np.float32))


def moving_phase(
    request: ToneRequest,
    start_st: float,
    end_st: float,
    course: Callable[[NDArray[np.float64]], NDArray[np.float64]],
) -> NDArray[np.float64]:
    """Return the phase in turns of a pitch that moves, over the sound's own time, between two
    distances from the note."""
    over = request.settings.number("over_ms") / 1e3
    at = np.arange(request.frames) / request.rate
    away = start_st + (end_st - start_st) * course(np.clip(at / over, 0, 1))
    hz = pitch_to_hz(request.pitch) * 2 ** (away / 12)
    return np.asarray(np.cumsum(hz) / request.rate)
