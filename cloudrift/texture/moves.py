"""What treatments do to notes, without any sound: where they are heard from, and at which pitch."""

from collections.abc import Callable
from itertools import pairwise
from typing import NamedTuple

from cloudrift.ground.settings import ResolvedSettings
from cloudrift.texture.periods import RATES


class Move(NamedTuple):
    """A stretch of what comes out, and what of the input is heard in it.

    From ``start`` to ``end`` (ticks) the input is heard from tick ``source`` on, ``speed`` ticks of
    it for each tick: 1 as it is, 0.5 at half its speed and an octave down, below 0 reversed. It may
    lie before the loop's start or after its end, as the loop goes round.
    """

    start: float
    end: float
    source: float
    speed: float = 1.0
    gain_db: float = 0.0


# Settings, the loop's length and its chords' starts, in ticks -> all that is heard, in order.
Moves = Callable[[ResolvedSettings, int, tuple[int, ...]], tuple[Move, ...]]
# Settings -> the pitches that one becomes: semitones from it, dB.
Pitches = Callable[[ResolvedSettings], tuple[tuple[float, float], ...]]


def windows(value: str, ticks: int) -> list[tuple[float, float]]:
    """Return start and end of the windows of a note value; a whole number of them fills a loop."""
    count = max(1, round(ticks / RATES[value]))
    return [(ticks * i / count, ticks * (i + 1) / count) for i in range(count)]


def between(cuts: tuple[int, ...], ticks: int) -> list[tuple[int, int]]:
    """Return start and end of what lies between cuts, the last round the loop's end."""
    places = sorted({cut % ticks for cut in cuts}) or [0]
    return list(pairwise([*places, places[0] + ticks]))


def repeats(
    start: float, end: float, source: float, size: float, *, speed: float = 1.0, fall_db: float = 0
) -> list[Move]:
    """Return a slice again and again from ``start`` to ``end``, each ``fall_db`` quieter."""
    out: list[Move] = []
    at = start
    while at < end - 1e-6:
        out.append(Move(at, min(at + size, end), source, speed, -fall_db * (len(out) + 1)))
        at += size
    return out
