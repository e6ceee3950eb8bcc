"""Written and heard time: where a layer's notes are heard after its lines, and the way back."""

from collections.abc import Iterable
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from msgspec.structs import replace

from cloudrift.ground.lru import by_identity
from cloudrift.loop.model.chord import Chord
from cloudrift.loop.model.layer import Layer
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.sounding.rows import OCTAVE, Rows, moved, rows, wrapped
from cloudrift.notes.note import HIGHEST, LOWEST, Note
from cloudrift.texture.moves import Move
from cloudrift.texture.ride import BLEND
from cloudrift.texture.treatment import Line, Treatment, acting
from cloudrift.theory.key import Key

LEAST_SHARE = 0.5  # of a treatment's dry/wet, from which what it moves is what is heard


@dataclass(frozen=True)
class HeardTime:
    """What of a layer's written time is heard when, over a loop of ``ticks``, and how much higher.

    ``moves`` say which written ticks are heard from where to where; ``cents`` is added to all.
    """

    ticks: int
    moves: tuple[Move, ...]
    cents: float

    def at(self, tick: float) -> Move:
        """Return what is heard at a tick."""
        found = (x for x in self.moves if x.start <= tick < x.end)
        return next(found, self.moves[-1])

    def written(self, tick: float, pitch: int) -> tuple[float, int]:
        """Return which written tick and pitch is heard at a tick as a pitch."""
        move = self.at(tick)
        source = (move.source + move.speed * (tick - move.start)) % self.ticks
        return source, pitch - self.semitones(move)

    def key(self, key: Key) -> Key:
        """Return the key that notes of a written key are heard in."""
        return key.shifted(round(self.cents / 100) % 12)

    def semitones(self, move: Move) -> int:
        """Return by how many semitones, to the nearest, a stretch is heard higher."""
        return round((self.cents + OCTAVE * float(np.log2(abs(move.speed)))) / 100)

    def heard(self, notes: tuple[Note, ...]) -> tuple[Note, ...]:
        """Return notes where and as high as they are heard, under their ids.

        One may be heard several times, or in parts, or not at all.
        """
        return _heard(self, notes)

    def chords(self, chords: tuple[Chord, ...]) -> tuple[Chord, ...]:
        """Return chords where and as high as they are heard; parts of one are one after another."""
        notes = tuple(
            Note(start_tick=c.start_tick, length_ticks=c.length_ticks, pitch=60, velocity=90, id=i)
            for i, c in enumerate(chords)
        )
        out: list[Chord] = []
        for one in self.heard(notes):
            by, chord = one.pitch - 60, chords[one.id]
            voices = tuple(v + by for v in chord.voices if LOWEST <= v + by <= HIGHEST)
            if voices:
                out.append(
                    Chord(
                        id=f"h{len(out) + 1}", start_tick=one.start_tick,
                        length_ticks=one.length_ticks, voices=voices,
                        root=(chord.root + by) % 12,
                    )
                )  # fmt: skip
        return tuple(out)

    @property
    def unheard(self) -> tuple[tuple[float, float], ...]:
        """Return the written stretches that are not heard at all, in ticks."""
        edges = {0.0, float(self.ticks)}
        spans = []
        for x in self.moves:
            low, high = sorted((x.source, x.source + x.speed * (x.end - x.start)))
            for turn in range(int(low // self.ticks), int((high - 1e-6) // self.ticks) + 1):
                a, b = max(low - turn * self.ticks, 0.0), min(high - turn * self.ticks, self.ticks)
                spans.append((a, b))
                edges |= {a, b}
        out: list[tuple[float, float]] = []
        for a, b in pairwise(sorted(edges)):
            if b - a < 1 or any(low <= a + 0.5 <= high for low, high in spans):
                continue
            if out and out[-1][1] == a:
                out[-1] = (out[-1][0], b)
            else:
                out.append((a, b))
        return tuple(out)


@by_identity(32)
def _heard(time: HeardTime, notes: tuple[Note, ...]) -> tuple[Note, ...]:
    """``HeardTime.heard``: a picture asks for the same at each move of the mouse."""
    out = []
    table = _table(notes)
    table["cents"] += time.cents
    for row in wrapped(moved(table, time.moves, time.ticks), time.ticks):
        start, end = round(row["start"]), round(row["end"])
        pitch = round(row["cents"] / 100)
        if end > start and LOWEST <= pitch <= HIGHEST:
            note = notes[int(row["note"])]
            out.append(replace(note, start_tick=start, length_ticks=end - start, pitch=pitch))
    return tuple(sorted(out, key=lambda n: (n.start_tick, n.pitch)))


def _table(notes: tuple[Note, ...]) -> Rows:
    start, length, pitch = np.array(
        [(n.start_tick, n.length_ticks, n.pitch) for n in notes], float
    ).reshape(-1, 3).T  # fmt: skip
    return rows(
        len(notes), start=start, end=start + length, cents=100 * pitch, note=np.arange(len(notes))
    )


@by_identity(32)
def heard_time(loop: Loop, layer: Layer) -> HeardTime | None:
    """Return how a layer's time is heard; None where notes are heard as they are written."""
    group = loop.group(layer.group).line if layer.group else ()
    whole = (Move(0.0, float(loop.ticks), 0.0),)
    cuts = tuple(chord.start_tick for chord in loop.chords) or (0,)
    moves: tuple[Move, ...] = whole
    cents = 0.0
    for treatment in _moving((*layer.line, *group, *loop.line)):
        full = treatment.full
        cents += 100 * treatment.of.shift_st(full)
        if treatment.of.moves is not None:
            moves = _after(treatment.of.moves(full, loop.ticks, cuts), moves, loop.ticks)
    if (moves == whole and abs(cents) < 50) or not moves:
        return None
    return HeardTime(loop.ticks, moves, cents)


def _moving(line: Line) -> Iterable[Treatment]:
    """The treatments of a line whose moved sound is most of what is heard."""
    for treatment in acting(line):
        ride = treatment.ride_of(BLEND.name)
        share = treatment.blend if ride is None else ride.mean / 100
        if share >= LEAST_SHARE:
            yield treatment


def _after(outer: tuple[Move, ...], inner: tuple[Move, ...], ticks: int) -> tuple[Move, ...]:
    """Return what is heard of what goes in first through ``inner``, then through ``outer``."""
    out = []
    for one in outer:
        low, high = sorted((one.source, one.source + one.speed * (one.end - one.start)))
        for turn in range(int(low // ticks), int((high - 1e-6) // ticks) + 1):
            for other in inner:
                a = max(low, other.start + turn * ticks)
                b = min(high, other.end + turn * ticks)
                if b - a < 1e-6:
                    continue
                edge = a if one.speed > 0 else b  # that is heard first
                start = one.start + (edge - one.source) / one.speed
                end = start + (b - a) / abs(one.speed)
                source = other.source + (edge - turn * ticks - other.start) * other.speed
                out.append(
                    Move(start, end, source, one.speed * other.speed, one.gain_db + other.gain_db)
                )
    return tuple(sorted(out))
