"""Notes as columns: thousands of them go through a line of treatments at once.

Time is in ticks of the loop, pitch in cents (MIDI number times 100), level in dB against full
scale, as loud as an integrated loudness says. A row that goes over the loop's end is two.
"""

from collections.abc import Iterable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import to_db
from cloudrift.texture.moves import Move
from cloudrift.texture.ride import BLEND
from cloudrift.texture.treatment import Line, acting, time_ratio
from cloudrift.theory.key import SCALES

MODES = tuple(SCALES)
# ``root`` and ``tonic``: those of the chord and the key that a note belongs to, in cents over a C,
# not a number where there is none. ``note`` is its number in its source, ``place`` that of the
# piece that it is heard in, ``who`` that of the voice of a print; -1 where there is none.
ROW = np.dtype([
    ("start", "f8"), ("end", "f8"), ("cents", "f8"), ("db", "f8"), ("root", "f8"),
    ("tonic", "f8"), ("mode", "i2"), ("sure", "f8"), ("note", "i4"), ("place", "i4"), ("who", "i4"),
])  # fmt: skip
Rows = NDArray[Any]
SHORTEST_TICKS = 4.0  # what is left of a note and shorter can't be heard
FAINTEST_DB = -90.0
OCTAVE = 1200.0
AS_IT_IS = (0.0, 0.0)  # a pitch that a treatment leaves: semitones from it, dB


def rows(count: int, **columns: Any) -> Rows:
    """Return that many rows; columns that are not given say that there is none."""
    out = np.zeros(count, ROW)
    for name, none in (("root", np.nan), ("tonic", np.nan), ("sure", 1.0), ("note", -1),
                       ("place", -1), ("who", -1), ("mode", -1)):  # fmt: skip
        out[name] = none
    for name, values in columns.items():
        out[name] = values
    return out


def none() -> Rows:
    """Return no rows."""
    return rows(0)


def together(parts: Iterable[Rows]) -> Rows:
    """Return all rows of several tables."""
    found = [part for part in parts if len(part)]
    return np.concatenate(found) if found else none()


def power_of(of: Rows) -> NDArray[np.float64]:
    """Return how much sounds of each row: its power times how long it lasts, in ticks."""
    return np.asarray(10 ** (of["db"] / 10) * (of["end"] - of["start"]), np.float64)


def shifted(of: Rows, cents: float, db: float = 0.0) -> Rows:
    """Return rows at another pitch and level; the chord and the key that they are of go along."""
    if not cents and not db:
        return of
    out = of.copy()
    _shift(out, cents)
    out["db"] += db
    return out


def _shift(of: Rows, cents: Any) -> None:
    for name in ("cents", "root", "tonic"):
        of[name] += cents


def wrapped(of: Rows, ticks: float) -> Rows:
    """Return rows that lie in a loop of that many ticks: what goes over its end is two."""
    if not len(of):
        return of
    turns = np.floor(of["start"] / ticks) * ticks
    over = of["end"] - turns > ticks + 1e-6
    if not turns.any() and not over.any():
        return of
    out = of.copy()
    out["start"] -= turns
    out["end"] -= turns
    rest = out[over].copy()
    rest["start"], rest["end"] = 0.0, np.minimum(rest["end"] - ticks, ticks)
    out["end"] = np.minimum(out["end"], ticks)
    return np.concatenate([out, rest])


def moved(of: Rows, moves: tuple[Move, ...], ticks: float = 0) -> Rows:
    """Return what is heard of rows where other moments of them are heard than come in.

    What comes in goes round every so many ticks; 0: there is silence before and after it.
    """
    if not len(of) or not moves:
        return none()
    start, end, source, speed, gain = (
        np.array(column, float) for column in zip(*moves, strict=True)
    )
    reach = speed * (end - start)
    low, high = source + np.minimum(reach, 0), source + np.maximum(reach, 0)
    if ticks and (low.min() < -1e-6 or high.max() > ticks + 1e-6):
        turns = range(int(np.floor(low.min() / ticks)), int(np.ceil(high.max() / ticks)))
        of = np.concatenate([_later(of, turn * ticks) for turn in turns])
    first = np.maximum(low[:, None], of["start"])
    last = np.minimum(high[:, None], of["end"])
    which, row = np.nonzero(last - first > SHORTEST_TICKS * np.abs(speed)[:, None])
    first, last = first[which, row], last[which, row]
    out = of[row]
    fast = speed[which]
    ahead = np.where(fast > 0, first - source[which], source[which] - last) / np.abs(fast)
    out["start"] = start[which] + ahead
    out["end"] = out["start"] + (last - first) / np.abs(fast)
    out["db"] += gain[which]
    _shift(out, OCTAVE * np.log2(np.abs(fast)))
    return joined(out)


def _later(of: Rows, ticks: float) -> Rows:
    if not ticks:
        return of
    out = of.copy()
    out["start"] += ticks
    out["end"] += ticks
    return out


def joined(of: Rows) -> Rows:
    """Return rows with the parts of a note that meet put together again."""
    if len(of) < 2:
        return of
    order = np.lexsort((of["start"], np.round(of["db"], 2), np.round(of["cents"]), of["place"],
                        of["note"], of["who"]))  # fmt: skip
    of = of[order]
    same = np.ones(len(of) - 1, bool)
    for name, near in (("who", 0), ("note", 0), ("place", 0), ("cents", 0.5), ("db", 0.01)):
        same &= np.abs(of[name][1:] - of[name][:-1]) <= near
    meets = same & (np.abs(of["start"][1:] - of["end"][:-1]) < 1.0)
    if not meets.any():
        return of
    begins = np.concatenate([[True], ~meets])
    out = of[begins]
    out["end"] = np.maximum.reduceat(of["end"], np.flatnonzero(begins))
    return out


def through(of: Rows, line: Line, blend: float, ticks: int, cuts: tuple[int, ...]) -> Rows:
    """Return what is heard of rows after a line of treatments.

    ``blend`` is the line's dry/wet, ``cuts`` are the chords' starts, in ticks. Where part of the
    dry sound is left beside what was moved, both are heard.
    """
    out = of
    for treatment in acting(line):
        kind, full = treatment.of, treatment.full
        shift = OCTAVE / 12 * kind.shift_st(full)
        pitches = kind.pitches(full) if kind.pitches else (AS_IT_IS,)
        moves = kind.moves(full, ticks, cuts) if kind.moves else None
        if not shift and moves is None and pitches == (AS_IT_IS,):
            continue
        wet = wrapped(moved(out, moves, ticks), ticks) if moves is not None else out
        wet = shifted(wet, shift)
        wet = together(_beside(wet, st, db) for st, db in pitches)
        ride = treatment.ride_of(BLEND.name)
        share = treatment.blend if ride is None else ride.mean / 100
        kept = len(pitches) > 1 and pitches[0] == AS_IT_IS  # what comes in goes on beside it
        if share < 1 and kind.time_ratio(full) == 1:
            if kept:
                more = together(_beside(out, st, db) for st, db in pitches[1:])
                wet = together([out, shifted(more, 0, to_db(share))])
            else:
                wet = together([shifted(out, 0, to_db(1 - share)), shifted(wet, 0, to_db(share))])
        out = wet
    if blend < 1 and out is not of and time_ratio(line) == 1:
        out = together([shifted(of, 0, to_db(1 - blend)), shifted(out, 0, to_db(blend))])
    return out[out["db"] > FAINTEST_DB] if out is not of else out


def _beside(of: Rows, semitones: float, db: float) -> Rows:
    """Return rows at another pitch beside themselves: of the same chord, in the same key."""
    if not semitones:
        return shifted(of, 0, db)
    out = of.copy()
    out["cents"] += 100 * semitones
    out["db"] += db
    return out
