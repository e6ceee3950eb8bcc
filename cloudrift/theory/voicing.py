"""Voicing: which octave each note of a chord sounds in."""

from collections import Counter
from collections.abc import Iterator
from itertools import combinations, product

from cloudrift.theory.movement import total_movement
from cloudrift.theory.pairing import paired
from cloudrift.theory.pitch import HIGHEST, LOWEST

LOWEST_BASS = 28  # E1


def next_above(pitch: int, pc: int) -> int:
    """Return the first note of a name above a pitch, an octave up for its own name."""
    return pitch + (pc - pitch - 1) % 12 + 1


def close_positions(pcs: tuple[int, ...], low: int, high: int) -> Iterator[tuple[int, ...]]:
    """Yield every close-position voicing of the pitch classes inside [low, high], low to high."""
    for rotation in range(len(pcs)):
        order = pcs[rotation:] + pcs[:rotation]
        for bottom in range(low, high + 1):
            if bottom % 12 != order[0]:
                continue
            voicing = [bottom]
            for pc in order[1:]:
                voicing.append(next_above(voicing[-1], pc))
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
    pcs: tuple[int, ...], *, low: int, high: int, before: tuple[int, ...] = (), spread: bool = False
) -> tuple[int, ...]:
    """Choose the close or open voicing that moves least (or sits in the middle).

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


def nearest_voicing(
    before: tuple[int, ...], pcs: tuple[int, ...], *, low: int = LOWEST, high: int = HIGHEST
) -> tuple[int, ...]:
    """Return the voicing of some notes that moves least from the voices before.

    Parameters
    ----------
    before : voices of the chord before, without its bass.
    pcs : pitch classes to place; one that is there twice is placed in two octaves.
    low, high : the range that voices stay in, at least two octaves.

    No placing of the notes in their octaves has a smaller ``total_movement``. With one note of a
    name, each goes to the octave nearest to the voice it comes from, so the best pairing of voices
    and notes is an assignment problem; octaves of doubled notes are tried one by one.
    """
    counts = Counter(pc % 12 for pc in pcs)
    single = [pc for pc, n in counts.items() if n == 1]
    choices = [
        # Further out than it has copies, a note could always come an octave closer.
        list(
            combinations(
                [
                    p
                    for p in range(
                        max(low, min(before) - 12 * n), min(high, max(before) + 12 * n) + 1
                    )
                    if p % 12 == pc
                ],
                n,
            )
        )
        for pc, n in counts.items()
        if n > 1
    ]
    best: tuple[int, ...] = ()
    least = 10**9
    for doubled in product(*choices):
        fixed = tuple(p for group in doubled for p in group)
        voices = _placed(before, single, fixed, low, high)
        moved = total_movement(before, voices)
        if moved < least or (moved == least and _width(voices) < _width(best)):
            best, least = voices, moved
    return best


def _width(voices: tuple[int, ...]) -> int:
    return voices[-1] - voices[0]


def _placed(
    before: tuple[int, ...], single: list[int], fixed: tuple[int, ...], low: int, high: int
) -> tuple[int, ...]:
    """Place single notes beside fixed ones so that all together move least."""
    near = [[_nearest(b, pc, low, high) for pc in single] for b in before]
    cost = [
        [abs(pitch - b) for pitch in (*row, *fixed)] for b, row in zip(before, near, strict=True)
    ]
    least = [min(column) for column in zip(*cost, strict=True)]
    cost += [least] * (len(least) - len(before))
    placed = list(fixed)
    for row, column in paired(cost):
        if column < len(single):
            from_least = next(i for i, each in enumerate(cost) if each[column] == least[column])
            placed.append(near[row if row < len(before) else from_least][column])
    return tuple(sorted(placed))


def _nearest(pitch: int, pc: int, low: int, high: int) -> int:
    """The note of a name that lies nearest to a pitch, inside the range."""
    found = pitch + (pc - pitch + 6) % 12 - 6
    while found < low:
        found += 12
    while found > high:
        found -= 12
    return found


def bass_below(root: int, above: tuple[int, ...], *, octaves: int = 1) -> int:
    """Return the root placed below the lowest voice, at least a fourth away from it."""
    pitch = min(above) - 5
    pitch -= (pitch - root) % 12
    return pitch - 12 * (octaves - 1)


def bass_near(before: int, pc: int, above: tuple[int, ...]) -> int:
    """Return a bass note as near as can be to the one before, a fourth or more below the rest.

    It does not go below E1, where a bass has no pitch, while there is room above that.
    """
    pitch = before + (pc - before + 6) % 12 - 6
    if pitch < LOWEST_BASS:
        pitch += 12
    while pitch > min(above) - 5:
        pitch -= 12
    return pitch
