"""What is heard beside the music: tape hiss, crackle, dust, rumble, static. One loop of each."""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio.buffers import Stereo, add_wrapped, silence
from cloudrift.audio.wrap import circular_noise
from cloudrift.ground.draws import rng_for
from cloudrift.ground.lru import memoize

CRACKLES_PER_S, DUST_PER_S = 9.0, 90.0
CYCLE = 1 << 17  # frames: noise comes round so often, which no ear notices
SEAM = 4096  # frames over which its end fades into what precedes its start

Shape = Callable[[NDArray[np.floating]], NDArray[np.floating]]


def _noise(rng: np.random.Generator, frames: int, rate: int, shape: Shape) -> Stereo:
    """Noise with a spectrum (amplitude at Hz), RMS 1, wrapped: (2, frames)."""
    hz = np.fft.rfftfreq(CYCLE, 1 / rate)
    spectrum = rng.standard_normal((2, len(hz))) + 1j * rng.standard_normal((2, len(hz)))
    spectrum[:, 0] = 0
    spectrum[:, 1:] = spectrum[:, 1:] * shape(hz[1:])
    cycle = sf.irfft(spectrum, CYCLE)
    cycle /= cycle.std()
    out = np.stack([np.resize(side, frames) for side in cycle]).astype(np.float32)
    fade = min(SEAM, frames // 2)
    rise = np.sqrt(np.linspace(0, 1, fade))
    out[:, -fade:] = out[:, -fade:] * np.sqrt(1 - rise**2) + cycle[:, -fade:] * rise
    return out


@memoize
def hiss(variation: int, frames: int, rate: int) -> Stereo:
    """Return tape hiss, RMS 1: rising towards 6 kHz, its own on each side."""
    return _noise(
        rng_for(variation, "hiss"),
        frames,
        rate,
        lambda hz: np.sqrt(hz / (hz + 1500)) / (1 + (hz / 9000) ** 2),
    )


@memoize
def rumble(variation: int, frames: int, rate: int) -> Stereo:
    """Return the rumble of a turntable, RMS 1: 12 to 60 Hz, nearly the same on both sides."""
    sides = _noise(
        rng_for(variation, "rumble"),
        frames,
        rate,
        lambda hz: (hz / (hz + 12)) ** 3 / (1 + (hz / 45) ** 4),
    )
    both = sides[0] + np.float32(0.3) * sides
    return np.asarray(both / both.std(), np.float32)


@memoize
def static(variation: int, frames: int, rate: int) -> Stereo:
    """Return what is heard between stations, RMS 1: one channel, 300 Hz to 4 kHz, in gusts."""
    rng = rng_for(variation, "static")
    mono = _noise(rng, frames, rate, lambda hz: 1 / (1 + (300 / hz) ** 3) / (1 + (hz / 4000) ** 4))[
        0
    ]
    seconds = frames / rate
    gusts = 1 + 0.7 * circular_noise(rng, frames, 0.2 * seconds, 3 * seconds)
    mono = mono * gusts
    return np.stack([mono, mono]).astype(np.float32) / np.float32(mono.std())


def _specks(
    rng: np.random.Generator, frames: int, rate: int, per_s: float, longest_s: float, tail: float
) -> Stereo:
    """Short bursts at random places, the loudest near full scale; ``tail``: how rare loud ones."""
    out = silence(frames)
    for _ in range(rng.poisson(per_s * frames / rate)):
        size = int(rate * rng.uniform(0.0006, longest_s))
        at = int(rng.integers(frames))
        loud = min(rng.pareto(tail) + 0.15, 3.0) / 3.0
        shape = np.hanning(size + 2)[1:-1] * rng.standard_normal(size)
        pan = rng.uniform(0.2, 0.8)
        speck = np.stack([shape * (1 - pan), shape * pan]) * 2 * loud
        add_wrapped(out, speck.astype(np.float32), at)
    return out


@memoize
def crackle(variation: int, frames: int, rate: int) -> Stereo:
    """Return scratches in the groove: few, the loudest near full scale."""
    return _specks(rng_for(variation, "crackle"), frames, rate, CRACKLES_PER_S, 0.004, 2.2)


@memoize
def dust(variation: int, frames: int, rate: int) -> Stereo:
    """Return dust: many fine specks over the groove's own soft noise, RMS 1."""
    rng = rng_for(variation, "dust")
    specks = _specks(rng, frames, rate, DUST_PER_S, 0.0015, 3.5)
    groove = _noise(rng, frames, rate, lambda hz: 1 / np.sqrt(hz + 40))
    out = specks / max(float(specks.std()), 1e-9) + np.float32(0.5) * groove
    return np.asarray(out / out.std(), np.float32)


NOISES: dict[str, Callable[[int, int, int], Stereo]] = {
    "hiss": hiss,
    "crackle": crackle,
    "dust": dust,
    "rumble": rumble,
    "static": static,
}


@memoize
def dropouts(variation: int, per_minute: float, frames: int, rate: int) -> NDArray[np.float32]:
    """Return a level that falls away for moments, 10 to 30 dB down: (frames,)."""
    rng = rng_for(variation, "drop-outs")
    level = np.ones(frames, np.float32)
    for _ in range(rng.poisson(per_minute * frames / rate / 60)):
        size = min(int(rate * rng.uniform(0.02, 0.14)), frames)
        deep = 1 - 10 ** (-rng.uniform(10, 30) / 20)
        at = (int(rng.integers(frames)) + np.arange(size)) % frames
        level[at] *= (1 - deep * np.hanning(size + 2)[1:-1] ** 0.6).astype(np.float32)
    return level
