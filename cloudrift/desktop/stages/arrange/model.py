"""What the picture of the arrangement shows, and where: without Qt."""

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from cloudrift.desktop.kit.pitch_ruler import RulerPart
from cloudrift.desktop.kit.time_axis import TimeAxis
from cloudrift.loop.edits.arranging.section_loops import loop_in
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.layer import Layer
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.section_rides import ALL, knots_of, ride_words
from cloudrift.loop.model.sections import Section
from cloudrift.loop.sounding import ruler
from cloudrift.notes.time import bar_ticks

NAMES_PX, PAD_PX, GAP_PX = 112.0, 10.0, 24.0  # a gap is where a seam is
LOUD_PX, HEAD_PX, ROW_PX, BED_PX = 46.0, 50.0, 27.0, 22.0
RULER_PX = 30.0  # of the pitch ruler, where it is shown
LEAST_PX = 54.0  # of a section
QUIET_DB, LOUD_DB = -24.0, 6.0  # of a level: how thick a band is
LOUDNESS_DB = (-42.0, -6.0)  # the axis of the curve above


@dataclass(frozen=True)
class Row:
    """A layer or a lane; ``is_lane``: of the groove bed."""

    id: str
    name: str
    role: str
    is_lane: bool


@dataclass(frozen=True)
class ColumnsModel:
    """The sections of a document as columns, layers and lanes as rows, over that many pixels."""

    document: Document
    width: float
    ruled: bool = False  # whether the pitch ruler is shown

    @property
    def sections(self) -> tuple[Section, ...]:
        """The sections in order."""
        return self.document.arrangement.sections

    @cached_property
    def loops(self) -> tuple[Loop, ...]:
        """What each section is as a loop."""
        return tuple(loop_in(self.document.loop, one) for one in self.sections)

    @cached_property
    def rows(self) -> tuple[Row, ...]:
        """Layers, then lanes; parked layers only where a section has them."""
        loop = self.document.loop
        used = {part.id for one in self.sections for part in one.parts if part.on}
        layers = [x for x in loop.layers if not x.parked or x.id in used]
        return (
            *(Row(x.id, x.name, x.role, is_lane=False) for x in layers),
            *(Row(x.id, x.name, x.role, is_lane=True) for x in loop.lanes),
        )

    @cached_property
    def _spans(self) -> tuple[tuple[float, float], ...]:
        """Left and right of each column: as wide as it has bars, none too narrow to be read."""
        count = len(self.sections)
        if not count:
            return ()
        room = self.width - NAMES_PX - PAD_PX - GAP_PX * (count - 1)
        bars = [one.bars for one in self.sections]
        least = min(LEAST_PX, room / count)
        wide = [max(least, room * one / sum(bars)) for one in bars]
        over = sum(wide) - room  # taken from those that have it to spare
        spare = [one - least for one in wide]
        if sum(spare) > 0:
            wide = [one - over * more / sum(spare) for one, more in zip(wide, spare, strict=True)]
        out, left = [], NAMES_PX
        for one in wide:
            out.append((left, left + one))
            left += one + GAP_PX
        return tuple(out)

    @property
    def least_width(self) -> float:
        """How many pixels it takes that each column can be read."""
        count = len(self.sections)
        return NAMES_PX + PAD_PX + LEAST_PX * count + GAP_PX * (count - 1)

    def span(self, at: int) -> tuple[float, float]:
        """Return left and right of a column."""
        return self._spans[at]

    def seam_x(self, at: int) -> float:
        """Return where the seam into a section is."""
        left = self._spans[at][0]
        return left - GAP_PX / 2 if at else left

    def x_of(self, at: int, inside: float) -> float:
        """Return where a share of a section is."""
        left, right = self._spans[at]
        return left + inside * (right - left)

    def column_at(self, x: float) -> int:
        """Return the column at a place; -1 where a seam or a name is."""
        return next((i for i, (a, b) in enumerate(self._spans) if a <= x <= b), -1)

    def seam_at(self, x: float) -> int:
        """Return the section that the seam at a place leads into; -1 where there is none."""
        return next(
            (i for i in range(1, len(self._spans)) if abs(x - self.seam_x(i)) <= GAP_PX / 2), -1
        )

    # --- rows ---------------------------------------------------------------------------------

    @property
    def rows_top(self) -> float:
        """Where the first row begins."""
        return LOUD_PX + HEAD_PX + 8 + RULER_PX * self.ruled

    def ruler_parts(self) -> tuple[RulerPart, ...]:
        """Return what sounds in each section, which turns the loop, along its column."""
        out = []
        for (left, right), section, loop in zip(
            self._spans, self.sections, self.loops, strict=True
        ):
            ticks = section.bars * bar_ticks(loop.metre)
            spans = [
                one._replace(
                    start_tick=one.start_tick + turn, end_tick=min(one.end_tick + turn, ticks)
                )
                for turn in range(0, ticks, loop.ticks)
                for one in ruler(loop)
                if one.start_tick + turn < ticks
            ]
            out.append(RulerPart(TimeAxis(left, right - left, ticks), tuple(spans), loop))
        return tuple(out)

    @cached_property
    def _tops(self) -> tuple[float, ...]:
        tops, y = [], self.rows_top
        for i, row in enumerate(self.rows):
            if row.is_lane and i and not self.rows[i - 1].is_lane:
                y += 18  # the words "groove bed"
            tops.append(y)
            y += BED_PX if row.is_lane else ROW_PX
        return (*tops, y)

    def row_box(self, at: int) -> tuple[float, float]:
        """Return top and height of a row."""
        return self._tops[at], BED_PX if self.rows[at].is_lane else ROW_PX

    def row_at(self, y: float) -> int:
        """Return the row at a height; -1 where there is none."""
        for i in range(len(self.rows)):
            top, high = self.row_box(i)
            if top <= y < top + high:
                return i
        return -1

    @property
    def height(self) -> float:
        """How high the picture is."""
        return self._tops[-1] + 18

    def owner(self, at: int, row: int) -> Layer | None:
        """Return a row's layer or lane as it is in a section; None where it is not heard."""
        return self._heard[at].get(self.rows[row].id)

    @cached_property
    def _heard(self) -> tuple[dict[str, Layer], ...]:
        """The layers and lanes that are heard in each section, by id."""
        return tuple(
            {x.id: x for x in (*loop.heard(), *(loop.bed.heard if loop.bed else ()))}
            for loop in self.loops
        )

    def thick(self, at: int, row: int) -> float:
        """Return how thick a band is, 0 (not there) to 1: by its level."""
        owner = self.owner(at, row)
        if owner is None:
            return 0.0
        return _thickness(owner.level_db + self.sections[at].level_db)

    def thick_along(self, at: int, row: int) -> list[tuple[float, float]]:
        """Return share of the section and thickness, where the level of a band rides: else none."""
        owner, section = self.owner(at, row), self.sections[at]
        out: list[tuple[float, float]] = []
        if owner is None or not any(
            not one.treatment and one.owner in (ALL, owner.id) for one in section.rides
        ):
            return out
        for knot in knots_of(self.loops[at], section.rides):
            level = knot.loop.layer(owner.id).level_db + knot.loop.level_db
            out.append((knot.at, _thickness(level)))
        return out

    def ride_of(self, at: int, row: int) -> str:
        """Say what of a band's line rides over a section."""
        here = self.rows[row].id
        return ", ".join(
            ride_words(self.loops[at], one).partition(": ")[2]
            for one in self.sections[at].rides
            if one.owner == here and one.treatment
        )

    def differs(self, at: int, row: int) -> bool:
        """Whether a copied section differs here from the one that it is from."""
        here = self.sections[at]
        if not here.copied_from:
            return False
        there = self.document.arrangement.section(here.copied_from)
        return here.part(self.rows[row].id) != there.part(self.rows[row].id)

    # --- words --------------------------------------------------------------------------------

    def starts_s(self) -> list[float]:
        """Return when each section begins, in seconds, without what seams add."""
        out, now = [], 0.0
        for section, loop in zip(self.sections, self.loops, strict=True):
            out.append(now)
            now += section.bars * loop.sounding_frames / loop.rate / loop.bars
        return out

    def first_bar(self, at: int) -> int:
        """Return the number of a section's first bar in the arrangement, from 1."""
        return 1 + sum(one.bars for one in self.sections[:at])

    @property
    def words(self) -> str:
        """How long it is, in words."""
        if not self.sections:
            return "no sections yet"
        loop, last = self.loops[-1], self.sections[-1]
        seconds = self.starts_s()[-1] + last.bars * loop.sounding_frames / loop.rate / loop.bars
        bars = self.document.arrangement.bars
        count = len(self.sections)
        return (
            f"{bars} bars · {clock_text(seconds)} at {self.document.loop.sounding_tempo:.5g} "
            f"BPM · {count} section{'s' * (count != 1)}"
        )

    def curve(self, loudness: Mapping[int, np.ndarray]) -> list[tuple[float, float]]:
        """Return the loudness of each bar that is known: x, and 0 (quiet) to 1 (loud)."""
        low, high = LOUDNESS_DB
        out = []
        for at, levels in sorted(loudness.items()):
            if at >= len(self.sections):
                continue
            for bar, level in enumerate(levels):
                x = self.x_of(at, (bar + 0.5) / len(levels))
                out.append((x, float(np.clip((level - low) / (high - low), 0, 1))))
        return out


def _thickness(level_db: float) -> float:
    return float(np.clip((level_db - QUIET_DB) / (LOUD_DB - QUIET_DB), 0.12, 1.0))


def clock_text(seconds: float) -> str:
    """Write a time: ``1:34.6``."""
    minutes, rest = divmod(round(seconds, 1), 60)
    return f"{minutes:.0f}:{rest:04.1f}"
