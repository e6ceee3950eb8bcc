"""Voicing: which octave each note of a chord sounds in, and how voices move between chords."""

from collections.abc import Iterator
from itertools import pairwise
from typing import Literal

Move = Literal["common", "half", "whole", "leap"]


def close_positions(pcs: tuple[int, ...], low: int, high: int) -> Iterator[tuple[int, ...]]:
    """Yield every close-position voicing of the pitch classes inside [low, high], low to high."""
    for rotation in range(len(pcs)):
        order = pcs[rotation:] + pcs[:rotation]
        for bottom in range(low, high + 1):
            if bottom % 12 != order[0]:
                continue
            voicing = [bottom]
            for pc in order[1:]:
                voicing.append(voicing[-1] + ((pc - voicing[-1] - 1) % 12 + 1))
            if voicing[-1] <= high:
                yield tuple(voicing)


def opened(voicing: tuple[int, ...]) -> tuple[int, ...]:
    """Drop the second voice from the top by an octave: the same chord, more air."""
    if len(voicing) < 3:
        return voicing
    return tuple(sorted((*voicing[:-2], voicing[-2] - 12, voicing[-1])))


def movement(before: tuple[int, ...], after: tuple[int, ...]) -> int:
    """Return the total movement in semitones between two voicings, voices paired in order."""
    return sum(abs(a - b) for a, b in zip(before, after, strict=False))


def voice_chord(
    pcs: tuple[int, ...],
    *,
    low: int,
    high: int,
    before: tuple[int, ...] = (),
    spread: bool = False,
) -> tuple[int, ...]:
    """Choose the voicing that moves least from the chord before (or sits in the middle).

    Parameters
    ----------
    pcs : pitch classes, root first.
    low, high : register in MIDI numbers; widened by octaves until one voicing fits.
    before : the upper voices of the chord before, low to high; empty for the first chord.
    spread : open position rather than close.
    """
    found: list[tuple[int, ...]] = []
    while not found:
        found = list(close_positions(pcs, low, high))
        if spread:
            found = [opened(v) for v in found]
        low, high = low - 6, high + 6
    middle = (low + high) / 2

    def cost(voicing: tuple[int, ...]) -> tuple[float, float]:
        off_middle = abs(sum(voicing) / len(voicing) - middle)
        return (movement(before, voicing) + 0.1 * off_middle if before else off_middle, voicing[0])

    return min(found, key=cost)


def bass_below(root: int, above: tuple[int, ...], *, octaves: int = 1) -> int:
    """Return the root placed below the lowest voice, at least a fourth away from it."""
    pitch = min(above) - 5
    pitch -= (pitch - root) % 12
    return pitch - 12 * (octaves - 1)


def classify(semitones: int) -> Move:
    """Say how a voice moves: common tone, half step, whole step or leap."""
    size = abs(semitones)
    return "common" if size == 0 else "half" if size == 1 else "whole" if size == 2 else "leap"


def pair_voices(before: tuple[int, ...], after: tuple[int, ...]) -> list[tuple[int, int]]:
    """Pair the voices of two chords by index, from the lowest up, without leaving order.

    The bass is paired with the bass and the top with the top; where one chord has more voices,
    the pairing of least total movement is taken and the others stay unpaired.
    """
    if len(before) > len(after):
        return [(b, a) for a, b in pair_voices(after, before)]
    order_b = sorted(range(len(before)), key=lambda i: before[i])
    order_a = sorted(range(len(after)), key=lambda i: after[i])
    short = [before[i] for i in order_b]
    long = [after[i] for i in order_a]
    # Dynamic programming over "the first i of the short matched within the first j of the long".
    best: list[list[tuple[int, tuple[int, ...]]]] = [[(0, ())] * (len(long) + 1)]
    for i, pitch in enumerate(short):
        row: list[tuple[int, tuple[int, ...]]] = [(10**6, ())] * (len(long) + 1)
        for j in range(i + 1, len(long) + 1):
            cost, chosen = best[i][j - 1]
            taken = (cost + abs(pitch - long[j - 1]), (*chosen, j - 1))
            row[j] = min(row[j - 1], taken)
        best.append(row)
    return [(order_b[i], order_a[j]) for i, j in enumerate(best[-1][-1][1])]


def half_steps(chords: list[tuple[int, ...]]) -> int:
    """Count the half-step moves through a progression, the step back to its start included."""
    return sum(
        classify(after[j] - before[i]) == "half"
        for before, after in pairwise([*chords, *chords[:1]])
        for i, j in pair_voices(before, after)
    )
