"""Chords of a key: the tones that stand on a degree, and their order in the stack of thirds."""

from cloudrift.ground.errors import CloudriftError
from cloudrift.theory.key import Key

# Intervals above the root in the order they are stacked: what a bass player calls 1 3 5 7 9 11 13.
# A second counts as a ninth and a fourth as an eleventh, except where they stand for the third.
STACK_ORDER = {0: 0, 3: 1, 4: 1, 6: 2, 7: 2, 8: 2, 9: 3, 10: 3, 11: 3, 1: 4, 2: 4, 5: 5}


def chord_tones(key: Key, degree: int, *, seventh: bool = False, count: int = 0) -> tuple[int, ...]:
    """Stack every other note of the scale on a degree (1-7), root first, as pitch classes.

    ``count`` says how many (1 to 7: 3 is a triad, 5 a ninth chord, 7 a thirteenth chord); without
    it there are 3, or 4 with ``seventh``.
    """
    if not 1 <= degree <= 7:
        raise CloudriftError(f"degree {degree} does not exist; degrees go from 1 to 7")
    scale = key.scale
    count = count or (4 if seventh else 3)
    return tuple(scale[(degree - 1 + 2 * i) % 7] for i in range(count))


def stacked(root: int, pcs: set[int] | frozenset[int]) -> tuple[int, ...]:
    """Return pitch classes in the order of the stack above a root: root, third, fifth, seventh, …

    A root that is not among them is left out.
    """
    intervals = {(pc - root) % 12 for pc in pcs}

    def place(interval: int) -> tuple[float, int]:
        order: float = STACK_ORDER[interval]
        no_third = not intervals & {3, 4}
        if no_third and interval in (2, 5):
            order = 1  # sus2, sus4
        elif interval == 3 and 4 in intervals:
            order = 4  # a raised ninth
        elif interval == 6 and 7 in intervals:
            order = 5  # a raised eleventh
        elif interval == 8 and intervals & {6, 7}:
            order = 6  # a lowered thirteenth
        elif interval == 9 and intervals & {10, 11}:
            order = 6  # a thirteenth rather than a sixth
        return order, interval

    return tuple((root + i) % 12 for i in sorted(intervals, key=place))
