"""Recorded sound brought to other places in time, and to another pitch.

Where something is to be is told by pairs of frames: one in what is there, one in what comes out.
Between two pairs the sound is stretched evenly at its pitch; where the pace changes, the next piece
takes over just before the place, for there something begins.
"""

from collections.abc import Sequence
from itertools import pairwise

import numpy as np
import soxr

from cloudrift.audio.buffers import Stereo, add_wrapped, raised_cosine, silence
from cloudrift.audio.looped import slice_wrapped
from cloudrift.audio.stretch import LEAD_S, stretched

Places = Sequence[tuple[int, int]]  # frames: (there, wanted), both rising; the ends among them
SAME_PACE = 0.004  # share by which two paces may differ to be one stretch: not to be heard
JOIN_S = 0.02
SLOWEST, QUICKEST = 0.2, 5.0  # how many times as quick as it is


def fitted(
    audio: Stereo,
    places: Places,
    rate: int,
    semitones: float = 0.0,
    *,
    round_and_round: bool = False,
) -> Stereo:
    """Return sound with what is at one place brought to another, at another pitch if asked.

    Parameters
    ----------
    audio : (2, n).
    places : the first pair is where it begins, the last where it ends.
    semitones : how far the pitch goes.
    round_and_round : it repeats without a seam, so that its end runs in before its start.
    """
    pieces = _even(places)
    first, last = pieces[0][1], pieces[-1][1]
    if semitones == 0 and all(b - a == d - c for (a, c), (b, d) in pairwise(pieces)):
        return np.array(_cut(audio, pieces[0][0], pieces[-1][0] - pieces[0][0], round_and_round))
    out = silence(last - first)
    fade = int(JOIN_S * rate)
    rise = np.sqrt(raised_cosine(fade))  # two runs agree in level, not in phase
    for i, (start, end) in enumerate(pairwise(pieces)):
        joined = (i > 0 or round_and_round, i < len(pieces) - 2 or round_and_round)
        piece = _stretched(audio, start, end, fade * joined[0], rate, semitones, round_and_round)
        if joined[0]:
            piece[:, :fade] *= rise
        if joined[1]:
            piece[:, -fade:] *= rise[::-1]
        at = start[1] - first - fade * joined[0]
        if round_and_round:
            add_wrapped(out, piece, at)
        else:
            out[:, at : at + piece.shape[1]] += piece
    return out


def on_tape(audio: Stereo, speed: float, rate: int) -> Stereo:
    """Return sound played at another speed: twice as quick is half as long and an octave up."""
    if speed == 1:
        return audio
    return np.ascontiguousarray(soxr.resample(audio.T, rate * speed, rate, quality="VHQ").T)


def _even(places: Places) -> list[tuple[int, int]]:
    """Leave out places between which the pace does not change."""
    kept = [places[0]]
    for i in range(1, len(places) - 1):
        (a, c), (b, d), (e, f) = kept[-1], places[i], places[i + 1]
        before, behind = (d - c) / max(b - a, 1), (f - d) / max(e - b, 1)
        if abs(before / behind - 1) > SAME_PACE:
            kept.append((b, d))
    return [*kept, places[-1]]


def _cut(audio: Stereo, start: int, count: int, wrapped: bool) -> Stereo:
    """Some frames of it; silence outside, or what comes round."""
    if wrapped:
        return slice_wrapped(audio, start, count)
    n = audio.shape[1]
    before, behind = max(0, -start), max(0, start + count - n)
    inside = audio[:, max(0, start) : max(0, min(start + count, n))]
    return np.pad(inside, ((0, 0), (before, behind)))[:, :count]


def _stretched(
    audio: Stereo,
    start: tuple[int, int],
    end: tuple[int, int],
    fade: int,
    rate: int,
    semitones: float,
    wrapped: bool,
) -> Stereo:
    """One piece at its own pace, from ``fade`` frames before its start, run in over what is there.

    The stretcher has memory: it begins before, and ends after.
    """
    wanted = end[1] - start[1]
    pace = (end[0] - start[0]) / max(wanted, 1)
    lead = int(LEAD_S * rate) + fade  # frames of what comes out
    behind = lead // 2
    piece = _cut(
        audio, start[0] - round(lead * pace), round((lead + wanted + behind) * pace), wrapped
    )
    out = stretched(piece, lead + wanted + behind, rate, semitones)
    return np.array(out[:, lead - fade : lead + wanted])
