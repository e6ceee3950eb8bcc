"""A low-pass that sweeps over a wave: as periods at cutoffs, so that nothing can fold back."""

from collections.abc import Callable

import msgspec
import numpy as np
from numpy.typing import NDArray

from cloudrift.ground.draws import rng_for
from cloudrift.ground.lru import memoize
from cloudrift.sound.instrument import Tone, ToneRequest
from cloudrift.sound.kit.players import Periods, Section, periods, play
from cloudrift.sound.kit.straying import knot_times
from cloudrift.sound.kit.table import harmonics
from cloudrift.theory.pitch import pitch_to_hz

Hz = NDArray[np.float64]
# From the numbers of harmonics and a sound's own number: how loud they are.
Wave = Callable[[Hz, float], Hz]
LOWEST_HZ, HIGHEST_HZ, STEPS = 55.0, 17_500.0, 34  # a cutoff every 3 semitones
REFERENCE_HZ = 261.6


class Sweep(msgspec.Struct, frozen=True, kw_only=True):
    """How a cutoff goes.

    Parameters
    ----------
    low_hz : the cutoff of a note at C4 that is played as darkly as can be, when it has fallen.
    by_share_oct : how many octaves higher it is for one that is played as brightly.
    by_key : how much of the key's interval moves it.
    falls_oct : from how much higher it falls, when a note starts; from less, played darkly.
    resonance : height of the peak at the cutoff, as a factor (1 = none).
    """

    low_hz: float
    by_share_oct: float = 4.0
    by_key: float = 0.6
    falls_oct: float = 0.0
    resonance: float = 1.4


def lowpass_gain(hz: Hz, cutoff_hz: float, resonance: float) -> Hz:
    """Return the gain of two poles with a resonance, and two more without: 24 dB an octave."""
    ratio = (hz / cutoff_hz) ** 2
    peak = 1 / np.sqrt((1 - ratio) ** 2 + ratio / resonance**2)
    return np.asarray(peak / np.sqrt(1 + ratio**2 / 4))


@memoize
def _cut(wave: Wave, own: float, resonance: float, pitch: int, rate: int) -> Periods:
    k, f0 = harmonics(pitch, rate, 180), pitch_to_hz(pitch)
    cutoffs = np.geomspace(LOWEST_HZ, HIGHEST_HZ, STEPS)
    rows = np.stack([wave(k, own) * lowpass_gain(f0 * k, hz, resonance) for hz in cutoffs])
    # Half way between even levels and those of a filter: a closed one is quieter, not gone.
    size = np.sqrt((rows**2).sum(axis=1, keepdims=True))
    rows /= size**0.6
    rows /= np.sqrt((rows[-1] ** 2).sum())
    return periods(rows[None, None], np.zeros(len(k)), f0, even=False)


def swept(
    request: ToneRequest,
    name: str,
    wave: Wave,
    own: float,
    sweep: Sweep,
    ms: float,
    section: Section,
) -> Tone:
    """Play a wave through a low-pass that falls or opens over ``ms``; as bright as asked for."""
    made = _cut(wave, own, sweep.resonance, request.pitch, request.rate)
    t = 1e3 * knot_times(request)
    gone = np.exp(-t / ms)
    reach = sweep.falls_oct * (0.35 + 0.65 * request.share)
    octaves = sweep.by_share_oct * request.share + reach * gone
    key = (pitch_to_hz(request.pitch) / REFERENCE_HZ) ** sweep.by_key
    cutoff = sweep.low_hz * key * 2**octaves
    step = np.log(HIGHEST_HZ / LOWEST_HZ) / (STEPS - 1)
    place = np.log(cutoff / LOWEST_HZ) / step
    rng = rng_for(request.variant, name, request.pitch)
    tone = play(request, rng, section, made, place=place)[0]
    return Tone(tone, tone)
