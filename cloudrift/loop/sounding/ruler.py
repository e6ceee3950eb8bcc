"""The pitch ruler: what sounds when, in a loop or in one of its layers, beside what is written."""

from itertools import pairwise
from typing import NamedTuple

import numpy as np

from cloudrift.ground.lru import by_identity
from cloudrift.ground.words import number
from cloudrift.loop.model.chord import Chord
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.sounding.heard import OFF_CENTS, Heard, HeardChord, heard
from cloudrift.loop.sounding.rows import Rows, power_of, together
from cloudrift.loop.sounding.score import sounding
from cloudrift.loop.sounding.sources import BROKEN_SURE
from cloudrift.notes.time import bar_ticks
from cloudrift.theory import fit
from cloudrift.theory.key import Key
from cloudrift.theory.naming import read_chord
from cloudrift.theory.pitch import pretty

MOST_NOTES = 4  # that a bar of a line is named by
LEAST_SHARE = 0.12  # of a bar's power: what sounds less names nothing
SAID_CENTS = 5.0  # off the twelve notes by less, nobody is told


class RulerSpan(NamedTuple):
    """What sounds from one tick to another.

    ``text`` is the chord's name, or its notes' where they are of a line; ``pitches`` are in cents
    (MIDI number times 100), lowest first; ``cents`` is how far all of it is off the twelve notes.
    ``written`` names the chord that is written there and ``differs`` says whether that is another.
    ``layer`` is the loudest in which it sounds, ``number`` which chord of that layer's it is (-1:
    not known), ``sure`` (0-1) how surely it is known.
    """

    start_tick: int
    end_tick: int
    text: str
    pitches: tuple[float, ...]
    cents: float
    written: str
    differs: bool
    layer: str
    number: int = -1
    sure: float = 1.0

    @property
    def off_text(self) -> str:
        """How far it is off the twelve notes, where that can be heard: ``-40 cents``."""
        off = abs(self.cents) >= SAID_CENTS
        return f"{number(self.cents, '+.0f')} cents" if off else ""


@by_identity(64)
def ruler(loop: Loop, only: str = "") -> tuple[RulerSpan, ...]:
    """Return what sounds of a loop, or of one of its layers, over its length."""
    found = heard(loop, only)
    chords = [one for one in found.chords if not one.is_written]
    spans = [span for one in chords for span in _of_chord(loop, found.key, one)]
    if not spans:
        spans = _of_notes(loop, found, only)
    return tuple(_joined(spans))


def _of_chord(loop: Loop, key: Key, one: HeardChord) -> list[RulerSpan]:
    """A heard chord, cut where another begins that is written."""
    edges = {one.start_tick, one.end_tick}
    edges |= {c.start_tick for c in loop.chords if one.start_tick < c.start_tick < one.end_tick}
    text = read_chord(one.voices, key, root_hint=one.root).text
    pitches = tuple(100.0 * voice + one.cents for voice in sorted(one.voices))
    out = []
    for start, end in pairwise(sorted(edges)):
        chord = _written_at(loop, start)
        another = chord is not None and _is_another(one, chord)
        out.append(
            RulerSpan(
                start, end, text, pitches, one.cents, chord.read(loop.key).text if chord else "",
                another or abs(one.cents) > OFF_CENTS, one.layer, one.number, one.sure,
            )
        )  # fmt: skip
    return out


def _written_at(loop: Loop, tick: int) -> Chord | None:
    return next((c for c in loop.chords if c.start_tick <= tick < c.end_tick), None)


def _is_another(one: HeardChord, chord: Chord) -> bool:
    """Whether a chord is not the one that is written.

    One that has only some of its notes, or more of them, on the same root is the same.
    """
    sounds, written = ({v % 12 for v in voices} for voices in (one.voices, chord.sounding))
    if one.sure <= BROKEN_SURE:  # a bass, or a broken chord: any of its notes will do
        return not sounds & written
    return one.root != chord.root or not (sounds <= written or written <= sounds)


def _of_notes(loop: Loop, found: Heard, only: str) -> list[RulerSpan]:
    """Bar for bar the notes that sound most, where no chords are known."""
    layers = [x for x in loop.heard() if only in ("", x.id)]
    rows = together(sounding(loop, x).notes for x in layers)
    rows = rows[~np.isnan(rows["cents"])]
    if not len(rows):
        return []
    bar = bar_ticks(loop.metre)
    moved = fit.home_of(found.key) != fit.home_of(loop.key)
    out = []
    for start in range(0, loop.ticks, bar):
        pitches = _most(rows, start, start + bar)
        if not pitches:
            continue
        offs = [cents - 100 * round(cents / 100) for cents in pitches]
        cents = float(np.median(offs))
        chord = _written_at(loop, start)
        names = dict.fromkeys(pretty(found.key.spell(round(one / 100) % 12)) for one in pitches)
        out.append(
            RulerSpan(
                start, start + bar, " ".join(names), pitches, cents,
                chord.read(loop.key).text if chord else "",
                moved or abs(cents) > OFF_CENTS, only or layers[0].id,
            )
        )  # fmt: skip
    return out


def _most(rows: Rows, start: int, end: int) -> tuple[float, ...]:
    """The pitches that sound most from one tick to another, in cents, lowest first."""
    there = rows[(rows["end"] > start) & (rows["start"] < end)].copy()
    if not len(there):
        return ()
    there["start"], there["end"] = np.maximum(there["start"], start), np.minimum(there["end"], end)
    pitches, which = np.unique(np.round(there["cents"]), return_inverse=True)
    power = np.bincount(which.ravel(), power_of(there), len(pitches))
    best = np.argsort(-power)[:MOST_NOTES]
    return tuple(sorted(float(pitches[i]) for i in best if power[i] >= LEAST_SHARE * power.sum()))


def _joined(spans: list[RulerSpan]) -> list[RulerSpan]:
    """The same that goes on over what is written is one."""
    out: list[RulerSpan] = []
    for one in spans:
        last = out[-1] if out else None
        if last is None or one.number < 0 or last.end_tick != one.start_tick:
            out.append(one)
        elif one == last._replace(start_tick=one.start_tick, end_tick=one.end_tick):
            out[-1] = last._replace(end_tick=one.end_tick)
        else:
            out.append(one)
    return out
