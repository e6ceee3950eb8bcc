"""The arrangement as sound: spans of loops one after another, and what happens at the seams.

A section is spans of a loop (``Span``). The first pass of a span is the loop in its one-pass form
with the tail of what was before laid on it; later passes are its steady state. No step is longer
than a loop with its tail, so sections that are equal, or share layers, share what they are made of.
"""

import contextlib
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from msgspec.structs import replace

from cloudrift.audio.buffers import Stereo, raised_cosine, silence
from cloudrift.ground.memory import give_back
from cloudrift.ground.wanted import Cancelled, never
from cloudrift.loop.edits.arranging.arranging import loop_in
from cloudrift.loop.edits.layers.edits import set_bars
from cloudrift.loop.model.bed import hits_of
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.hits import Hit, Hits, Pattern
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.section_rides import Knot, knots_of
from cloudrift.loop.model.sections import Seam, Section
from cloudrift.notes.time import bar_ticks, beat_ticks
from cloudrift.render.engine.engine import Engine
from cloudrift.render.forms import seams
from cloudrift.render.plan.plan import ONCE, STEADY, heard_node
from cloudrift.texture.running import laid

JOIN_S = 0.01  # over so long what little is missing at a join is made good
LEAD_S, BEHIND_S = 2.0, 0.1  # of what is before and behind a section, for the line of all of it
BACKBEATS = ("snare", "clap", "snap")
LOUD = 0.7
FILL = "B"


class Span(NamedTuple):
    """So many passes of a loop; ``at`` is the number of the section that it is in.

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


@dataclass(frozen=True)
class Piece:
    """A section as sound, finished: (2, frames), where it begins, and what it turns.

    ``turn`` is the length of its loop in frames: for who wants to know where in it one is. ``bare``
    is what it was before the line of all of it; the same where there is none.
    """

    at: int
    start: int
    audio: Stereo
    turn: int
    bare: Stereo


def spans_of(document: Document) -> list[Span]:
    """Return the spans of an arrangement, in order.

    What remains of a section behind its last whole turn is a span of a shorter loop; a last pass in
    which drums fill, or end before the seam, is one of its own.
    """
    out = []
    sections = document.arrangement.sections
    for at, section in enumerate(sections):
        behind = sections[at + 1].seam if at + 1 < len(sections) else Seam()
        loop = loop_in(document.loop, section)
        knots = knots_of(loop, section.rides)
        parts = _parts(loop, section.bars, behind)
        out += _ridden(at, loop, knots, parts) if knots else [
            Span(at, made(loop), passes) for passes, made in parts
        ]  # fmt: skip
    return out


Part = tuple[int, Callable[[Loop], Loop]]  # so many passes of a loop made so


def _parts(loop: Loop, bars: int, behind: Seam) -> list[Part]:
    """What a section has: whole turns, what remains of one, the pass that ends before a seam."""
    turns, rest = divmod(bars, loop.bars)
    parts: list[Part] = [(turns, lambda one: one)] if turns else []
    if rest:
        parts.append((1, lambda one: set_bars(one, rest)))
    passes, last = parts.pop()
    if ending(last(loop), behind) == last(loop):
        return [*parts, (passes, last)]
    if passes > 1:
        parts.append((passes - 1, last))
    return [*parts, (1, lambda one: ending(last(one), behind))]


def _ridden(at: int, loop: Loop, knots: tuple[Knot, ...], parts: list[Part]) -> list[Span]:
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
                filled = [replace(hit, tick=hit.tick - (end - bar) + first)
                          for hit in other.hits if end - bar <= hit.tick < end]  # fmt: skip
                lanes[lane.id] = [hit for hit in lanes[lane.id] if hit.tick < first] + filled
    if seam.cut:
        back = [hit for lane in bed.heard for hit in lanes[lane.id]
                if {use.name for use in lane.source.sounds} & set(BACKBEATS)
                and hit.tick >= first]  # fmt: skip
        loud = LOUD * max((hit.velocity for hit in back), default=0)
        until = max((hit.tick for hit in back if hit.velocity >= loud), default=first + bar // 2)
        lanes = {name: [_ended(hit, until) for hit in hits if hit.tick <= until]
                 for name, hits in lanes.items()}  # fmt: skip
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
            frames = round(seam.sag_beats * _beat_frames(loop))
            out[at] += seams.sag_adds(min(frames, out[at] - 1), seam.sag_share)
    return out


def turns_of(document: Document) -> tuple[int, ...]:
    """Return how long the loop of each section is, in frames."""
    return tuple(loop_in(document.loop, one).sounding_frames
                 for one in document.arrangement.sections)  # fmt: skip


def _beat_frames(loop: Loop) -> float:
    return loop.sounding_frames * beat_ticks(loop.metre) / loop.ticks


# --- sound ----------------------------------------------------------------------------------------


def pieces(
    engine: Engine, document: Document, cancelled: Callable[[], bool] = never, first: int = 0,
    end: int | None = None, *, eager: bool = False,
) -> Iterator[Piece]:  # fmt: skip
    """Hand out the sections as they are ready, in order, from the ``first`` (by number) on.

    They go on to the last, or to the one before the ``end``. The tail of what is before the first
    is not in it. ``eager``: all is begun at once, for the first is no more urgent than the last.
    Raises Cancelled.
    """
    sections = document.arrangement.sections
    end = len(sections) if end is None else min(end, len(sections))
    if first >= end:
        return
    spans = [span for span in spans_of(document) if span.at >= first]
    start, before, rung = 0, silence(0), silence(0)
    with ThreadPoolExecutor(2 if eager else 1, thread_name_prefix="timeline") as pool:
        for at in range(first + 1, end if eager else 0):
            pool.submit(_get_ready, engine, spans, at, cancelled)
        raw = _raw(engine, spans, sections, cancelled)
        now = next(raw, None)
        behind: _Raw | None = None
        while now is not None:
            after = sections[now.at + 1] if now.at + 1 < len(sections) else None
            if after is not None and (document.arrangement.line or after.seam.lead_beats):
                behind = next(raw, None)  # it reaches into what comes
            rung = _add(now.audio, rung)
            made = _with_seams(engine, now, behind, sections[now.at], after)
            rung = made.rung if not rung.shape[1] else _sum(rung, made.rung)
            then = behind.audio if behind else silence(0)
            finished = _summed(document, made.body, before, then, now.loop)
            give_back()
            if now.at + 2 < end and not eager:
                pool.submit(_get_ready, engine, spans, now.at + 2, cancelled)
            yield Piece(now.at, start, finished, now.loop.sounding_frames, made.body)
            if now.at + 1 == end:
                return
            start += made.body.shape[1]
            before, now, behind = made.body, behind or next(raw, None), None


def _get_ready(engine: Engine, spans: list[Span], at: int, cancelled: Callable[[], bool]) -> None:
    """Make what a section needs, while those before it are put together."""
    for span in spans:
        if span.at == at:
            with contextlib.suppress(Cancelled):
                if not span.turn:
                    _once(engine, span.loop, cancelled)
                if span.passes > 1 or span.turn:
                    engine.audio(heard_node(span.loop, engine.tones, STEADY), cancelled)


class _Raw(NamedTuple):
    """A section without its seams; its loop."""

    at: int
    audio: Stereo
    loop: Loop


class _Joined(NamedTuple):
    """A section with its seams, and what of that rings on into the next."""

    body: Stereo
    rung: Stereo


def _raw(
    engine: Engine, spans: list[Span], sections: tuple[Section, ...],
    cancelled: Callable[[], bool],
) -> Iterator[_Raw]:  # fmt: skip
    """Sections one after another, tails laid on what comes; behind a silence nothing rings on."""
    tail = silence(0)
    going_on: Loop | None = None
    parts: list[Stereo] = []
    joins: list[int] = []  # frames
    for number, span in enumerate(spans):
        body = _body(engine, span, going_on=going_on == span.loop, cancelled=cancelled)
        rest = _add(body, tail)
        then = spans[number + 1] if number + 1 < len(spans) else None
        goes_on = then is not None and (then.turn > 0 if span.knots else then.loop == span.loop)
        tail = rest if goes_on else _sum(rest, _tail(engine, span, body, cancelled))
        going_on = None if span.knots else span.loop
        if span.turn == 1:  # from a first pass to the steady state
            joins.append(sum(one.shape[1] for one in parts))
        parts.append(body)
        if then is None or then.at != span.at:
            if then is not None and sections[then.at].seam.silence_beats:
                tail, going_on = silence(0), None
            audio = parts[0] if len(parts) == 1 else np.concatenate(parts, axis=1)
            for join in joins:
                _mend(audio, join)
            yield _Raw(span.at, audio, span.loop)
            parts, joins = [], []


def _body(engine: Engine, span: Span, *, going_on: bool, cancelled: Callable[[], bool]) -> Stereo:
    """A span without what was before it: its first pass from silence, unless it only goes on."""
    frames = span.loop.sounding_frames
    if span.knots:
        return _passing(engine, span, cancelled)
    once = None if going_on else _once(engine, span.loop, cancelled)
    if once is not None and span.passes == 1:
        return np.array(once[:, :frames])
    steady = engine.audio(heard_node(span.loop, engine.tones, STEADY), cancelled)
    body = np.tile(steady, span.passes)
    if once is not None:
        body[:, :frames] = once[:, :frames]
        _mend(body, frames)
    return body


def _passing(engine: Engine, span: Span, cancelled: Callable[[], bool]) -> Stereo:
    """A pass in which something rides: the sound passes from knot to knot, evenly in time."""
    frames = span.loop.sounding_frames
    out = silence(frames)
    shares = np.linspace(*span.from_to, frames, endpoint=False)
    places = [knot.at for knot in span.knots]
    way = np.interp(shares, places, np.arange(len(places)))
    for number, knot in enumerate(span.knots):
        weight = np.maximum(0.0, 1 - np.abs(way - number)).astype(np.float32)
        if weight.any():
            audio = (engine.audio(heard_node(knot.loop, engine.tones, STEADY), cancelled)
                     if span.turn else _once(engine, knot.loop, cancelled))  # fmt: skip
            out += audio[:, :frames] * weight
    return out


def _once(engine: Engine, loop: Loop, cancelled: Callable[[], bool]) -> Stereo:
    if cancelled():
        raise Cancelled
    return engine.audio(heard_node(loop, engine.tones, ONCE), cancelled, aside=True)


def _tail(engine: Engine, span: Span, body: Stereo, cancelled: Callable[[], bool]) -> Stereo:
    """What a span rings on: of each of its passes what lies behind the last one's end.

    What that leaves open at the join (what is not linear rings otherwise in the steady state) is
    made good over a few milliseconds.
    """
    loop, passes = span.loop, span.turn + span.passes
    if span.knots:  # it rings on as it was at its end
        loop = min(span.knots, key=lambda knot: abs(knot.at - span.from_to[1])).loop
    frames, once = loop.sounding_frames, _once(engine, loop, cancelled)
    behind = [once[:, turn * frames :] for turn in range(1, passes + 1)]
    out = silence(once.shape[1] - frames)
    for part in behind:
        out[:, : part.shape[1]] += part
    before = sum((once[:, turn * frames - 1] for turn in range(1, passes + 1)
                  if turn * frames <= once.shape[1]), np.zeros(2, np.float32))  # fmt: skip
    missing = body[:, -1] - before if body.shape[1] else np.zeros(2, np.float32)
    count = min(int(JOIN_S * span.loop.rate), out.shape[1])
    out[:, :count] += missing[:, None] * _falling(count)
    return out


def _mend(body: Stereo, at: int) -> None:
    """Take the step out at a join: half of it on either side, over a few milliseconds."""
    if not 1 < at < body.shape[1] - 1:
        return
    goes = body[:, at - 1] - body[:, at - 2]
    step = body[:, at] - body[:, at - 1] - goes
    count = min(441, at, body.shape[1] - at)
    fall = _falling(count)
    body[:, at : at + count] -= 0.5 * step[:, None] * fall
    body[:, at - count : at] += 0.5 * step[:, None] * fall[::-1]


def _falling(count: int) -> np.ndarray:
    return np.asarray(1 - raised_cosine(count), np.float32) if count else np.zeros(0, np.float32)


def _add(body: Stereo, tail: Stereo) -> Stereo:
    """Add a tail to a body from its start on; return what is left of it behind."""
    count = min(body.shape[1], tail.shape[1])
    body[:, :count] += tail[:, :count]
    return tail[:, count:]


def _sum(one: Stereo, other: Stereo) -> Stereo:
    out = silence(max(one.shape[1], other.shape[1]))
    out[:, : one.shape[1]] += one
    out[:, : other.shape[1]] += other
    return out


# --- seams ----------------------------------------------------------------------------------------


def _with_seams(
    engine: Engine, now: _Raw, behind: _Raw | None, section: Section, after: Section | None
) -> _Joined:
    """A section with what happens at the changes into it and out of it."""
    loop, audio = now.loop, now.audio
    beat = _beat_frames(loop)
    bar = beat * bar_ticks(loop.metre) / beat_ticks(loop.metre)
    rung = silence(0)
    into = section.seam
    if into.sweep == "opens":
        audio = seams.swept(audio, round(into.sweep_bars * bar), loop.rate, opens=True)
    for sound, level_db in (("crash", into.crash_db), ("zap", into.tag_db)):
        if level_db > -60:
            shot = seams.one_shot(engine.tones, sound, 4.0, loop.rate, level_db)
            rung = _sum(rung, _add(audio, shot))
    if after is None:
        return _Joined(audio, rung)
    seam = after.seam
    if seam.sweep == "closes":
        audio = seams.swept(audio, round(seam.sweep_bars * bar), loop.rate, opens=False)
    if seam.burst_db > -60:
        rung = _sum(rung, seams.burst(audio, round(beat), loop.rate, loop.sounding_tempo,
                                      seam.burst_db))  # fmt: skip
    if seam.sag_beats and seam.sag_share < 1:
        audio = seams.sagged(audio, round(seam.sag_beats * beat), seam.sag_share)
    if seam.riser_bars:
        seconds = min(seam.riser_bars * bar, audio.shape[1]) / loop.rate
        riser = seams.riser(engine.tones, seconds, loop.rate, seam.riser_db)
        seams.put_before_end(audio, riser)
    if seam.lead_beats and behind is not None:
        seams.put_before_end(audio, seams.lead_in(behind.audio, round(seam.lead_beats * beat)))
    if seam.silence_beats:
        seams.hush(audio, round(seam.silence_beats * beat), loop.rate)
        rung = silence(0)
    return _Joined(audio, rung)


def _summed(
    document: Document, audio: Stereo, before: Stereo, behind: Stereo, loop: Loop
) -> Stereo:
    """A section through the line of all of it: from a while before it on, so that it is settled."""
    line = document.arrangement.line
    if not line:
        return audio
    lead, then = int(LEAD_S * loop.rate), int(BEHIND_S * loop.rate)
    first = before[:, -lead:] if before.shape[1] else silence(lead)
    around = np.concatenate([first, audio, behind[:, :then]], axis=1)
    done = laid(around, line, loop.rate, loop.sounding_tempo, key=loop.sounding_key)
    at = first.shape[1]
    return np.array(done[:, at : at + audio.shape[1]])


def whole(
    engine: Engine,
    document: Document,
    cancelled: Callable[[], bool] = never,
    progress: Callable[[int, int], object] = lambda _done, _of: None,
) -> tuple[Stereo, tuple[Piece, ...]]:
    """Return the arrangement as sound, (2, frames), with the tail of its last section; its pieces.

    ``progress`` takes how many sections are done, of how many.
    """
    count = len(document.arrangement.sections)
    found = []
    for piece in pieces(engine, document, cancelled, eager=True):
        found.append(piece)
        progress(len(found), count)
    parts = [piece.audio for piece in found]
    spans = spans_of(document)
    if spans:
        parts.append(_tail(engine, spans[-1], parts[-1], cancelled))
    audio = np.concatenate(parts, axis=1) if parts else silence(0)
    return audio, tuple(found)
