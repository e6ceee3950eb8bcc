"""What the picture of a flip shows, and where: without Qt."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from cloudrift.desktop.kit.time_axis import TimeAxis
from cloudrift.ground.words import number
from cloudrift.loop.model.flip import MOST_TICKS, Flipped, SlicePlacement, letters_of
from cloudrift.notes.time import bar_ticks, beat_ticks
from cloudrift.theory.key import Key
from cloudrift.theory.naming import read_chord

COLORS = ("keys", "pad", "pluck", "lead", "strings", "voice", "bell", "grain", "bass")
EDGE_PX, THREAD_PX = 4.0, 6.0
LEAST_BAR_PX = 90.0  # from one bar that is numbered to the next


@dataclass(frozen=True)
class FlipModel:
    """A flip in a loop of some length, on an axis that both rows share."""

    flip: Flipped
    axis: TimeAxis
    metre: tuple[int, int]
    key: Key
    heard: int = MOST_TICKS  # of it in its loop, in ticks

    @cached_property
    def colors(self) -> tuple[str, ...]:
        """The colour of each piece: that of its chord, or one after another."""
        known: dict[tuple[int, ...], str] = {}
        out = []
        for i, cut in enumerate(self.flip.cuts):
            chord = self.flip.chord_at(cut)
            if chord is None:
                out.append(COLORS[i % len(COLORS)])
                continue
            if chord.voices not in known:
                known[chord.voices] = COLORS[len(known) % len(COLORS)]
            out.append(known[chord.voices])
        return tuple(out)

    def chord_text(self, tick: int) -> str:
        """Return the name of the chord at a tick of the print, empty where none is known."""
        chord = self.flip.chord_at(tick)
        if chord is None:
            return ""
        return read_chord(chord.voices, self.key, root_hint=chord.root).text

    def piece_of(self, place: SlicePlacement) -> int:
        """Return the number of the piece that a place plays from."""
        return self.flip.piece_at(place.from_tick)

    def letters(self, place: SlicePlacement) -> str:
        """Return the letters of the piece that a place plays from."""
        return letters_of(self.piece_of(place))

    def short(self, place: SlicePlacement) -> tuple[str, str]:
        """Write a place in few signs: its letters with − for backward; how often, how high."""
        parts = [f"×{place.times}"] if place.times > 1 else []
        parts += [number(place.semitones, "+g")] if place.semitones else []
        return self.letters(place) + "−" * place.backward, " ".join(parts)

    def place_text(self, place: SlicePlacement) -> str:
        """Say what a place does to its piece, as far as it does anything."""
        parts = ["reversed"] if place.backward else []
        parts += [f"{place.times} times"] if place.times > 1 else []
        if place.semitones:
            parts.append(f"{number(place.semitones, '+g')} st" + (" tape" if place.tape else ""))
        parts += [f"{number(place.level_db, '+.1f')} dB"] if place.level_db else []
        slower = place.length_ticks / place.times / place.from_ticks
        parts += [f"{slower:.3g} times as long"] if place.fills and slower != 1 else []
        parts += ["off"] if place.mute else []
        return ", ".join(parts)

    def piece_at(self, x: float) -> int | None:
        """Return the piece above at a pixel."""
        tick = self.axis.tick_at(x)
        return self.flip.piece_at(int(tick)) if 0 <= tick < self.flip.length_ticks else None

    def place_at(self, x: float) -> int | None:
        """Return the place below at a pixel; None for a gap."""
        tick = self.axis.tick_at(x)
        found = (i for i, p in enumerate(self.flip.places) if p.at_tick <= tick < p.end_tick)
        return next(found, None)

    def thread_x(self, place: SlicePlacement, down: float) -> float:
        """Return where a place's thread is, a share of the way down from its piece."""
        start = self.axis.at_x(place.from_tick + place.from_ticks / 2)
        end = self.axis.at_x(place.at_tick + place.length_ticks / 2)
        # Its bends lie half way down (``Threads``), so the way down says where along it that is.
        t = np.linspace(0, 1, 65)
        way = 1.5 * (1 - t) ** 2 * t + 1.5 * (1 - t) * t**2 + t**3
        at = float(np.interp(down, way, t))
        share = 3 * (1 - at) * at**2 + at**3
        return start + (end - start) * share

    def thread_near(self, x: float, down: float) -> int | None:
        """Return the place whose thread is within a few pixels."""
        away = [abs(self.thread_x(place, down) - x) for place in self.flip.places]
        near = min(range(len(away)), key=away.__getitem__, default=None)
        return near if near is not None and away[near] <= THREAD_PX else None

    def cut_near(self, x: float) -> int | None:
        """Return the cut within a few pixels, the first excepted."""
        cuts = self.flip.cuts[1:]
        near = min(cuts, key=lambda cut: abs(self.axis.at_x(cut) - x), default=None)
        return near if near is not None and abs(self.axis.at_x(near) - x) <= EDGE_PX else None

    def snapped(self, tick: float) -> int:
        """Return the nearest place that a piece may begin at: a cut, a place or a half beat."""
        half, total = beat_ticks(self.metre) // 2, self.flip.length_ticks
        even = min(max(round(tick / half), 0), (total - 1) // half) * half
        grid = {*self.flip.cuts, *(place.at_tick for place in self.flip.places), even}
        return min((t for t in grid if t < total), key=lambda t: (abs(t - tick), t))

    def spans(self) -> list[tuple[int, int, str]]:
        """Return the spans of the print that have a label: start, end and name."""
        edges = [*(label.at_tick for label in self.flip.labels), self.flip.length_ticks]
        return [
            (label.at_tick, end, label.name)
            for label, end in zip(self.flip.labels, edges[1:], strict=True)
        ]

    def bars_named(self) -> list[tuple[int, int]]:
        """Return the bars whose number has room beside the chords, and where they begin."""
        bar = bar_ticks(self.metre)
        each = next((n for n in (1, 2, 4, 8, 16) if self.axis.px(n * bar) >= LEAST_BAR_PX), 32)
        return [(i + 1, i * bar) for i in range(0, -(-self.flip.long_ticks // bar), each)]


def words_of(flip: Flipped) -> str:
    """Say in a line what is in a flip."""
    backward = sum(place.backward for place in flip.places)
    covered = sum(place.length_ticks for place in flip.places if not place.mute)
    silent = 1 - covered / max(1, flip.length_ticks)
    parts = [f"{len(flip.cuts)} pieces above", f"{len(flip.places)} below"]
    parts += [f"{backward} reversed"] if backward else []
    parts += [f"{round(100 * silent)} % silent"] if silent > 0.005 else []
    return " · ".join(parts)


def wave_of(audio: NDArray[np.float32], columns: int) -> NDArray[np.float32]:
    """Return how loud each column of a sound is, (columns,), the loudest 1."""
    mono = np.abs(audio).max(axis=0)
    if not len(mono):
        return np.zeros(columns, np.float32)
    edges = np.linspace(0, len(mono), columns + 1).astype(int)[:-1]
    out = np.maximum.reduceat(mono, np.minimum(edges, len(mono) - 1))
    return np.asarray(out / max(float(out.max()), 1e-6), np.float32)


def wave_in(
    wave: NDArray[np.float32], place: SlicePlacement, total: int, columns: int
) -> NDArray[np.float32]:
    """Return the loudness over a place: of what plays there, turned round, struck again."""
    n = len(wave)
    share = np.linspace(0, 1, max(columns, 2), endpoint=False)
    ticks = share * place.times % 1.0 * place.length_ticks / place.times
    speed = 2 ** (place.semitones / 12) if place.tape else 1.0
    if place.fills:
        speed = place.from_ticks / (place.length_ticks / place.times)
    ticks = ticks * speed
    there = ticks < place.from_ticks
    at = place.end_from - ticks if place.backward else place.from_tick + ticks
    index = np.clip((at / max(1, total) * n).astype(int), 0, n - 1)
    return np.asarray(np.where(there, wave[index], 0.0) * (0.25 if place.mute else 1.0), np.float32)
