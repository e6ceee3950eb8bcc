"""What is about to be heard, rendered before the rest: an edit's next seconds, in the old loop.

A loop under many treatments takes longer to render than a hand waits. What is played in the next
seconds is a small part of it: where a step's settings have changed, only that stretch of it is made
anew, and of the steps behind it. The whole comes after.
"""

from collections.abc import Callable

import numpy as np

from cloudrift.audio.buffers import Stereo, raised_cosine
from cloudrift.audio.wrap import put_wrapped, slice_wrapped
from cloudrift.loop.model import Loop
from cloudrift.render.engine import Engine
from cloudrift.render.nodes import Former, Node
from cloudrift.render.plan import loop_node

AHEAD_S = 1.2  # longer than the whole takes to follow, but for the largest loops
BEFORE_S = 0.06  # it begins a little before where the sound is, so that no gap is left
FADE_S = 0.01
MOST = 0.5  # of a loop: of a shorter one the whole is there as soon


class _CannotBeError(Exception):
    """Something has another length now, so that places do not correspond."""


def ahead(
    engine: Engine, loop: Loop, share: float, between: Callable[[], object] = lambda: None
) -> Stereo | None:
    """Return a loop as it was last rendered, with what comes next as it is now.

    None where that is not possible, or where the whole is there at once.

    Parameters
    ----------
    share : where the sound is, 0 to 1.
    between : called between two steps; it may hold the work up for something more urgent.
    """
    node = loop_node(loop, engine.tones)
    last = engine.latest_at(node.place)
    if engine.cache.get(node.key) is not None or last is None:
        return None
    n = last[1].shape[1]
    if n != loop.sounding_frames:
        return None  # another loop was rendered last, or this one at another length
    count = int(AHEAD_S * loop.rate)
    if count > MOST * n:
        return None
    start = round(share * n) - int(BEFORE_S * loop.rate)
    try:
        out = _Stretch(engine, start, count, int(FADE_S * loop.rate), between).of(node)[1]
    except _CannotBeError:
        return None
    return out if out.shape[1] == n else None


class _Stretch:
    """Steps as they were and as they are to be heard, over some frames of the loop."""

    def __init__(
        self, engine: Engine, start: int, count: int, fade: int, between: Callable[[], object]
    ) -> None:
        self._engine, self._between = engine, between
        self._start, self._count, self._fade = start, count, fade

    def of(self, node: Node) -> tuple[Stereo, Stereo]:
        """Return a step's audio as it was, and the same with the stretch as it is now."""
        there = self._engine.cache.get(node.key)
        if there is not None:
            return there, there
        self._between()
        found = self._engine.latest_at(node.place)
        if not node.inputs:
            if found is None:  # a layer that was not there: nothing of it was heard
                new = node.make([])
                return np.zeros_like(new), new
            last, old = found
            out = node.follow(Former(node=last, inputs=[], out=old), []) if (
                last.like == node.like) else None  # fmt: skip
            new = node.make([]) if out is None else out
            if new.shape != old.shape:
                raise _CannotBeError  # played at another speed now
            return old, self._within(old, self._cut(new))
        pairs = self._engine.each(self.of, node.inputs)
        inputs = [new for _, new in pairs]
        # What was not there did nothing: its sound as it was is that of its input.
        old = found[1] if found else pairs[0][0]
        if any(one.shape != old.shape for one in inputs):
            raise _CannotBeError  # another length: places do not correspond
        piece = node.stretch(inputs, self._start, self._count)
        if piece is None:
            whole = node.make(inputs)
            if whole.shape != old.shape:
                raise _CannotBeError
            piece = self._cut(whole)
        return old, self._within(old, piece)

    def _cut(self, audio: Stereo) -> Stereo:
        return slice_wrapped(audio, self._start, self._count)

    def _within(self, old: Stereo, piece: Stereo) -> Stereo:
        """Put a piece in, faded at both ends."""
        if piece.shape[1] != self._count:
            raise _CannotBeError
        fade = raised_cosine(self._fade)
        share = np.ones(self._count, np.float32)
        share[: self._fade], share[-self._fade :] = fade, fade[::-1]
        was = self._cut(old)
        out = old.copy()
        put_wrapped(out, was + share * (piece - was), self._start % old.shape[1])
        return out
