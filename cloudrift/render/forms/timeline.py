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

from cloudrift.audio.buffers import Stereo, raised_cosine, silence
from cloudrift.ground.cancel import Cancelled, never
from cloudrift.ground.memory import give_back
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.sections import Section
from cloudrift.loop.sounding import key_heard
from cloudrift.notes.time import bar_ticks, beat_ticks
from cloudrift.render.engine.engine import Engine
from cloudrift.render.forms import seams
from cloudrift.render.forms.spans import Span, beat_frames, spans_of
from cloudrift.render.plan.plan import ONCE, STEADY, heard_node
from cloudrift.texture.running import laid

JOIN_S = 0.01  # over so long what little is missing at a join is made good
LEAD_S, BEHIND_S = 2.0, 0.1  # of what is before and after a section, for the line of all of it


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


# --- sound ----------------------------------------------------------------------------------------


def pieces(
    engine: Engine,
    document: Document,
    cancelled: Callable[[], bool] = never,
    first: int = 0,
    end: int | None = None,
    *,
    eager: bool = False,
) -> Iterator[Piece]:
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
    start, before, carried_tail = 0, silence(0), silence(0)
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
            carried_tail = _add(now.audio, carried_tail)
            made = _with_seams(engine, now, behind, sections[now.at], after)
            carried_tail = (
                made.carried_tail
                if not carried_tail.shape[1]
                else _sum(carried_tail, made.carried_tail)
            )
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
    carried_tail: Stereo


def _raw(
    engine: Engine, spans: list[Span], sections: tuple[Section, ...], cancelled: Callable[[], bool]
) -> Iterator[_Raw]:
    """Sections one after another, tails laid on what comes; after a silence nothing rings on."""
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
                _declick_join(audio, join)
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
        _declick_join(body, frames)
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
            audio = (
                engine.audio(heard_node(knot.loop, engine.tones, STEADY), cancelled)
                if span.turn
                else _once(engine, knot.loop, cancelled)
            )
            out += audio[:, :frames] * weight
    return out


def _once(engine: Engine, loop: Loop, cancelled: Callable[[], bool]) -> Stereo:
    if cancelled():
        raise Cancelled
    return engine.audio(heard_node(loop, engine.tones, ONCE), cancelled, aside=True)


def _tail(engine: Engine, span: Span, body: Stereo, cancelled: Callable[[], bool]) -> Stereo:
    """What a span rings on: of each of its passes what lies after the last one's end.

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
    before = sum(
        (
            once[:, turn * frames - 1]
            for turn in range(1, passes + 1)
            if turn * frames <= once.shape[1]
        ),
        np.zeros(2, np.float32),
    )
    missing = body[:, -1] - before if body.shape[1] else np.zeros(2, np.float32)
    count = min(int(JOIN_S * span.loop.rate), out.shape[1])
    out[:, :count] += missing[:, None] * _falling(count)
    return out


def _declick_join(body: Stereo, at: int) -> None:
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
    """Add a tail to a body from its start on; return what is left of it after."""
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
    beat = beat_frames(loop)
    bar = beat * bar_ticks(loop.metre) / beat_ticks(loop.metre)
    carried_tail = silence(0)
    into = section.seam
    if into.sweep == "opens":
        audio = seams.swept(audio, round(into.sweep_bars * bar), loop.rate, opens=True)
    for sound, level_db in (("crash", into.crash_db), ("zap", into.tag_db)):
        if level_db > -60:
            shot = seams.one_shot(engine.tones, sound, 4.0, loop.rate, level_db)
            carried_tail = _sum(carried_tail, _add(audio, shot))
    if after is None:
        return _Joined(audio, carried_tail)
    seam = after.seam
    if seam.sweep == "closes":
        audio = seams.swept(audio, round(seam.sweep_bars * bar), loop.rate, opens=False)
    if seam.burst_db > -60:
        carried_tail = _sum(
            carried_tail,
            seams.burst(audio, round(beat), loop.rate, loop.sounding_tempo, seam.burst_db),
        )
    if seam.sag_beats and seam.sag_share < 1:
        audio = seams.tape_stop(audio, round(seam.sag_beats * beat), seam.sag_share)
    if seam.riser_bars:
        seconds = min(seam.riser_bars * bar, audio.shape[1]) / loop.rate
        riser = seams.riser(engine.tones, seconds, loop.rate, seam.riser_db)
        seams.put_before_end(audio, riser)
    if seam.lead_beats and behind is not None:
        seams.put_before_end(audio, seams.lead_in(behind.audio, round(seam.lead_beats * beat)))
    if seam.silence_beats:
        seams.silence_end(audio, round(seam.silence_beats * beat), loop.rate)
        carried_tail = silence(0)
    return _Joined(audio, carried_tail)


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
    done = laid(around, line, loop.rate, loop.sounding_tempo, key=key_heard(loop))
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
