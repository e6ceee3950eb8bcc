"""One period of a sound, read along a phase: for what is blown, bowed, sung or oscillates.

A period is band-limited by leaving out harmonics, so nothing aliases as long as the pitch does
not rise above what it was made for; TOP leaves room for vibrato and glides.
"""

import msgspec
import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio.buffers import Mono
from cloudrift.sound.instrument import Tone, ToneRequest
from cloudrift.theory.pitch import pitch_to_hz

# Phase is counted in parts of a turn: it goes round by itself and never loses accuracy.
Phase = NDArray[np.uint32]
SIZE = 1 << 14  # linear reading of so long a period errs by less than -85 dB
TOP = 0.44  # of the rate
CONTROL = 64  # curves of pitch and level are computed every so many frames


class Vibrato(msgspec.Struct, frozen=True, kw_only=True):
    """Pitch that sways: how fast, how far, and from when; and how far it strays by chance."""

    hz: float = 5.2
    cents: float = 0.0
    onset_ms: float = 500.0
    drift_cents: float = 3.0


STILL = Vibrato(drift_cents=0.0)


def harmonics(pitch: float, rate: int, most: int = 200) -> NDArray[np.float64]:
    """Return the numbers of the harmonics that fit under the top at a pitch."""
    return np.arange(1.0, min(most, max(1, int(TOP * rate / pitch_to_hz(pitch)))) + 1)


def period(amplitudes: NDArray[np.float64], phases: NDArray[np.float64]) -> NDArray[np.float32]:
    """Return periods, (tables, SIZE + 1), with an RMS of 1 each; the last sample is the first.

    Parameters
    ----------
    amplitudes : (tables, P) of harmonics 1 to P.
    phases : (P,) in radians, shared by all tables.
    """
    spectrum = np.zeros((len(amplitudes), SIZE // 2 + 1), np.complex64)
    level = amplitudes / np.sqrt((amplitudes**2).sum(axis=1, keepdims=True))
    spectrum[:, 1 : level.shape[1] + 1] = level * np.exp(1j * (phases - np.pi / 2))
    wave = sf.irfft(spectrum, SIZE) * np.float32(SIZE / np.sqrt(2))
    return np.asarray(np.concatenate([wave, wave[:, :1]], axis=1), np.float32)


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


def sway(
    rng: np.random.Generator, frames: int, rate: int, vibrato: Vibrato
) -> NDArray[np.float64] | None:
    """Return the pitch curve in cents at control points, (frames // CONTROL + 2,); None if still.

    The drift is a slow random walk that keeps returning, so the mean pitch stays.
    """
    if vibrato.cents == 0 and vibrato.drift_cents == 0:
        return None
    t = np.arange(frames // CONTROL + 2) * (CONTROL / rate)
    start, speed = rng.random(), vibrato.hz * rng.uniform(0.94, 1.06)
    grown = np.clip((t * 1e3 - vibrato.onset_ms) / 400, 0, 1)
    grown = grown * grown * (3 - 2 * grown)
    cents = vibrato.cents * grown * np.sin(2 * np.pi * (speed * t + start))
    for hz in (0.31, 0.83, 1.7):
        phase = hz * rng.uniform(0.8, 1.2) * t + rng.random()
        cents += vibrato.drift_cents / 3 * np.sin(2 * np.pi * phase)
    return np.asarray(cents)


def turns(hz: float, cents: NDArray[np.float64] | None, frames: int, rate: int, start: float
          ) -> Phase:  # fmt: skip
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


class Voices(msgspec.Struct, frozen=True, kw_only=True):
    """Who reads a period: one in the middle, and one at each side, detuned, at level ``sides``."""

    sides: float = 0.35
    vibrato: Vibrato = STILL


def voices(
    request: ToneRequest,
    rng: np.random.Generator,
    tables: NDArray[np.float32],
    how: Voices,
    *,
    ratio: float = 1.0,
) -> Tone:
    """Play a soft and a hard period, (2, SIZE + 1), as one voice in the middle and two beside."""
    return Tone(*played(request, rng, tables, how, ratio=ratio))


def played(
    request: ToneRequest,
    rng: np.random.Generator,
    tables: NDArray[np.float32],
    how: Voices,
    *,
    ratio: float = 1.0,
) -> NDArray[np.float32]:
    """Play any number of periods in step with each other: (tables, 2 sides, frames)."""
    frames, rate = request.frames, request.rate
    f0 = pitch_to_hz(request.pitch) * ratio
    cents = request.settings.number("detune_cents")
    curve = sway(rng, frames, rate, how.vibrato)
    start = rng.random()
    middle = read(tables, turns(f0, curve, frames, rate, start))
    out = np.stack([middle, middle], axis=1)
    for side, away in enumerate((cents, -cents)):
        # About a quarter turn away, so that no strike starts much louder than another.
        beside = start + (0.25 - 0.5 * side) + rng.uniform(-0.08, 0.08)
        other = turns(f0 * 2 ** (away / 1200), curve, frames, rate, beside)
        out[:, side] += np.float32(how.sides) * read(tables, other)
    return out


def curve_to_frames(values: NDArray[np.float64], frames: int, apart: int = CONTROL) -> Mono:
    """Stretch a curve at control points, ``apart`` frames from each other, to frames."""
    count = -(-frames // apart)
    knots = np.concatenate([values, values[-1:]])[: count + 1].astype(np.float32)
    within = np.arange(apart, dtype=np.float32) / np.float32(apart)
    return (knots[:-1, None] + np.diff(knots)[:, None] * within).ravel()[:frames]
