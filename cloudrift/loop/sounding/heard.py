"""What is heard of a loop: its key, its chords and roots, how it is tuned, where layers disagree.

All of it is read from the score that is heard, weighted by how loud each part is.
"""

from itertools import pairwise
from typing import NamedTuple

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from cloudrift.ground.lru import by_identity
from cloudrift.loop.model.around import Root
from cloudrift.loop.model.loop import LineAt, Loop
from cloudrift.loop.sounding.rows import MODES, Rows, power_of, together
from cloudrift.loop.sounding.score import sounding
from cloudrift.loop.sounding.sources import BROKEN_SURE, Sounding
from cloudrift.texture.treatment import shift_st
from cloudrift.theory import fit
from cloudrift.theory.key import Key

AGREED = 0.5  # share of what sounds that must be of one key for that to be the loop's
PLAIN = 0.9  # how sure a key must be for files to be named by it
OFF_CENTS = 15.0  # that layers may be apart and still sound in tune
FAINT_DB = -30.0  # under the loudest layer: what is softer disagrees with nobody


class HeardChord(NamedTuple):
    """A chord that is heard: from one tick to another, its root (pitch class) and voices (MIDI).

    ``cents`` is how far it is from that pitch, ``sure`` (0-1) how surely it is known, ``layer`` the
    loudest in which it sounds and ``number`` which chord of that layer's it is.
    """

    start_tick: int
    end_tick: int
    root: int
    voices: tuple[int, ...]
    cents: float
    sure: float
    layer: str
    number: int

    @property
    def is_written(self) -> bool:
        """Whether it is only known from the chords that are written: no layer plays it."""
        return not self.layer


class LayerHeard(NamedTuple):
    """What is heard of one layer: its key, how far off the twelve notes it is, how loud it is.

    ``tonic`` is that of its key in cents over a C (not a number where it has none); ``sure`` is how
    surely the key is known; ``level_db`` is the mean over the loop.
    """

    id: str
    key: Key | None
    tonic: float
    cents: float
    sure: float
    level_db: float


class Disagreement(NamedTuple):
    """A layer that sounds in another key than the loop, or out of tune with it.

    ``cents`` is the shift that would join it to the others.
    """

    layer: str
    key: Key | None
    cents: float

    @property
    def is_tuning(self) -> bool:
        """Whether it is in the right key, but out of tune."""
        return abs(self.cents) < 50


class Heard(NamedTuple):
    """What is heard of a loop. ``sure`` (0-1) is how surely its key is known."""

    key: Key
    sure: float
    cents: float
    chords: tuple[HeardChord, ...]
    roots: tuple[Root, ...]
    layers: tuple[LayerHeard, ...]
    disagreements: tuple[Disagreement, ...]


@by_identity(256)
def heard(loop: Loop, only: str = "") -> Heard:
    """Return what is heard of a loop, or of one layer in it, without its groove bed.

    Where nothing with a pitch sounds it is what is written, gone along with the loop's line.
    """
    parts = [(x.id, sounding(loop, x)) for x in loop.heard() if only in ("", x.id)]
    parts = [(one, of) for one, of in parts if len(of.notes) or len(of.harmony)]
    line_st = _line_st(loop)
    # What only seems to be a chord counts where none is written.
    least = BROKEN_SURE if loop.chords else 0.0
    chords = _chords(parts, loop.ticks, least) or _written(loop, line_st)
    layers = tuple(_layer(one, of, loop) for one, of in parts)
    key, sure = _key(loop, parts, chords)
    cents = _in_tune(layers)
    return Heard(
        key=key,
        sure=sure,
        cents=cents,
        chords=chords,
        roots=tuple(Root(c.start_tick, c.end_tick, c.root) for c in chords),
        layers=layers,
        disagreements=_disagreements(layers, key, cents),
    )


def key_heard(loop: Loop) -> Key:
    """Return the key that a loop is heard in, as files are named by it.

    What listening is not sure of names nothing: then it is the key that is written, gone along with
    the loop's line.
    """
    found = heard(loop)
    if found.sure >= PLAIN or found.sure == 0:
        return found.key
    known = [one for one in found.layers if one.key is not None and one.sure >= PLAIN]
    return found.key if known else _written_key(loop)


def key_of_layers(loop: Loop) -> Key:
    """Return the key that a layer is to be in so that it sounds in the loop's: the whole loop's
    line, which it goes through as well, moves it from there.
    """
    return key_heard(loop).shifted(-round(_line_st(loop)) % 12)


@by_identity(64)
def key_entering(loop: Loop, at: LineAt) -> Key:
    """Return the key that what enters a line sounds in, for what is tuned to it there.

    That of the groove bed, and of its lanes, is the loop's as it sounds after its line.
    """
    if at is None:
        return key_heard(replace(loop, line=(), over=()))
    layers = loop.members(at)
    if at in {x.id for x in loop.layers}:
        layers = (replace(loop.layer(at), line=(), mute=False, parked=False),)
    elif at not in {x.id for x in loop.groups}:
        return key_heard(replace(loop, over=()))
    inside = tuple(replace(x, group="") for x in layers)
    return key_heard(replace(loop, layers=inside, groups=(), line=(), over=()))


def _line_st(loop: Loop) -> float:
    """How far all of it is moved, in semitones: by the loop's line, and what a section lays on."""
    return shift_st(loop.line, loop.line_blend) + shift_st(loop.over)


def _written_key(loop: Loop) -> Key:
    """The key that is written, gone along with the whole loop's line."""
    return loop.key.shifted(round(_line_st(loop)))


# --- chords ---------------------------------------------------------------------------------------


def _written(loop: Loop, line_st: float) -> tuple[HeardChord, ...]:
    by = round(line_st)
    return tuple(
        HeardChord(
            c.start_tick + c.late_ticks, c.end_tick, (c.root + by) % 12,
            tuple(voice + by for voice in c.sounding), 100 * (line_st - by), 1.0, "", i,
        )
        for i, c in enumerate(loop.chords)
    )  # fmt: skip


def _chords(parts: list[tuple[str, Sounding]], ticks: int, least: float) -> tuple[HeardChord, ...]:
    """The chords that are heard: at each moment that of the root for which most power speaks.

    What is known no more surely than ``least`` does not speak.
    """
    tables = [
        (of.harmony[~np.isnan(of.harmony["root"]) & (of.harmony["sure"] > least)], one, of)
        for one, of in parts
    ]
    tables = [table for table in tables if len(table[0])]
    if not tables:
        return ()
    rows = np.concatenate([table[0] for table in tables])
    owner = np.repeat(np.arange(len(tables)), [len(table[0]) for table in tables])
    start = np.clip(np.round(rows["start"]), 0, ticks).astype(int)
    end = np.clip(np.round(rows["end"]), 0, ticks).astype(int)
    edges = np.unique(np.concatenate([start, end]))
    power = 10 ** (rows["db"] / 10) * rows["sure"]
    root = np.round(rows["root"] / 100).astype(int) % 12
    first, last = np.searchsorted(edges, start), np.searchsorted(edges, end)
    votes = np.zeros((len(edges) + 1, 12))
    np.add.at(votes, (first, root), power)
    np.add.at(votes, (last, root), -power)
    votes = np.cumsum(votes, axis=0)[: len(edges) - 1]
    out: list[HeardChord] = []
    for i, (a, b) in enumerate(pairwise(edges)):
        if votes[i].max() <= power.max() * 1e-9:
            continue
        best = int(votes[i].argmax())
        there = np.flatnonzero((first <= i) & (last > i) & (root == best))
        row = int(there[power[there].argmax()])
        _table, layer, of = tables[owner[row]]
        out.append(_chord(int(a), int(b), best, rows[row], layer, of))
    return tuple(_together(out))


def _chord(start: int, end: int, root: int, row: Rows, layer: str, of: Sounding) -> HeardChord:
    chord = of.chords[int(row["note"])]
    moved = float(row["root"]) - 100 * chord.root
    by = round(moved / 100)
    return HeardChord(
        start_tick=start,
        end_tick=end,
        root=root,
        voices=tuple(voice + by for voice in chord.voices),
        cents=moved - 100 * by,
        sure=float(row["sure"]),
        layer=layer,
        number=int(row["note"]),
    )


def _together(chords: list[HeardChord]) -> list[HeardChord]:
    """The same chord that goes on is one."""
    out: list[HeardChord] = []
    for one in chords:
        last = out[-1] if out else None
        same = last is not None and (last.root, last.voices, last.number) == (
            one.root, one.voices, one.number
        )  # fmt: skip
        same = same and last is not None and abs(last.cents - one.cents) < 1
        if last is not None and same and last.end_tick == one.start_tick:
            out[-1] = last._replace(end_tick=one.end_tick)
        else:
            out.append(one)
    return out


# --- key ------------------------------------------------------------------------------------------


def _key(
    loop: Loop, parts: list[tuple[str, Sounding]], chords: tuple[HeardChord, ...]
) -> tuple[Key, float]:
    """The key for which most of what sounds speaks, and how surely; from the notes where none does.

    Keys of the same notes speak for each other.
    """
    rows = together(of.harmony for _one, of in parts)
    rows = rows[rows["mode"] >= 0]
    if not len(rows):
        return _written_key(loop), 1.0
    power = power_of(rows) * rows["sure"]
    tonic = np.round(rows["tonic"] / 100).astype(int) % 12
    names, which = np.unique(np.stack([tonic, rows["mode"]], axis=1), axis=0, return_inverse=True)
    which = which.ravel()
    speaks = np.bincount(which, power, len(names))
    keys = [_spelled(loop.key, int(pc), MODES[int(mode)]) for pc, mode in names]
    homes = np.array([fit.home_of(key) for key in keys])
    shares = np.bincount(homes, speaks, 12) / max(float(speaks.sum()), 1e-30)
    home = int(shares.argmax())
    sure = float(np.average(rows["sure"], weights=np.maximum(power, 1e-30)))
    if shares[home] >= AGREED:
        of_home = np.flatnonzero(homes == home)
        return keys[int(of_home[speaks[of_home].argmax()])], sure
    weights = _weights(parts, chords)
    row = [fit.HeardChord(frozenset(v % 12 for v in c.voices), c.root, c.end_tick - c.start_tick)
           for c in chords]  # fmt: skip
    guess = fit.guess_keys(weights, row)[0]
    return _spelled(loop.key, guess.key.pc, guess.key.mode), sure * guess.confidence


def _spelled(written: Key, pc: int, mode: str) -> Key:
    """Return a key spelled as the written one would be there."""
    if mode == written.mode:
        return written.shifted((pc - written.pc) % 12)
    return fit.plain_key(pc, mode)


def _weights(
    parts: list[tuple[str, Sounding]], chords: tuple[HeardChord, ...]
) -> NDArray[np.float64]:
    """How much each pitch class sounds: in notes, and in the chords where no note is known."""
    out = np.zeros(12)
    for _one, of in parts:
        notes = of.notes[~np.isnan(of.notes["cents"])]
        power = power_of(notes) * notes["sure"]
        out += np.bincount(np.round(notes["cents"] / 100).astype(int) % 12, power, 12)
    if not out.any():
        for chord in chords:
            for voice in chord.voices:
                out[voice % 12] += chord.end_tick - chord.start_tick
    return out


# --- layers ---------------------------------------------------------------------------------------


def _layer(layer_id: str, of: Sounding, loop: Loop) -> LayerHeard:
    rows = of.harmony[of.harmony["mode"] >= 0] if len(of.harmony) else of.harmony
    key, tonic, sure = None, float("nan"), 1.0
    if len(rows):
        power = power_of(rows)
        exact = np.round(rows["tonic"]).astype(int) * len(MODES) + rows["mode"]
        names, which = np.unique(exact, return_inverse=True)
        best = names[np.bincount(which.ravel(), power).argmax()]
        tonic, mode = float(best // len(MODES)), int(best % len(MODES))
        key = _spelled(loop.key, round(tonic / 100) % 12, MODES[mode])
        sure = float(rows["sure"].min())
    sounds = of.notes if len(of.notes) else of.harmony
    power = power_of(sounds) / loop.ticks
    pitched = ~np.isnan(sounds["cents"])
    cents = _mean_off(sounds["cents"][pitched], power[pitched])
    if not pitched.any() and key is not None:
        cents = tonic - 100 * round(tonic / 100)
    level = float(10 * np.log10(max(float(power.sum()), 1e-12)))
    return LayerHeard(layer_id, key, tonic, cents, sure, level)


def _loud(layers: tuple[LayerHeard, ...]) -> list[LayerHeard]:
    most = max((one.level_db for one in layers), default=0.0)
    return [one for one in layers if one.level_db > most + FAINT_DB]


def _in_tune(layers: tuple[LayerHeard, ...]) -> float:
    """How far off the twelve notes most of what sounds is, in cents."""
    power = np.array([10 ** (one.level_db / 10) for one in layers])
    return round(_mean_off(np.array([one.cents for one in layers]), power), 3)


def _mean_off(cents: NDArray[np.float64], power: NDArray[np.float64]) -> float:
    """The mean of how far pitches are off the twelve notes, round the semitone, in cents."""
    turn = np.exp(2j * np.pi * cents / 100) @ power
    return float(np.angle(turn)) / (2 * np.pi) * 100 if abs(turn) > 0 else 0.0


def _disagreements(
    layers: tuple[LayerHeard, ...], key: Key, cents: float
) -> tuple[Disagreement, ...]:
    """The layers that sound in another key, or further off than is in tune."""
    out = []
    for one in _loud(layers):
        off = (cents - one.cents + 50) % 100 - 50
        steps = 0
        if one.key is not None and fit.home_of(one.key) != fit.home_of(key):
            steps = (fit.home_of(key) - fit.home_of(one.key) + 6) % 12 - 6
        if steps or abs(off) > OFF_CENTS:
            out.append(Disagreement(one.id, one.key, round(100 * steps + off, 1)))
    return tuple(out)
