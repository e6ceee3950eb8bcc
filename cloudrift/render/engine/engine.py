"""The engine: runs plans on a small thread pool, through the cache, until told to stop."""

import threading
import time
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor, wait
from dataclasses import dataclass
from typing import Any, TypeVar, cast

import numpy as np

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.clips import ClipStore
from cloudrift.audio.loudness import integrated_lufs, true_peak_db
from cloudrift.audio.stretch import start_stretching
from cloudrift.ground.cancel import Cancelled, never
from cloudrift.ground.lru import BoundedStore
from cloudrift.loop.model.loop import Group, Layer, Loop
from cloudrift.render.engine.cache import AudioCache
from cloudrift.render.plan.node import Node, steps
from cloudrift.render.plan.node import PreviousRun as Former
from cloudrift.render.plan.plan import (
    ONCE,
    Form,
    gains_of,
    group_node,
    heard_node,
    layer_node,
    loop_node,
    placed,
)
from cloudrift.sound.kept_tones import KeptTones
from cloudrift.sound.tones import ToneCache
from cloudrift.texture.treatment import acting

WORKERS = 2
KEPT_FACTS = 256  # steps of which measures are kept
LOOK_S = 0.05  # how often a thread that waits for another looks whether it is wanted still
LATEST = 512  # steps of which the last run is remembered
ONCE_FLOOR = 10 ** (-90 / 20)  # where a one-pass tail has ended
ONCE_FADE_S = 0.02


_Out = TypeVar("_Out")


@dataclass(frozen=True, kw_only=True)
class Rendered:
    """A loop as sound in its steady state; ``key`` names the audio."""

    loop: Loop
    audio: Stereo
    key: bytes


@dataclass(frozen=True, kw_only=True)
class Loudness:
    """How loud a loop is in its steady state."""

    lufs: float
    true_peak_db: float


class Engine:
    """Computes nodes of plans. One engine serves playing, pictures and comparing."""

    def __init__(
        self,
        cache: AudioCache | None = None,
        clips: ClipStore | None = None,
        beside: "Engine | None" = None,
        kept: KeptTones | None = None,
    ) -> None:
        """``clips`` has the recordings that loops name: a store of its own if none is given.

        ``kept`` has tones on disk: nearly, not to the last bit, what would be computed. One
        ``beside`` another shares what is known, and follows the edits of a loop of its own.
        """
        self._beside = beside
        self.cache: AudioCache = beside.cache if beside else cache or AudioCache()
        self.tones: ToneCache = beside.tones if beside else ToneCache(clips=clips, kept=kept)
        self._latest = BoundedStore[Node](LATEST, lambda _: 1)  # by what they do
        self._latest_at = BoundedStore[Node](LATEST, lambda _: 1)  # by place and length
        self._took = BoundedStore[float](KEPT_FACTS, lambda _: 1)  # ms, by key
        self.facts = BoundedStore[object](KEPT_FACTS, lambda _: 1)  # what others measured, by key
        self._measured: dict[bytes, Loudness] = {}
        self._making: dict[bytes, threading.Event] = {}  # steps that a thread is at, by key
        self._making_lock = threading.Lock()
        self._pool = ThreadPoolExecutor(WORKERS, thread_name_prefix="render")
        self._given: set[Future[Any]] = set()  # to the pool, and not done

    @property
    def clips(self) -> ClipStore:
        """The recordings that loops may name."""
        return self.tones.clips

    def close(self, within_s: float | None = None) -> bool:
        """Let the threads go, and the audio: whoever still holds the engine holds little.

        Waits so long for steps that run (None: as long as they take); says whether all have ended.
        """
        self._pool.shutdown(wait=False, cancel_futures=True)
        running = [one for one in tuple(self._given) if not one.cancelled()]
        ended = not wait(running, None if within_s is None else max(0.0, within_s)).not_done
        self.facts.clear()
        if self._beside is None:
            self.cache.clear()
            self.tones.close()
        return ended

    def audio(
        self,
        node: Node,
        cancelled: Callable[[], bool] = never,
        progress: Callable[[str], None] | None = None,
        *,
        aside: bool = False,
    ) -> Stereo:
        """Return a node's audio, read-only: from the cache, or computed with what it needs.

        What is made ``aside`` is no form that what comes next is looked for in (``latest_at``).
        Raises Cancelled between two steps when ``cancelled`` says so.
        """
        while True:
            kept = self.cache.get(node.key)
            if kept is not None:
                return kept
            with self._making_lock:
                other = self._making.get(node.key)
                if other is None:
                    self._making[node.key] = threading.Event()
                    break
            # Another thread is at it; what it waits for itself lies below this step, so it ends.
            while not other.wait(LOOK_S):
                if cancelled():
                    raise Cancelled
        try:
            return self._made(node, cancelled, progress, aside=aside)
        finally:
            with self._making_lock:
                self._making.pop(node.key).set()

    def _made(
        self,
        node: Node,
        cancelled: Callable[[], bool],
        progress: Callable[[str], None] | None,
        *,
        aside: bool,
    ) -> Stereo:
        inputs = self.each(
            lambda one: self.audio(one, cancelled, progress, aside=aside), node.inputs
        )
        if cancelled():
            raise Cancelled
        former = self.former(node)
        out = node.follow(former, inputs) if former else None
        if out is None:
            began = time.perf_counter()
            out = self._run(node, inputs)
            self._took.put(node.key, (time.perf_counter() - began) * 1e3)
        self.cache.put(node.key, out, self._cost(node, former))
        if aside:
            self._latest.put(node.like, node)
        else:
            self.remember(node)
        if former:  # its inputs have served: they are the first to go when there is no room
            now = {each.key for each in node.inputs}
            self.cache.demote({each.key for each in former.node.inputs} - now)
        if progress:
            progress(node.label)
        return out

    def _run(self, node: Node, inputs: list[Stereo]) -> Stereo:
        """Compute a step from what it needs; by itself, so that tests may know what it comes to."""
        return node.make(inputs)

    def _cost(self, node: Node, former: Former | None) -> float:
        """How long it takes to make a step: what it took, or the one it has followed, in ms."""
        return self.took_ms(node) or (self.cache.cost_ms(former.node.key) if former else 0.0)

    def took_ms(self, node: Node) -> float:
        """Return how long the whole of a step took when it was last made, in ms; 0 if unknown."""
        return self._took.get(node.key) or 0.0

    def each(self, work: Callable[[Node], _Out], nodes: tuple[Node, ...]) -> list[_Out]:
        """Do some work for several steps beside each other and return what came of it, in order.

        What nobody has begun is done by the caller, from the last on: whoever waits in the pool
        for parts of a part (a group's layers) would else wait for itself.
        """
        if len(nodes) < 2:
            return [work(node) for node in nodes]
        futures = [self._pool.submit(work, node) for node in nodes]
        for future in futures:
            self._given.add(future)
            future.add_done_callback(self._given.discard)
        try:
            found = [
                work(node) if future.cancel() else future.result()
                for node, future in zip(nodes[::-1], futures[::-1], strict=True)
            ]
        finally:
            for future in futures:
                future.cancel()
        return found[::-1]

    def former(self, node: Node) -> Former | None:
        """Return the last step that did the same, if its audio is still there."""
        latest = self._latest.get(node.like)
        if latest is None:
            return None
        out = self.cache.get(latest.key)
        found = [self.cache.get(each.key) for each in latest.inputs]
        inputs = [audio for audio in found if audio is not None]
        if out is None or len(inputs) < len(found):
            return None
        return Former(node=latest, inputs=inputs, out=out)

    def remember(self, node: Node) -> None:
        """Take a step that has been made, wherever, for the last of its kind and at its place."""
        audio = self.cache.get(node.key)
        if audio is not None:
            self._latest.put(node.like, node)
            self._latest_at.put((node.place, audio.shape[1]), node)

    def latest_at(self, place: bytes, frames: int) -> tuple[Node, Stereo] | None:
        """Return the last step of a length that was run at a place, if its audio is there."""
        node = self._latest_at.get((place, frames))
        audio = self.cache.get(node.key) if node else None
        return (node, audio) if node and audio is not None else None

    def render(
        self, loop: Loop, cancelled: Callable[[], bool] = never, *, name: str = ""
    ) -> Rendered:
        """Return the loop in its steady state, with its groove bed where that is heard.

        All that it is made of stays at hand, also layers that are off, until another loop is
        rendered under its ``name``.
        """
        node = heard_node(loop, self.tones)
        if self.cache.get(node.key) is None and stretches(loop):
            start_stretching()  # beside the layers, which come first
        rendered = Rendered(loop=loop, audio=self.audio(node, cancelled), key=node.key)
        lanes = loop.lanes if loop.bed and loop.bed.heard else ()
        layers = [layer_node(loop, x, self.tones) for x in (*loop.layers, *lanes) if not x.parked]
        needed = {one.key for top in (node, *layers) for one in steps(top)}
        self.cache.hold(name, needed, {node.key, *(layer.key for layer in layers)})
        return rendered

    def without_bed(self, loop: Loop, cancelled: Callable[[], bool] = never) -> Stereo:
        """Return the loop alone, as it is delivered: the groove bed is no part of it."""
        return self.audio(loop_node(loop, self.tones), cancelled)

    def loudness(self, rendered: Rendered) -> Loudness:
        """Measure a rendered loop, once."""
        found = self._measured.get(rendered.key)
        if found is None:
            rate = rendered.loop.rate
            found = Loudness(
                lufs=integrated_lufs(rendered.audio, rate),
                true_peak_db=true_peak_db(rendered.audio),
            )
            if len(self._measured) > 256:
                self._measured.clear()
            self._measured[rendered.key] = found
        return found

    def once(self, loop: Loop, cancelled: Callable[[], bool] = never) -> Stereo:
        """Return one pass from silence, with its tail, ended where it has died away."""
        node = heard_node(loop, self.tones, ONCE)
        return trimmed(self.audio(node, cancelled, aside=True), loop.sounding_frames, loop.rate)

    def stem(
        self, loop: Loop, layer: Layer, *, once: bool = False, cancelled: Callable[[], bool] = never
    ) -> Stereo:
        """Return one layer as it enters its group or the sum: treated, at its level and pan."""
        return placed(
            self.audio(layer_node(loop, layer, self.tones, Form(once=once)), cancelled), layer
        )

    def group_stem(
        self, loop: Loop, group: Group, *, once: bool = False, cancelled: Callable[[], bool] = never
    ) -> Stereo:
        """Return a group as it enters the sum: its layers after its line, at its level and pan."""
        node = group_node(loop, group.id, self.tones, Form(once=once))
        return placed(self.audio(node, cancelled), group)

    def heard_layer(
        self, loop: Loop, layer: Layer, cancelled: Callable[[], bool] = never
    ) -> Stereo:
        """Return one layer as loud as it is in the sum; its group's line is left out of it."""
        audio = self.audio(layer_node(loop, layer, self.tones), cancelled)
        return placed(audio, layer, *_group_of(loop, layer))

    def of_layer(
        self,
        what: str,
        loop: Loop,
        layer: Layer,
        measure: Callable[[Stereo], _Out],
        cancelled: Callable[[], bool] = never,
    ) -> _Out:
        """Return what is measured of a layer as it enters the sum.

        It is kept, under the name of ``what`` it is: a layer that is heard as it was is not
        measured again.
        """
        gains = gains_of(layer, *_group_of(loop, layer))
        key = (what, layer_node(loop, layer, self.tones).key, gains)
        found = self.facts.get(key)
        if found is None:
            found = measure(self.heard_layer(loop, layer, cancelled))
            self.facts.put(key, found)
        return cast(_Out, found)


def _group_of(loop: Loop, layer: Layer) -> tuple[Group, ...]:
    return (loop.group(layer.group),) if layer.group else ()


def stretches(loop: Loop) -> bool:
    """Whether anything in a loop needs what stretches sound."""
    owners: tuple[Layer | Group, ...] = (*loop.layers, *loop.groups, *loop.lanes, *loop.bed_group)
    lines = [loop.line, *(x.line for x in owners)]
    return any(t.of.stretches(t.full) for line in lines for t in acting(line))


def trimmed(audio: Stereo, at_least: int, rate: int) -> Stereo:
    """Cut the silence after a tail, with a short fade."""
    loud = np.flatnonzero(np.abs(audio).max(axis=0) > ONCE_FLOOR)
    fade = int(ONCE_FADE_S * rate)
    end = max(at_least, int(loud[-1]) + fade if len(loud) else 0)
    out = audio[:, : min(end, audio.shape[1])].copy()
    out[:, -fade:] *= np.linspace(1, 0, fade, dtype=np.float32)
    return out
