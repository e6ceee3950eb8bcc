"""Chords found in notes: block chords keep their voicing, broken ones are put together again."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cloudrift.notes.note import Note
from cloudrift.notes.time import bar_ticks, beat_ticks
from cloudrift.theory.fit import HeardChord, KeyGuess, guess_keys, plain_key, weights_of
from cloudrift.theory.key import Key
from cloudrift.theory.naming import read_chord
from cloudrift.theory.pitch import name_to_pc

ROLL_TICKS = 200  # notes that start within it are one chord, rolled
SHORTEST_TICKS = 300  # what is shorter than a sixteenth and a bit is on its way to a chord
GRID_TICKS, LOOSE_TICKS = 240, 90  # starts this near to a sixteenth are on it
BLOCK_SHARE = 0.45  # of the time in which a whole chord sounds, for the music to be blocks
MAX_VOICES = 10
SHELF_TICKS = 3840  # stretches by which notes are found
SIGNATURE_WEIGHT = 6.0  # how much likelier a key is that the file's signature names
# Shapes that broken chords are heard as, and how much each must be preferred to count.
TEMPLATES: dict[tuple[int, ...], float] = {
    (0, 4, 7): 0.0, (0, 3, 7): 0.0, (0, 3, 6): -0.06, (0, 4, 8): -0.1, (0, 5, 7): -0.08,
    (0, 4, 7, 11): -0.05, (0, 3, 7, 10): -0.05, (0, 4, 7, 10): -0.05, (0, 3, 6, 10): -0.1,
    (0, 7): -0.12,
}  # fmt: skip
MANY_BEATS = 1024  # that are compared with all shapes at once
CHANGE_COST, OFF_BAR_COST = 0.22, 0.2


@dataclass(frozen=True, kw_only=True)
class FoundChord:
    """A chord found in notes: its place in ticks, its voices as they were played, its root."""

    start_tick: int
    length_ticks: int
    voices: tuple[int, ...]
    root: int

    @property
    def end_tick(self) -> int:
        """The first tick after it."""
        return self.start_tick + self.length_ticks


def find_chords(notes: Sequence[Note], metre: tuple[int, int] = (4, 4)) -> tuple[FoundChord, ...]:
    """Return the chords of some notes, in order, none overlapping another.

    Where whole chords sound most of the time, each change of what sounds is a chord with the
    voices that are played; else the notes of each beat are matched with chord shapes, and a chord
    takes the voices that its notes were played in. A chord lasts until the next, but not longer
    than the bar in which its own notes end.
    """
    if not notes:
        return ()
    segments = _sounding(notes)
    total = max(n.start_tick + n.length_ticks for n in notes) - min(n.start_tick for n in notes)
    whole = sum(b - a for a, b, held in segments if len({v % 12 for v in held}) >= 3)
    found = _blocks(segments, notes) if whole >= BLOCK_SHARE * total else _broken(notes, metre)
    found = _within_bars(_snapped(found), notes, bar_ticks(metre))
    key = guess_key(notes, found).key
    return tuple(
        FoundChord(start_tick=a, length_ticks=b - a, voices=v, root=read_chord(v, key).root)
        for a, b, v in found
    )


def is_chordal(notes: Sequence[Note]) -> bool:
    """Say whether notes are chords more than a tune: at most of their starts, three sound."""
    if not notes:
        return False
    starts = np.sort([note.start_tick for note in notes])
    ends = np.sort([note.start_tick + note.length_ticks for note in notes])
    sounding = np.searchsorted(starts, starts, "right") - np.searchsorted(ends, starts, "right")
    return bool(np.mean(sounding >= 3) > 0.5)


def guess_key(
    notes: Sequence[Note],
    chords: Sequence[tuple[int, int, tuple[int, ...]]] = (),
    signature: str = "",
) -> KeyGuess:
    """Guess the key of notes, with their chords if they are known, and a signature as in F#m.

    A chord is where it starts and ends, in ticks, and its voices, low to high.
    """
    weights = weights_of([(n.pitch,) for n in notes], [n.length_ticks for n in notes])
    ranked = guess_keys(weights)
    if chords:
        # Which of its notes is a chord's root may hang on the key: the notes alone tell that one.
        near = ranked[0].key
        ranked = guess_keys(
            weights,
            [
                HeardChord(frozenset(v % 12 for v in voices), read_chord(voices, near).root, b - a)
                for a, b, voices in chords
            ],
        )
    if signature:
        named = plain_key(
            name_to_pc(signature.removesuffix("m")), "minor" if signature.endswith("m") else "major"
        )
        shares = [g.confidence * _signed(g.key, named) for g in ranked]
        best = int(np.argmax(shares))
        return KeyGuess(ranked[best].key, shares[best] / max(sum(shares), 1e-12))
    return ranked[0]


def _signed(key: Key, named: Key) -> float:
    """How much likelier a key is where a signature names one: a mode of the same notes a little."""
    if (key.pc, key.mode) == (named.pc, named.mode):
        return SIGNATURE_WEIGHT
    modal = key.mode not in ("major", "minor") and set(key.scale) == set(named.scale)
    return float(SIGNATURE_WEIGHT**0.5) if modal else 1.0


_Segment = tuple[int, int, tuple[int, ...]]


def _snapped(found: list[_Segment]) -> list[_Segment]:
    """Put starts that are played a little early or late where they are meant."""

    def meant(tick: int) -> int:
        near = round(tick / GRID_TICKS) * GRID_TICKS
        return near if abs(near - tick) <= LOOSE_TICKS else tick

    out = [(meant(a), meant(b), v) for a, b, v in found[:-1] if meant(b) > meant(a)]
    for a, b, v in found[-1:]:  # with nothing after it, a stab is a chord as well
        out.append((meant(a), max(meant(b), meant(a) + GRID_TICKS), v))
    return out


def _within_bars(found: list[_Segment], notes: Sequence[Note], bar: int) -> list[_Segment]:
    """End each chord at the latest with the bar in which the last of its own notes ends.

    Rests and what is no chord belong to the chord before them, but not bars of them.
    """
    out = []
    near = _Near(notes)
    for a, b, voices in found:
        ends = [
            min(b, n.start_tick + n.length_ticks)
            for n in near.between(a, b)
            if n.pitch in voices and n.start_tick + n.length_ticks > a
        ]
        until = -(-(max(ends, default=b) - LOOSE_TICKS) // bar) * bar
        out.append((a, min(b, max(until, (a // bar + 1) * bar)), voices))
    return out


class _Near:
    """Finds the notes that may sound in a stretch without looking at all of them."""

    def __init__(self, notes: Sequence[Note]) -> None:
        self._shelves: dict[int, list[Note]] = {}
        for note in sorted(notes, key=lambda n: n.start_tick):
            first, last = note.start_tick, note.start_tick + note.length_ticks - 1
            for shelf in range(first // SHELF_TICKS, last // SHELF_TICKS + 1):
                self._shelves.setdefault(shelf, []).append(note)

    def between(self, a: int, b: int) -> list[Note]:
        """Return, by their starts, all notes that start before ``b`` and may still sound at ``a``.

        Among them may be some that have ended a little before.
        """
        first, out = a // SHELF_TICKS, []
        for shelf in range(first, (max(b, a + 1) - 1) // SHELF_TICKS + 1):
            for note in self._shelves.get(shelf, ()):
                # One that goes on over several shelves is taken from the first of them.
                if note.start_tick < b and shelf in (first, note.start_tick // SHELF_TICKS):
                    out.append(note)
        return out


def _clusters(notes: Sequence[Note]) -> list[int]:
    """Where notes start, those within a roll of each other counting as one start."""
    starts: list[int] = []
    for note in sorted(notes, key=lambda n: n.start_tick):
        if not starts or note.start_tick > starts[-1] + ROLL_TICKS:
            starts.append(note.start_tick)
    return starts


def _sounding(notes: Sequence[Note]) -> list[_Segment]:
    """From each start to the next: which pitches sound through most of it."""
    starts = _clusters(notes)
    end = max(n.start_tick + n.length_ticks for n in notes)
    out = []
    near = _Near(notes)
    for a, b in zip(starts, [*starts[1:], end], strict=True):
        held = []
        for note in near.between(a, b):
            begins = note.start_tick if note.start_tick > a + ROLL_TICKS else a
            overlap = min(note.start_tick + note.length_ticks, b) - max(begins, a)
            fresh = a <= note.start_tick <= a + ROLL_TICKS
            if note.start_tick <= a + ROLL_TICKS and (fresh or overlap >= 0.5 * (b - a)):
                held.append(note.pitch)
        if held:
            out.append((a, b, tuple(sorted(set(held)))))
    return out


def _blocks(segments: list[_Segment], notes: Sequence[Note]) -> list[_Segment]:
    """Join what is the same chord; what is no chord of its own belongs to the one before."""
    struck = {(n.pitch, start) for n in notes for start in _near(n.start_tick)}
    out: list[_Segment] = []
    for a, b, held in segments:
        pcs = {v % 12 for v in held}
        before = out[-1] if out else None
        if before is not None:
            old = {v % 12 for v in before[2]}
            same = pcs == old and held[0] % 12 == before[2][0] % 12
            # What is left when some notes end is no chord: a new one has a new lowest note.
            rest = pcs <= old and (held[0], _slot(a)) not in struck
            if same or rest or (len(pcs) < 3 and b - a < 4 * SHORTEST_TICKS):
                out[-1] = (before[0], b, before[2])
                continue
        out.append((a, b, _most(held)))
    joined: list[_Segment] = []
    for a, b, held in out:
        if b - a < SHORTEST_TICKS and joined:
            joined[-1] = (joined[-1][0], b, joined[-1][2])
        else:
            joined.append((a, b, held))
    ends = [n.start_tick + n.length_ticks for n in notes]
    last = joined[-1]
    joined[-1] = (last[0], max(ends), last[2])
    return joined


def _slot(tick: int) -> int:
    return tick // ROLL_TICKS


def _near(tick: int) -> tuple[int, int]:
    """The slots of the starts that a note may belong to: its own and one roll before it."""
    return _slot(tick), _slot(tick - ROLL_TICKS)


def _most(voices: tuple[int, ...]) -> tuple[int, ...]:
    """As many voices as a chord holds: doublings of the upper ones are let go first."""
    kept = list(voices)
    while len(kept) > MAX_VOICES:
        pcs = [v % 12 for v in kept]
        doubled = [i for i in range(1, len(kept)) if pcs.count(pcs[i]) > 1]
        del kept[doubled[-1] if doubled else len(kept) // 2]
    return tuple(kept)


def _broken(notes: Sequence[Note], metre: tuple[int, int]) -> list[_Segment]:
    beat, bar = beat_ticks(metre), bar_ticks(metre)
    first = min(n.start_tick for n in notes) // beat
    last = -(-max(n.start_tick + n.length_ticks for n in notes) // beat)
    heard = np.zeros((last - first, 12))
    for note in notes:
        for b in range(note.start_tick // beat, last):
            overlap = min((b + 1) * beat, note.start_tick + note.length_ticks) - max(
                b * beat, note.start_tick
            )
            if overlap <= 0:
                break
            heard[b - first, note.pitch % 12] += overlap
    near = _Near(notes)
    bass = _bass_of_beats(near, first, last, beat)
    path = chord_path(heard, bass, first, bar // beat)
    out: list[_Segment] = []
    start = 0
    for b in range(1, len(path) + 1):
        if b < len(path) and path[b] == path[start]:
            continue
        a, until = (first + start) * beat, (first + b) * beat
        pcs = chord_tones_of(path[start])
        inside = [n.pitch for n in near.between(a, until) if n.start_tick + n.length_ticks > a + 30]
        voices = sorted({p for p in inside if p % 12 in pcs})
        if voices:
            out.append((a, until, _most(tuple(voices))))
        start = b
    return out


def chord_tones_of(state: int) -> tuple[int, ...]:
    """Return the pitch classes of a shape of ``chord_path``, root first."""
    root, shape = divmod(state, len(TEMPLATES))
    return tuple((root + i) % 12 for i in list(TEMPLATES)[shape])


def _bass_of_beats(near: _Near, first: int, last: int, beat: int) -> list[int]:
    out = []
    for b in range(first, last):
        start, end = b * beat, (b + 1) * beat
        inside = [
            n.pitch for n in near.between(start, end) if n.start_tick + n.length_ticks > start
        ]
        out.append(min(inside) % 12 if inside else -1)
    return out


def _gains(
    heard: NDArray[np.float64],
    bass: NDArray[np.int64],
    masks: NDArray[np.float64],
    bonus: NDArray[np.float64],
) -> NDArray[np.float64]:
    """How well each shape stands for each beat, (beats, shapes); 0 where nothing is heard."""
    total = heard.sum(axis=1, keepdims=True)
    share = (heard / np.where(total > 0, total, 1)) @ masks.T
    # Notes of a shape that are not played make it less likely.
    played = (heard > 0.02 * np.maximum(total, 1)) @ masks.T / masks.sum(axis=1)
    roots = np.arange(len(masks)) // len(TEMPLATES)
    gain = share + 0.5 * played + bonus + 0.1 * (roots == bass[:, None])
    return np.where(total > 0, gain, 0.0)


def chord_path(
    heard: NDArray[np.float64], bass: list[int], first: int, beats_a_bar: int
) -> list[int]:
    """Return, for each beat, the chord shape that holds most of what is heard and changes little.

    ``heard`` is (beats, 12), ``bass`` the lowest pitch class of each beat (-1: none), ``first``
    the number of the first beat. ``chord_tones_of`` says what a shape stands for.
    """
    states = 12 * len(TEMPLATES)
    masks = np.zeros((states, 12))
    bonus = np.zeros(states)
    for state in range(states):
        masks[state, list(chord_tones_of(state))] = 1
        bonus[state] = list(TEMPLATES.values())[state % len(TEMPLATES)]
    best, itself = np.zeros(states), np.arange(states, dtype=np.int16)
    came: list[NDArray[np.int16]] = []
    for start in range(0, len(heard), MANY_BEATS):
        rows = heard[start : start + MANY_BEATS]
        lowest = np.asarray(bass[start : start + MANY_BEATS])
        for b, gain in enumerate(_gains(rows, lowest, masks, bonus), start):
            cost = CHANGE_COST + OFF_BAR_COST * ((first + b) % beats_a_bar != 0)
            leader = int(best.argmax())
            changed = best[leader] - cost
            came.append(np.where(changed > best, np.int16(leader), itself))
            best = np.maximum(best, changed) + gain
    path = [int(best.argmax())]
    for step in reversed(came[1:]):
        path.append(int(step[path[-1]]))
    return path[::-1]
