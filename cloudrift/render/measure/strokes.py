"""Where a loop strikes, and how strongly: what a groove is drawn from and laid against."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.listen.pulse import HOP, LISTEN_RATE, Pulses, mono_of
from cloudrift.loop.model.loop import Loop
from cloudrift.notes.time import bar_ticks

STEP_TICKS = 240  # sixteenths
EARLY, LATE = 0.25, 0.5  # of a step: what begins so near to it belongs to it
LOUD_SHARE = 0.97  # of the steps: those above are as strong as can be
LEAST = 0.05

Strengths = NDArray[np.float64]  # (steps,), 0 to 1


def onset_strengths(audio: Stereo, rate: int, loop: Loop) -> Strengths:
    """Return how strongly something begins at each sixteenth of a loop, 0 to 1: (steps,).

    ``audio`` is the loop in its steady state, (2, frames), so that it goes round without a seam.
    What rings on counts for nothing; strengths are against the strongest, all through the loop.
    """
    steps = loop.ticks // STEP_TICKS
    mono = mono_of(audio, rate)
    if len(mono) < 8 * HOP or not np.abs(audio).max(initial=0.0):
        return np.zeros(steps)
    curve = Pulses(mono).pulse(wrapped=True).begins[0]
    places = np.arange(len(curve)) * HOP / LISTEN_RATE
    step_s = audio.shape[1] / rate / steps
    owner = np.floor(places / step_s + EARLY).astype(int)
    near = places / step_s - owner <= LATE
    out = np.zeros(steps)
    np.maximum.at(out, owner[near] % steps, curve[near])
    top = float(np.quantile(out, LOUD_SHARE)) or float(out.max())
    if top <= 0:
        return out
    return np.where(out / top < LEAST, 0.0, np.minimum(out / top, 1.0))


def folded(strengths: Strengths, bars: int, metre: tuple[int, int]) -> Strengths:
    """Return strengths over that many bars: the mean of all turns of them in the loop."""
    length = bars * bar_ticks(metre) // STEP_TICKS
    if not len(strengths):
        return np.zeros(length)
    if len(strengths) < length:
        return np.resize(strengths, length)
    turns = len(strengths) // length
    return np.asarray(strengths[: turns * length].reshape(turns, length).mean(axis=0))
