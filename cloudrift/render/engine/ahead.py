"""What is about to be heard, rendered before the rest: an edit's next moment, in the old loop.

A loop under many treatments takes longer to render than a hand waits. What is played in the next
half second is a small part of it: that stretch of each step is made again, as it is heard if the
edit is made now. What has sounded before rings on as it was, and is not made again. More of it
follows in the order in which it is heard, where the whole takes longer than that.
"""

import time
from collections.abc import Callable, Iterator

from cloudrift.audio.buffers import Stereo, silence
from cloudrift.audio.looped import Looped, SplicedLoop, slice_wrapped
from cloudrift.loop.model.loop import Loop
from cloudrift.render.engine.engine import Engine
from cloudrift.render.plan.mixing import Treated
from cloudrift.render.plan.node import Node, steps
from cloudrift.render.plan.plan import heard_node

AHEAD_S = (0.5, 2.0, 8.0)  # each longer than the next takes to make
BEFORE_S = 0.06  # it begins a little before where the sound is, so that no gap is left
FADE_S = 0.01
MOST = 0.5  # of a loop: of a shorter one the whole is there as soon
# How long the whole takes is guessed from what a stretch took: a longer one that the whole would
# follow before the shorter has been heard is not made.
WHOLE_SHARE, IN_TIME = 0.5, 0.7


class _CannotBeError(Exception):
    """Something has another length now, so that places do not correspond."""


def ahead(
    engine: Engine,
    loop: Loop,
    share: float,
    between: Callable[[], object] = lambda: None,
    *,
    fresh: bool = False,
) -> Iterator[SplicedLoop]:
    """Yield a loop as it was last rendered, with what comes next as it is now; more and more of it.

    Nothing where that is not possible, or where the whole is there at once. A ``fresh`` one need
    not have been rendered: what nobody has heard rings on from nothing.

    Parameters
    ----------
    share : where the sound is, 0 to 1.
    between : called between two steps; it may hold the work up for something more urgent.
    """
    node = heard_node(loop, engine.tones)
    n = loop.sounding_frames
    known = fresh or engine.latest_at(node.place, n) is not None
    if engine.cache.get(node.key) is not None or not known:
        return
    start = round(share * n) - int(BEFORE_S * loop.rate)
    for seconds in AHEAD_S:
        count = frames_ahead(seconds, loop)
        if count > MOST * n:
            return
        began = time.perf_counter()
        out = stretch_of(engine, node, start, count, loop.rate, between)
        if out is None or out.shape[1] != n:
            return
        yield out
        if (time.perf_counter() - began) * WHOLE_SHARE * n / count < IN_TIME * seconds:
            return


def stretch_of(
    engine: Engine,
    node: Node,
    start: int,
    count: int,
    rate: int,
    between: Callable[[], object] = lambda: None,
) -> SplicedLoop | None:
    """Return a step's audio as it was last made, with ``count`` frames from ``start`` as it is now.

    None where that is not possible.
    """
    try:
        out = _Stretch(engine, start, count, int(FADE_S * rate), between).of(node)
    except _CannotBeError:
        return None
    return out if isinstance(out, SplicedLoop) else None


def frames_ahead(seconds: float, loop: Loop) -> int:
    """Return how many frames are made for that many seconds to be heard."""
    return int((seconds + BEFORE_S) * loop.rate)


def get_ready(node: Node, loop: Loop, stale: Callable[[], bool]) -> None:
    """Make what the first look ahead at a loop needs, while nothing else is to be done."""
    count = frames_ahead(AHEAD_S[0], loop)
    for step in steps(node):
        if isinstance(step, Treated) and not stale():
            step.get_ready(count)


class _Stretch:
    """Steps as they are to be heard over some frames of the loop, and as they were elsewhere."""

    def __init__(
        self, engine: Engine, start: int, count: int, fade: int, between: Callable[[], object]
    ) -> None:
        self._engine, self._between = engine, between
        self._start, self._count, self._fade = start, count, fade

    def of(self, node: Node) -> Looped:
        """Return a step's audio: as it is where it is there, else patched over the stretch."""
        there = self._engine.cache.get(node.key)
        if there is not None:
            return there
        self._between()
        inputs = self._engine.each(self.of, node.inputs)
        old = self._was(node, inputs)
        frames = old.shape[1] if node.frames is None else node.frames
        if any(one.shape[1] != frames for one in (old, *inputs)):
            raise _CannotBeError  # a length that differs: places do not correspond
        former = self._engine.former(node)
        if former is not None and former.out.shape != old.shape:
            former = None
        piece = node.stretch(inputs, self._start, self._count, former)
        if piece is None:
            wholes = [one.all() if isinstance(one, SplicedLoop) else one for one in inputs]
            piece = slice_wrapped(node.make(wholes), self._start, self._count)
        if piece.shape[1] != self._count:
            raise _CannotBeError
        return SplicedLoop(old, piece, self._start).faded(self._fade)

    def _was(self, node: Node, inputs: list[Looped]) -> Stereo:
        """What a step made when it was last run; what was not there did nothing."""
        if node.frames is None and not inputs:
            raise _CannotBeError
        frames = inputs[0].shape[1] if node.frames is None else node.frames
        found = self._engine.latest_at(node.place, frames)
        if found is not None:
            return found[1]
        if len(inputs) != 1 or inputs[0].shape[1] != frames:
            return silence(frames)
        return inputs[0].whole if isinstance(inputs[0], SplicedLoop) else inputs[0]
