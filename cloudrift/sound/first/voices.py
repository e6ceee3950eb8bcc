"""One period read by a voice in the middle and one at each side, as the first designs have it."""

import msgspec
import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.sound.instrument import Tone, ToneRequest
from cloudrift.sound.kit.table import CONTROL, read, turns
from cloudrift.theory.pitch import pitch_to_hz

SIZE = 1 << 14  # linear reading of so long a period errs by less than -85 dB


class Vibrato(msgspec.Struct, frozen=True, kw_only=True):
    """Pitch that sways: how fast, how far, and from when; and how far it strays by chance."""

    hz: float = 5.2
    cents: float = 0.0
    onset_ms: float = 500.0
    drift_cents: float = 3.0


STILL = Vibrato(drift_cents=0.0)


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
