"""One period read by a voice in the middle and one at each side, detuned."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.sound.instrument import Tone, ToneRequest
from cloudrift.sound.kit.table import read, turns
from cloudrift.theory.pitch import pitch_to_hz

SIZE = 1 << 14  # linear reading of so long a period errs by less than -85 dB


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


def one_and_two(
    request: ToneRequest,
    rng: np.random.Generator,
    tables: NDArray[np.float32],
    sides: float,
    *,
    ratio: float = 1.0,
) -> Tone:
    """Play a soft and a hard period, (2, SIZE + 1), in the middle and at a level at each side.

    ``ratio`` is what they are played at against the key's pitch.
    """
    frames, rate = request.frames, request.rate
    f0 = pitch_to_hz(request.pitch) * ratio
    cents = request.settings.number("detune_cents")
    start = rng.random()
    middle = read(tables, turns(f0, None, frames, rate, start))
    out = np.stack([middle, middle], axis=1)
    for side, away in enumerate((cents, -cents)):
        # About a quarter turn away, so that no strike starts much louder than another.
        beside = start + (0.25 - 0.5 * side) + rng.uniform(-0.08, 0.08)
        other = turns(f0 * 2 ** (away / 1200), None, frames, rate, beside)
        out[:, side] += np.float32(sides) * read(tables, other)
    return Tone(*out)
