"""A print while a hand turns what is in it: what its flip is about to play is made again first."""

import itertools
import time
from collections.abc import Callable, Sequence
from typing import NamedTuple

from cloudrift.audio.looped import put_wrapped
from cloudrift.ground.cancel import never
from cloudrift.loop.edits.flip.ordering import heard_in
from cloudrift.loop.model.document import Document, Pass, PrintedPart, in_parts
from cloudrift.loop.model.flip import Flipped
from cloudrift.loop.model.loop import Loop
from cloudrift.render.engine import ahead
from cloudrift.render.engine.engine import Engine
from cloudrift.render.forms.printing import Reprint, keep_print, print_node
from cloudrift.render.plan.node import steps

HELD = "print"  # what the engine's cache calls what a print is made of
BEFORE_S, AFTER_S = 0.06, 0.05  # what is made of a piece, past what plays of it
MOST = 0.5  # of a print: of more, the whole is there as soon


class Span(NamedTuple):
    """A stretch of a print, in shares of it."""

    start: float
    stop: float


def prepare(
    engine: Engine,
    loop: Loop,
    passes: tuple[Pass, ...],
    cancelled: Callable[[], bool] = never,
    between: Callable[[], object] = lambda: None,
) -> None:
    """Render what a print is made of into an ``engine`` that keeps it, for what is turned in it.

    ``between`` is called between two steps; it may hold the work up for something more urgent.
    """
    node = print_node(loop, passes, engine.tones)
    made = {one.key: one for one in steps(node)}
    engine.cache.hold(HELD, made.keys(), {node.key})
    for one in reversed(made.values()):  # the whole may be known, and what it is made of not
        between()
        engine.audio(one, cancelled)
        engine.remember(one)
    ahead.get_ready(node, loop, cancelled)


def spans_in(flip: Flipped, first_tick: int, last_tick: int, ticks: int) -> list[Span]:
    """Return what of a print plays in a flip between two ticks of its loop, as shares of it.

    The loop lasts ``ticks``; ``last_tick`` may lie past its end.
    """
    out = []
    for turn, place in itertools.product((0, ticks), heard_in(flip, ticks).places):
        at = flip.of.at_tick + place.at_tick + turn
        begins, ends = max(at, first_tick), min(at + place.length_ticks, last_tick)
        if place.mute or begins >= ends:
            continue
        start, stop = place.from_tick, place.end_from
        if place.plain:
            into, left = begins - at, at + place.length_ticks - ends
            start, stop = (
                (start + left, stop - into) if place.backward else (start + into, stop - left)
            )
        out.append(Span(start / flip.length_ticks, stop / flip.length_ticks))
    return out


def reprinted_there(
    document: Document,
    print_id: str,
    loop: Loop,
    passes: tuple[Pass, ...],
    parts: tuple[PrintedPart, ...],
    spans: Sequence[Span],
    engine: Engine,
) -> tuple[list[Reprint], float]:
    """Print what is about to be heard of a print (``spans``) again: elsewhere it is as it was.

    Nothing where ``engine`` does not know how it was, or where the whole is there as soon. What is
    known of it besides its sound stays, too. Returns about how long the whole will take, too (s).
    """
    now = in_parts(loop, parts)
    node = print_node(now, passes, engine.tones)
    n = now.sounding_frames * max(1, len(passes))
    was, frames = engine.latest_at(node.place, n), _frames_of(spans, n, now.rate)
    total = sum(count for _start, count in frames)
    flips = [x.flipped for x in document.loop.layers if x.flipped]
    facts = [flip.of.facts for flip in flips if flip.print_id == print_id]
    if was is None or not frames or not facts or total > MOST * n:
        return [], 0.0
    began, audio = time.perf_counter(), was[1].copy()
    for start, count in frames:
        out = ahead.stretch_of(engine, node, start, count, now.rate)
        if out is None or out.shape[1] != n:
            return [], 0.0
        put_wrapped(audio, out.piece, out.start)
    whole_s = (time.perf_counter() - began) * ahead.WHOLE_SHARE * n / total
    made = keep_print(audio, now, "", passes, engine.clips, facts[0], soon=True)
    return [Reprint(print_id, loop, passes, parts, made)], whole_s


def _frames_of(spans: Sequence[Span], n: int, rate: int) -> list[tuple[int, int]]:
    """Where spans begin in a print of ``n`` frames and how long they are, those that meet as one:
    each is faded into how the print was at its ends.
    """
    before, after = int(BEFORE_S * rate), int(AFTER_S * rate)
    out: list[tuple[int, int]] = []
    for start, stop in sorted((int(a * n) - before, int(b * n) + after) for a, b in spans):
        if out and start <= out[-1][1]:
            out[-1] = (out[-1][0], max(stop, out[-1][1]))
        else:
            out.append((start, stop))
    if len(out) > 1 and out[0][0] + n <= out[-1][1]:  # round the seam
        first = out.pop(0)
        out[-1] = (out[-1][0], max(out[-1][1], first[1] + n))
    return [(start, stop - start) for start, stop in out]
