"""Sustained ensembles as one long cycle: every partial is a narrow band, not a line.

The spectrum is written directly (a bell of lines around each harmonic, phases drawn) and turned
into one cycle of several seconds. It beats like many players, loops without a seam, has no alias,
and its mean pitch is exact because each bell is symmetric about its harmonic.
"""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio.buffers import Stereo
from cloudrift.audio.looped import slice_wrapped
from cloudrift.ground.draws import stream
from cloudrift.ground.lru import kept
from cloudrift.sound.instrument import Tone, ToneRequest
from cloudrift.theory.pitch import pitch_to_hz

CYCLE = 1 << 17  # 3 s at 44 100 Hz: longer than a beat of its voices
SIDE_AT = 48_611  # the side signal is the same cycle read from here: other beats, no second one
NARROWEST = 0.8  # bins: a narrower bell on the grid of bins would pull the mean pitch
TOP = 0.46  # of the rate

# From harmonic frequencies, the fundamental and a sound's own numbers: amplitudes (2, P).
Shape = Callable[[NDArray[np.float64], float, tuple[float, ...]], tuple[NDArray[np.float64], ...]]


@kept
def _turns(name: str) -> NDArray[np.complex64]:
    """A drawn phase for each line of the spectrum; all pitches of a sound share them."""
    drawn = stream(0, "spread", name).random(CYCLE // 2 + 1)
    return np.exp(2j * np.pi * drawn).astype(np.complex64)


@kept
def cycles(
    name: str, shape: Shape, pitch: int, rate: int, spread_cents: float, own: tuple[float, ...],
    finer: int = 1,
) -> NDArray[np.float32]:  # fmt: skip
    """Return a soft and a hard cycle, (2, CYCLE * finer), that share all phases; RMS 1 each.

    Parameters
    ----------
    name : decides the phases drawn.
    shape : the amplitudes of the harmonics.
    spread_cents : standard deviation of each harmonic's band.
    own : further numbers for ``shape``.
    finer : how many frames stand for one, for reading between them.
    """
    f0, bin_hz = pitch_to_hz(pitch), rate / CYCLE
    count = min(200, int(TOP * rate / f0))
    k = np.arange(1.0, count + 1)
    amplitudes = np.stack(shape(f0 * k, f0, own))
    amplitudes /= np.sqrt((amplitudes**2).sum(axis=1, keepdims=True))
    heard = np.flatnonzero(amplitudes.max(axis=0) > 3e-4 * amplitudes.max())
    count = int(heard[-1]) + 1

    end = min(CYCLE // 2, int((count + 0.5) * f0 / bin_hz))
    place = np.arange(1, end, dtype=np.float32) * np.float32(bin_hz / f0)
    nearest = np.clip(np.rint(place), 1, count)
    which = nearest.astype(np.int32) - 1
    sigma = np.maximum(k[:count] * (2 ** (spread_cents / 1200) - 1), NARROWEST * bin_hz / f0)
    place -= nearest
    place /= sigma.astype(np.float32)[which]
    np.square(place, out=place)
    place *= np.float32(-0.5)
    bell = np.exp(place)
    # The squares of a bell's lines sum to its width times the root of pi.
    lines = np.sqrt(np.sqrt(np.pi) * sigma * f0 / bin_hz)
    level = (amplitudes[:, :count] / lines).astype(np.float32)
    turned = _turns(name)[1:end] * bell
    spectrum = np.zeros((2, CYCLE // 2 + 1), np.complex64)
    for row, of in zip(spectrum, level, strict=True):
        np.multiply(turned, of[which], out=row[1:end])
    out = sf.irfft(spectrum, CYCLE * finer, overwrite_x=True)
    out *= np.float32(CYCLE * finer / np.sqrt(2))
    return np.asarray(out, np.float32)


def read_cycle(cycle: NDArray[np.float32], start: int, frames: int, side: float) -> Stereo:
    """Read a cycle round and round from a start frame: (2, frames).

    ``side`` is how strong the side signal is beside the middle (0 = mono).
    """
    middle = slice_wrapped(cycle, start, frames)
    apart = np.float32(side) * slice_wrapped(cycle, start + SIDE_AT, frames)
    out = np.empty((2, frames), np.float32)
    np.add(middle, apart, out=out[0])
    np.subtract(middle, apart, out=out[1])
    return out


def ensemble(
    request: ToneRequest,
    name: str,
    shape: Shape,
    own: tuple[float, ...] = (),
    *,
    side: float = 0.55,
    share: float = 0.5,
    least_cents: float = 0.0,
) -> Tone:
    """Play an ensemble: another strike is another place in the same cycle.

    ``share`` of the sound's detune, and at least ``least_cents``, is the spread of each band.
    """
    spread = max(least_cents, share * request.settings.number("detune_cents"))
    both = cycles(name, shape, request.pitch, request.rate, spread, own)
    start = int(stream(request.variant, name, request.pitch).integers(CYCLE)) + request.first
    return Tone(*(read_cycle(cycle, start, request.frames, side) for cycle in both))
