"""Where something is struck in a recording."""

import numpy as np

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.listen.pulse import HOP, LISTEN_RATE, Pulses, mono_of

STRONG = 2.0  # times the mean square of what begins, from where it is a blow
APART_S = 0.06  # two blows are one where they are nearer
EARLY_S = 0.012  # a blow's curve rises so much after its start at the most
GROUND_S, LEAVES = 0.03, 0.15


def detect_onsets(audio: Stereo, rate: int, *, wrapped: bool = False) -> list[float]:
    """Return the seconds at which something is struck in sound, (2, n), in order.

    ``wrapped``: it goes round without a seam.
    """
    mono = mono_of(audio, rate)
    if len(mono) < 4 * HOP:
        return []
    curve = Pulses(mono).pulse(wrapped=wrapped).begins[0]
    least = STRONG * float(np.sqrt((curve**2).mean()))
    reach = max(1, int(APART_S * LISTEN_RATE / HOP))
    around = np.pad(curve, reach, mode="wrap" if wrapped else "constant")
    windows = np.lib.stride_tricks.sliding_window_view(around, 2 * reach + 1)
    tops = np.flatnonzero((curve >= windows.max(axis=1)) & (curve > least))
    found: list[float] = []
    for top in tops:
        second = _attack_start(mono, top * HOP / LISTEN_RATE)
        if not found or second - found[-1] > APART_S:
            found.append(round(second, 5))
    return found


def _attack_start(mono: np.ndarray, near_s: float) -> float:
    """When what is struck about a second leaves the ground."""
    first = max(0, int((near_s - EARLY_S - GROUND_S) * LISTEN_RATE))
    part = np.abs(mono[first : first + int((2 * EARLY_S + GROUND_S) * LISTEN_RATE)])
    if len(part) < 8:
        return near_s
    size = min(64, len(part))
    level = np.convolve(part, np.ones(size, np.float32) / size)[: len(part)]
    ground = float(level[size - 1 : int(GROUND_S * LISTEN_RATE)].max(initial=level[size - 1]))
    above = np.flatnonzero(level > ground + LEAVES * max(float(level.max()) - ground, 1e-9))
    return (first + int(above[0]) - size // 4) / LISTEN_RATE if len(above) else near_s
