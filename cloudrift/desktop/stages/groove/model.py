"""What the picture of the hit lanes shows, and where: without Qt."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from cloudrift.desktop.kit.time_axis import TimeAxis
from cloudrift.ground.words import number
from cloudrift.loop.model.around import SourceContext
from cloudrift.loop.model.bed import hits_of
from cloudrift.loop.model.hits import Hit, root_at
from cloudrift.loop.model.layer import Layer
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.sounding import around_bed, key_heard
from cloudrift.notes.time import Clock, bar_ticks, beat_ticks
from cloudrift.render.measure.strokes import STEP_TICKS, Strengths, folded
from cloudrift.theory.pitch import pretty

NAMES_PX, TOP_PX, PAD_PX = 112.0, 44.0, 8.0
ROW_PX, MOST_ROW_PX = 34.0, 80.0  # how high a lane is at least, and at most
GUIDE_PX = 20.0  # how high the loop's own strokes stand
STROKE_PX, REACH_PX = 4.0, 5.0
MOST_BARS = 4  # shown at once
LOUDEST = 127
WORDS_PX = 28.0  # that the name of a note takes
LEAST_SHOWN = 0.08  # of the strongest stroke of the loop


@dataclass(frozen=True)
class LanesModel:
    """The lanes of a bed over some bars of the pattern that they play."""

    loop: Loop
    first_bar: int
    width: float
    strengths: Strengths  # of the loop, at each sixteenth
    row_px: float = ROW_PX  # how high a lane is

    @property
    def lanes(self) -> tuple[Layer, ...]:
        """The lanes, from above."""
        return self.loop.lanes

    @cached_property
    def bar(self) -> int:
        """How many ticks a bar has."""
        return bar_ticks(self.loop.metre)

    @cached_property
    def bars(self) -> int:
        """How many bars the longest of the patterns has."""
        return max((hits_of(x).pattern.bars for x in self.lanes), default=2)

    @property
    def shown(self) -> int:
        """How many of them are shown."""
        return min(self.bars, MOST_BARS)

    @cached_property
    def axis(self) -> TimeAxis:
        """Where a tick of the pattern is."""
        pixels = max(1.0, self.width - NAMES_PX - PAD_PX)
        return TimeAxis(NAMES_PX, pixels, self.shown * self.bar, self.first_bar * self.bar)

    @cached_property
    def around(self) -> SourceContext:
        """What lanes know of the loop."""
        return around_bed(self.loop)

    @property
    def height(self) -> float:
        """How high the picture is."""
        return TOP_PX + self.row_px * max(len(self.lanes), 1) + 6

    @property
    def words(self) -> str:
        """Which bars are shown."""
        last = self.first_bar + self.shown
        if self.bars == 1:
            return "1 bar, repeating"
        return f"bars {self.first_bar + 1} to {last} of {self.bars}"

    def beats(self) -> list[tuple[int, str]]:
        """Return the beats that are shown: their ticks, and what they are called."""
        beat = beat_ticks(self.loop.metre)
        first = int(self.axis.first)
        ticks = range(first, first + int(self.axis.ticks), beat)
        return [(tick, f"{tick // self.bar + 1}.{tick % self.bar // beat + 1}") for tick in ticks]

    def guide(self) -> list[tuple[int, float]]:
        """Return where the loop strikes in the pattern, and how strongly (0 to 1)."""
        strengths = folded(self.strengths, self.bars, self.loop.metre)
        strong = np.flatnonzero(strengths > LEAST_SHOWN)
        return [(int(i) * STEP_TICKS, float(strengths[i])) for i in strong]

    # --- lanes --------------------------------------------------------------------------------

    def row_top(self, row: int) -> float:
        """Return the upper edge of a lane."""
        return TOP_PX + row * self.row_px

    def row_at(self, y: float) -> int:
        """Return the lane at a height; the nearest where there is none."""
        return min(max(int((y - TOP_PX) // self.row_px), 0), len(self.lanes) - 1)

    def velocity_at(self, row: int, y: float) -> int:
        """Return the loudness that a height in a lane means."""
        share = (self.row_top(row) + self.row_px - 4 - y) / (self.row_px - 8)
        return min(max(round(share * LOUDEST), 1), LOUDEST)

    def high(self, hit: Hit) -> float:
        """Return how many pixels high a hit is drawn."""
        return 3 + (self.row_px - 11) * hit.velocity / LOUDEST

    # --- hits ---------------------------------------------------------------------------------

    def hits(self, row: int) -> tuple[Hit, ...]:
        """Return the hits of a lane's pattern."""
        return hits_of(self.lanes[row]).pattern.hits

    def x_of(self, row: int, hit: Hit) -> float:
        """Return where a hit is drawn: where it is written, leant by as much as it is played off.

        What all share (swing, feel) is not drawn: strokes stand on the grid that they are on. One
        that is played before the first beat stands at that.
        """
        late_ms = hit.late_ms + hits_of(self.lanes[row]).late_ms
        clock = Clock.of(self.loop.sounding_tempo, self.loop.rate)
        ticks = late_ms * 1e-3 / clock.seconds(1) if late_ms else 0.0
        return max(
            float(self.axis.at_x(hit.tick + ticks)),
            NAMES_PX if hit.tick >= self.axis.first else -1.0,
        )

    def hit_at(self, row: int, x: float) -> int | None:
        """Return the number of the hit of a lane at a place."""
        hits = self.hits(row)
        near = [(abs(self.x_of(row, hit) - x), i) for i, hit in enumerate(hits)]
        return min(near)[1] if near and min(near)[0] <= REACH_PX else None

    def length_px(self, row: int, hit: Hit) -> float:
        """Return how long a low drum is drawn, in pixels."""
        ticks = hit.length_ticks or self.bar
        return max(STROKE_PX, float(self.axis.px(ticks)))

    def note_of(self, row: int, hit: Hit) -> str:
        """Return the note that a low drum plays at a hit, in the pattern's first turn."""
        lane = hits_of(self.lanes[row])
        pitch = lane.base_at(hit.tick, self.around) + hit.st + lane.stack[0].st
        return key_heard(self.loop).spell_pitch(pitch)

    def named(self, row: int) -> dict[int, str]:
        """Return the words that stand at hits, by number: notes and pitches, where there is room.

        In a roll there is none.
        """
        out: dict[int, str] = {}
        last_x, xs = -WORDS_PX, [self.x_of(row, hit) for hit in self.hits(row)]
        for i, hit in enumerate(self.hits(row)):
            words = self.note_of(row, hit) if self.is_low(row) else number_text(hit.st)
            x = xs[i]
            near = [other for other in xs if 0 < other - x < WORDS_PX]
            if words and x - last_x >= WORDS_PX and (self.is_low(row) or not near):
                out[i], last_x = words, x
        return out

    def is_low(self, row: int) -> bool:
        """Whether a lane plays roots, so that its hits are drawn as what rings on."""
        return hits_of(self.lanes[row]).on_roots

    def snapped(self, tick: float, grid: int) -> int:
        """Return the nearest place of a grid (ticks) in the pattern."""
        last = self.bars * self.bar - 1
        return min(max(round(tick / grid) * grid, 0), last // grid * grid)

    def text_of(self, row: int, number: int) -> str:
        """Say a hit in words."""
        hit = self.hits(row)[number]
        beat = beat_ticks(self.loop.metre)
        place = f"{hit.tick // self.bar + 1}.{hit.tick % self.bar / beat + 1:.4g}"
        parts = [f"{place}, velocity {hit.velocity}"]
        if self.is_low(row):
            parts.append(self.note_of(row, hit))
        elif hit.st:
            parts.append(f"{hit.st:+d} st")
        if hit.late_ms:
            parts.append(f"{abs(hit.late_ms):g} ms {'late' if hit.late_ms > 0 else 'early'}")
        return ", ".join(parts)


def number_text(st: int) -> str:
    """Write how far a pitch is away; nothing where it is not."""
    return number(st, "+d") if st else ""


def is_empty(loop: Loop) -> bool:
    """Whether there is nothing in the bed yet."""
    return loop.bed is None or not loop.bed.lanes


def root_text(loop: Loop) -> str:
    """Say which roots are heard, for low drums, as the notes of the first turn."""
    around = around_bed(loop)
    if not around.roots:
        return f"no chords, so {pretty(key_heard(loop).spell(around.key.pc))}"
    pcs = dict.fromkeys(root_at(root.start_tick, around) for root in around.roots)
    return " ".join(pretty(key_heard(loop).spell(pc)) for pc in pcs)
