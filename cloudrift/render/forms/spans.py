"""An arrangement as spans of loops: what turns how often, and what ends before a seam."""

from collections.abc import Callable, Iterator
from typing import NamedTuple

import numpy as np
from msgspec.structs import replace

from cloudrift.loop.edits.arranging.section_loops import loop_in
from cloudrift.loop.edits.loop_edits import set_bars
from cloudrift.loop.model.bed import hits_of
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.hits import Hit, Hits, Pattern
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.section_rides import Knot, knots_of
from cloudrift.loop.model.sections import Seam
from cloudrift.notes.time import bar_ticks, beat_ticks
from cloudrift.render.forms import seams

BACKBEATS = ("snare", "clap", "snap")


LOUD = 0.7


FILL = "B"


class Span(NamedTuple):
    """That many passes of a loop; ``at`` is the number of the section that it is in.

    Where something rides over the section it is a single pass, from one share of the section to
    another, and goes from one of the ``knots`` to the next meanwhile; ``turn`` such passes of the
    same loop are before it.
    """

    at: int
    loop: Loop
    passes: int
    knots: tuple[Knot, ...] = ()
    from_to: tuple[float, float] = (0.0, 1.0)
    turn: int = 0

    @property
    def frames(self) -> int:
        """How long it is."""
        return self.passes * self.loop.sounding_frames


def spans_of(document: Document) -> list[Span]:
    """Return the spans of an arrangement, in order.

    What remains of a section after its last whole turn is a span of a shorter loop; a last pass in
    which drums fill, or end before the seam, is one of its own.
    """
    out = []
    sections = document.arrangement.sections
    for at, section in enumerate(sections):
        behind = sections[at + 1].seam if at + 1 < len(sections) else Seam()
        loop = loop_in(document.loop, section)
        knots = knots_of(loop, section.rides)
        parts = _parts(loop, section.bars, behind)
        out += (
            _ridden(at, loop, knots, parts)
            if knots
            else [Span(at, made(loop), passes) for passes, made in parts]
        )
    return out


Passes = tuple[int, Callable[[Loop], Loop]]  # that many passes of a loop made so


def _parts(loop: Loop, bars: int, behind: Seam) -> list[Passes]:
    """What a section has: whole turns, what remains of one, the pass that ends before a seam."""
    turns, rest = divmod(bars, loop.bars)
    parts: list[Passes] = [(turns, lambda one: one)] if turns else []
    if rest:
        parts.append((1, lambda one: set_bars(one, rest)))
    passes, last = parts.pop()
    if ending(last(loop), behind) == last(loop):
        return [*parts, (passes, last)]
    if passes > 1:
        parts.append((passes - 1, last))
    return [*parts, (1, lambda one: ending(last(one), behind))]


def _ridden(at: int, loop: Loop, knots: tuple[Knot, ...], parts: list[Passes]) -> list[Span]:
    """Passes of a section over which something rides, each with the knots that it comes by."""
    frames = [made(loop).sounding_frames for passes, made in parts for _turn in range(passes)]
    edges = [float(one) for one in np.cumsum([0, *frames]) / sum(frames)]
    out: list[Span] = []
    for passes, made in parts:
        for turn in range(passes):
            first, last = edges[len(out)], edges[len(out) + 1]
            near = min(knots, key=lambda knot: abs(knot.at - first))
            own = tuple(Knot(knot.at, made(knot.loop)) for knot in knots)
            out.append(Span(at, made(near.loop), 1, own, (first, last), turn))
    return out


def ending(loop: Loop, seam: Seam) -> Loop:
    """Return a loop as it goes into a seam: drums with a fill, or cut at their last backbeat."""
    bed = loop.bed
    if bed is None or not bed.heard or not (seam.cut or seam.fill):
        return loop
    bar = bar_ticks(loop.metre)
    first = (loop.bars - 1) * bar  # the last bar
    lanes = {lane.id: list(_all_hits(hits_of(lane), loop)) for lane in bed.lanes}
    if seam.fill:
        for lane in bed.lanes:
            other = next((one for one in hits_of(lane).patterns if one.name == FILL), None)
            if other is not None:
                end = other.bars * bar
                filled = [
                    replace(hit, tick=hit.tick - (end - bar) + first)
                    for hit in other.hits
                    if end - bar <= hit.tick < end
                ]
                lanes[lane.id] = [hit for hit in lanes[lane.id] if hit.tick < first] + filled
    if seam.cut:
        back = [
            hit
            for lane in bed.heard
            for hit in lanes[lane.id]
            if {use.name for use in lane.source.sounds} & set(BACKBEATS) and hit.tick >= first
        ]
        loud = LOUD * max((hit.velocity for hit in back), default=0)
        until = max((hit.tick for hit in back if hit.velocity >= loud), default=first + bar // 2)
        lanes = {
            name: [_ended(hit, until) for hit in hits if hit.tick <= until]
            for name, hits in lanes.items()
        }
    made = tuple(
        replace(lane, source=_playing(hits_of(lane), lanes[lane.id], loop.bars))
        for lane in bed.lanes
    )
    return replace(loop, bed=replace(bed, lanes=made))


def _all_hits(hits: Hits, loop: Loop) -> Iterator[Hit]:
    """The hits of a lane all through a loop, as they are written."""
    length = hits.pattern.bars * bar_ticks(loop.metre)
    for start in range(0, loop.ticks, length):
        for hit in hits.pattern.hits:
            if hit.tick < length and start + hit.tick < loop.ticks:
                yield replace(hit, tick=start + hit.tick)


def _ended(hit: Hit, until: int) -> Hit:
    """A held hit that is over at a tick; one that rings does so."""
    if not hit.length_ticks or hit.tick == until:
        return hit
    return replace(hit, length_ticks=max(1, min(hit.length_ticks, until - hit.tick)))


def _playing(hits: Hits, all_: list[Hit], bars: int) -> Hits:
    pattern = Pattern(name="end", bars=bars, hits=tuple(sorted(all_, key=lambda hit: hit.tick)))
    return replace(hits, patterns=(pattern,), plays="end")


def lengths_of(document: Document) -> list[int]:
    """Return how long each section is in frames, with what its seam adds."""
    sections = document.arrangement.sections
    out = [0] * len(sections)
    loops: dict[int, Loop] = {}
    for span in spans_of(document):
        out[span.at] += span.frames
        loops[span.at] = span.loop
    for at, section in enumerate(sections[1:]):
        seam, loop = section.seam, loops[at]
        if seam.sag_beats and seam.sag_share < 1:
            frames = round(seam.sag_beats * beat_frames(loop))
            out[at] += seams.sag_adds(min(frames, out[at] - 1), seam.sag_share)
    return out


def turns_of(document: Document) -> tuple[int, ...]:
    """Return how long the loop of each section is, in frames."""
    return tuple(
        loop_in(document.loop, one).sounding_frames for one in document.arrangement.sections
    )


def beat_frames(loop: Loop) -> float:
    """Return how long a beat of a loop lasts, in frames."""
    return loop.sounding_frames * beat_ticks(loop.metre) / loop.ticks
