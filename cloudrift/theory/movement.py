"""Movement: how voices go from one chord to the next, and what a chord does in its key."""

import functools
from collections.abc import Sequence
from itertools import combinations, pairwise
from typing import Literal

from cloudrift.theory.key import Key
from cloudrift.theory.pairing import paired

Move = Literal["common", "half", "whole", "leap"]
Colour = Literal["rest", "lift", "tension", "open"]
Pairs = tuple[tuple[int, int], ...]

# How far apart two notes feel as one voice's way, smallest first. A leap costs about the same
# however wide it is: that is why a note that stays is heard as staying while another leaps over it.
STEP_COSTS = {0: 0.0, 1: 0.8, 2: 1.5}
LEAP_COST, LEAP_PER_SEMITONE = 2.4, 0.08
CROSSING_COST = 1.0


def classify(semitones: int) -> Move:
    """Say how a voice moves: common tone, half step, whole step or leap."""
    size = abs(semitones)
    return "common" if size == 0 else "half" if size == 1 else "whole" if size == 2 else "leap"


def _felt(semitones: int) -> float:
    size = abs(semitones)
    return STEP_COSTS.get(size, LEAP_COST + LEAP_PER_SEMITONE * size)


@functools.lru_cache(maxsize=4096)
def pair_voices(before: tuple[int, ...], after: tuple[int, ...]) -> Pairs:
    """Pair the voices of two chords by index: who goes where.

    The pairing that moves least without leaving order is taken, unless voices that stay would be
    torn from their notes by it: then they stay, and the one that leaps over them crosses. Where
    one chord has more voices, the others stay unpaired.
    """
    in_order = _in_order(before, after)
    free = _free(before, after)

    def cost(pairs: Pairs) -> float:
        felt = sum(_felt(after[j] - before[i]) for i, j in pairs)
        return felt + CROSSING_COST * len(crossings(before, after, pairs))

    return free if cost(free) < cost(in_order) - 1e-9 else in_order


def _free(before: tuple[int, ...], after: tuple[int, ...]) -> Pairs:
    return tuple(paired([[_felt(a - b) for a in after] for b in before]))


def _in_order(before: tuple[int, ...], after: tuple[int, ...]) -> Pairs:
    if len(before) > len(after):
        return tuple(sorted((b, a) for a, b in _in_order(after, before)))
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
    return tuple((order_b[i], order_a[j]) for i, j in enumerate(best[-1][-1][1]))


def crossings(
    before: tuple[int, ...], after: tuple[int, ...], pairs: Pairs
) -> tuple[tuple[int, int], ...]:
    """Return which pairs (their places in ``pairs``) change order on their way."""
    out = []
    for (m, (i, j)), (n, (k, other)) in combinations(enumerate(pairs), 2):
        if (before[i] - before[k]) * (after[j] - after[other]) < 0:
            out.append((m, n))
    return tuple(out)


def total_movement(before: tuple[int, ...], after: tuple[int, ...]) -> int:
    """Return the least total movement in semitones from one set of voices to another.

    Each voice of the smaller set goes to a voice of its own; a voice of ``after`` that is left
    over counts as far as it lies from the nearest voice before, and one that ends counts nothing.
    """
    far = [[abs(b - a) for a in after] for b in before]
    if len(after) > len(before):
        nearest = [min(column) for column in zip(*far, strict=True)]
        far += [nearest] * (len(after) - len(before))
    return sum(far[row][column] for row, column in paired(far))


def moves(before: tuple[int, ...], after: tuple[int, ...]) -> list[Move]:
    """Return how each pair of voices moves."""
    return [classify(after[j] - before[i]) for i, j in pair_voices(before, after)]


def half_steps(chords: Sequence[tuple[int, ...]]) -> int:
    """Count the half-step moves through a progression, the step back to its start included."""
    return sum(moves(a, b).count("half") for a, b in pairwise([*chords, *chords[:1]]))


def voice_through(chords: Sequence[tuple[int, ...]], chord: int, voice: int) -> dict[int, int]:
    """Follow one voice through all chords: chord index -> voice index, as far as its thread goes.

    It follows the pairings forward and backward from where it was taken hold of.
    """
    found = {chord: voice}
    at = voice
    for i in range(chord, len(chords) - 1):
        following = dict(pair_voices(chords[i], chords[i + 1])).get(at)
        if following is None:
            break
        found[i + 1] = at = following
    at = voice
    for i in range(chord, 0, -1):
        leading = {j: b for b, j in pair_voices(chords[i - 1], chords[i])}.get(at)
        if leading is None:
            break
        found[i - 1] = at = leading
    return found


@functools.lru_cache(maxsize=4096)
def colour(voices: tuple[int, ...], root: int, key: Key) -> Colour:
    """Say plainly what a chord does in its key: rest, lift, tension or open.

    Open chords have no third; a tritone, a half-step clash or a note outside the key is tension;
    the home chord and its neighbours that share its notes rest; other major chords lift.
    """
    pcs = {v % 12 for v in voices}
    intervals = {(pc - root) % 12 for pc in pcs}
    if not intervals & {3, 4}:
        return "open"
    tritone = any((a + 6) % 12 in pcs for a in pcs)
    clash = any(b - a == 1 for a, b in pairwise(sorted(voices)))
    if tritone or clash or any(not key.has(pc) for pc in pcs):
        return "tension"
    if root == key.pc:
        return "rest"
    return "lift" if 4 in intervals else "open"
