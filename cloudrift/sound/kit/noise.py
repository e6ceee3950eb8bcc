"""Noises: short ones (hammers, picks, keys), and long ones that go round (breath, hiss, rain)."""

import functools
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio.buffers import Stereo, raised_cosine
from cloudrift.audio.looped import slice_wrapped
from cloudrift.ground.draws import number, rng_for
from cloudrift.ground.lru import memoize
from cloudrift.sound.instrument import ToneRequest

LONG = 1 << 17  # frames of a long noise before it goes round: 3 s
WANDER_JOIN_S = 0.12
TURNS = 8  # of which the phases are kept, 1 MB each
BANDS = 512  # that are the same function where they are asked for again
Shape = Callable[[NDArray[np.float64]], NDArray[np.float64]]


@memoize
def lasting(name: str, rate: int, shape: Shape, width: float = 0.5) -> Stereo:
    """Return noise with a spectrum, (2, LONG), RMS 1, that can be read round and round.

    ``shape`` gives the amplitude by frequency; what is made for it is kept under it, so it must
    stand at the top of a module, be a value, or be a ``band``.
    """
    hz = np.fft.rfftfreq(LONG, 1 / rate)
    gain = shape(np.maximum(hz, 1.0))
    gain[0] = 0
    mid, side = sf.irfft((gain * _turns(name)).astype(np.complex64), LONG)
    out = np.stack([mid + width * side, mid - width * side])
    return np.asarray(out / out.std(), np.float32)


@functools.lru_cache(maxsize=TURNS)
def _turns(name: str) -> NDArray[np.complex64]:
    """The phases of a long noise, (2, lines): they take longer than all the rest of it.

    They are for the next key of the same sound, whose noise has another spectrum.
    """
    turns = np.exp(2j * np.pi * rng_for(0, "lasting", name).random((2, LONG // 2 + 1)))
    return np.asarray(turns, np.complex64)


def read_round(noise: Stereo, start: int, frames: int) -> Stereo:
    """Return a copy of frames of a long noise from a start, going round."""
    return np.array(slice_wrapped(noise, start, frames))


@functools.lru_cache(maxsize=BANDS)
def band(low_hz: float, high_hz: float, steep: float = 4.0) -> Shape:
    """Return the amplitude of a band with soft edges, by frequency: the same for the same edges."""

    def shape(hz: NDArray[np.float64]) -> NDArray[np.float64]:
        return 1 / np.sqrt((1 + (low_hz / hz) ** steep) * (1 + (hz / high_hz) ** steep))

    return shape


def add_at_start(tone: Stereo, noise: Stereo, gain: float) -> None:
    """Add a noise to the first frames of a tone, in place."""
    count = min(tone.shape[1], noise.shape[1])
    tone[:, :count] += np.float32(gain) * noise[:, :count]


def puff(
    request: ToneRequest,
    name: str,
    shape: Shape,
    *,
    decay_ms: float,
    rise_ms: float = 1.0,
    width: float = 0.4,
) -> Stereo:
    """Return a short noise of one blow, (2, frames), RMS 1 before it decays.

    No two keys and no two strikes have the same: each begins elsewhere in a long noise of its own
    spectrum.
    """
    rate = request.rate
    noise = lasting(f"{name} {width}", rate, shape, width)
    start = number(LONG, request.variant, "puff", name, request.pitch)
    envelope = _puffed(rate, decay_ms, rise_ms)
    return np.asarray(read_round(noise, start, len(envelope)) * envelope)


@memoize
def _puffed(rate: int, decay_ms: float, rise_ms: float) -> NDArray[np.float32]:
    frames = int(rate * (8 * decay_ms + 2 * rise_ms) / 1e3) + 8
    envelope = np.exp(np.arange(frames, dtype=np.float32) * np.float32(-1e3 / (decay_ms * rate)))
    rise = max(2, int(rise_ms * 1e-3 * rate))
    envelope[:rise] *= raised_cosine(rise)
    fall = frames // 4
    envelope[-fall:] *= raised_cosine(fall)[::-1]
    return envelope


def wandering(noise: Stereo, rng: np.random.Generator, frames: int, rate: int) -> Stereo:
    """Return frames of a long noise, (channels, n), that never come again.

    It is read in stretches of about a second from drawn places; each join takes WANDER_JOIN_S at
    equal power, so it is as loud as the rest.
    """
    out = np.zeros((len(noise), frames), np.float32)
    join = int(WANDER_JOIN_S * rate)
    rise = np.sin(np.linspace(0, np.pi / 2, join, dtype=np.float32))
    at = -join
    while at < frames:
        length = join + int(rng.uniform(0.5, 1.1) * rate)
        piece = read_round(noise, int(rng.integers(noise.shape[1])), length + join)
        piece[:, :join] *= rise
        piece[:, -join:] *= rise[::-1]
        first, last = max(at, 0), min(at + length + join, frames)
        out[:, first:last] += piece[:, first - at : last - at]
        at += length
    return out
