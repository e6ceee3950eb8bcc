"""Chords for notes that are none: what could be played under a tune, or over a bass.

Each span of time takes a triad of the key; a path through all of them holds most of what sounds
and moves as chords usually do (dynamic programming after Viterbi, 1967).
"""

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from cloudrift.notes.note import Note
from cloudrift.theory.chord import chord_tones
from cloudrift.theory.key import Key
from cloudrift.theory.symbols import WrittenChord

# What a note says for a chord, by how long it sounds in the span: a tune's note in the chord, or
# not; a bass note that is its root, third, fifth, or none of them.
IN_CHORD, OUT_OF_CHORD = 1.0, -0.5
BASS_SAYS, BASS_OTHER, BASS_WEIGHT = (1.0, 0.35, 0.2), -0.8, 2.0
ON_THE_BEAT = 1.6  # how much more a note counts that begins where its span does
DIMINISHED, BORROWED_FIVE = -0.35, -0.1
STAYS, FALLS_A_FIFTH, HOME_FIRST = -0.12, 0.2, 0.15


@dataclass(frozen=True)
class _Triad:
    tones: tuple[int, ...]
    bias: float = 0.0


def harmonised(
    tune: Sequence[Note], bass: Sequence[Note], key: Key, *, ticks: int, span: int, bar: int
) -> tuple[WrittenChord, ...]:
    """Return chords under a tune and over a bass (either may be empty).

    Parameters
    ----------
    ticks : how long the loop is; it goes round, so the last chord leads to the first.
    span : how often a chord may change, in ticks; ``bar`` is a bar's.
    """
    triads = _triads(key)
    count = -(-ticks // span)
    says = np.zeros((count, len(triads)))
    for notes, weight in ((tune, 1.0), (bass, BASS_WEIGHT)):
        for at in range(count):
            says[at] += weight * _says(notes, triads, at * span, span, is_bass=notes is bass)
    says += [one.bias for one in triads]
    path = _path(says, triads)
    out: list[WrittenChord] = []
    for at, state in enumerate(path):
        lasts = Fraction(min(span, ticks - at * span), bar)
        low = _lowest(bass, triads[state].tones, at * span, span)
        before = out[-1] if out else None
        if before is not None and (before.tones, before.bass) == (triads[state].tones, low):
            assert before.bars is not None
            out[-1] = WrittenChord(tones=before.tones, bass=low, bars=before.bars + lasts)
        else:
            out.append(WrittenChord(tones=triads[state].tones, bass=low, bars=lasts))
    return tuple(out)


def _triads(key: Key) -> list[_Triad]:
    """The key's own triads, and in minor the major one on its fifth."""
    found = []
    for degree in range(1, 8):
        tones = chord_tones(key, degree)
        perfect = (tones[2] - tones[0]) % 12 == 7
        found.append(_Triad(tones, 0.0 if perfect else DIMINISHED))
    root, third, fifth = found[4].tones
    if (third - root) % 12 == 3:
        found.append(_Triad((root, (root + 4) % 12, fifth), BORROWED_FIVE))
    return found


def _says(
    notes: Sequence[Note], triads: list[_Triad], start: int, span: int, *, is_bass: bool
) -> NDArray[np.float64]:
    """How well each triad goes with the notes of a span: a mean over what sounds in it."""
    found, whole = np.zeros(len(triads)), 0.0
    for note in notes:
        inside = min(note.end_tick, start + span) - max(note.start_tick, start)
        if inside <= 0 or note.muted:
            continue
        weight = inside * (ON_THE_BEAT if note.start_tick == start else 1.0)
        whole += weight
        for i, triad in enumerate(triads):
            found[i] += weight * _one_says(note.pitch % 12, triad.tones, is_bass=is_bass)
    return found / whole if whole else found


def _one_says(pc: int, tones: tuple[int, ...], *, is_bass: bool) -> float:
    if is_bass:
        return BASS_SAYS[tones.index(pc)] if pc in tones else BASS_OTHER
    return IN_CHORD if pc in tones else OUT_OF_CHORD


def _path(says: NDArray[np.float64], triads: list[_Triad]) -> list[int]:
    roots = [one.tones[0] for one in triads]
    moves = np.array(
        [
            [STAYS if a == b else FALLS_A_FIFTH if (a - b) % 12 == 7 else 0.0 for b in roots]
            for a in roots
        ]
    )
    best = says[0] + np.where(np.array(roots) == roots[0], HOME_FIRST, 0.0)
    came = []
    for row in says[1:]:
        through = best[:, None] + moves
        came.append(through.argmax(axis=0))
        best = through.max(axis=0) + row
    best = best + moves[:, 0]  # it goes round, and home
    path = [int(best.argmax())]
    for step in reversed(came):
        path.append(int(step[path[-1]]))
    return path[::-1]


def _lowest(bass: Sequence[Note], tones: tuple[int, ...], start: int, span: int) -> int | None:
    """The chord tone that a bass begins a span with, where that is not the root."""
    first = min(
        (n for n in bass if start <= n.start_tick < start + span),
        key=lambda n: n.start_tick,
        default=None,
    )
    low = None if first is None else first.pitch % 12
    return low if low in tones[1:] else None
