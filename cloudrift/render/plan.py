"""The plan: a loop as a small graph of pure steps, each with a key made from all it depends on.

notes -> bare layer -> after its treatments -> mix -> after the whole loop's treatments. A step
whose key is in the cache is not run, so changing one thing runs only what follows from it.
"""

import hashlib
from collections.abc import Callable
from dataclasses import dataclass

import msgspec
import numpy as np

from cloudrift.audio.buffers import Stereo, add_wrapped, silence, to_gain
from cloudrift.audio.wrap import changed_span, taken
from cloudrift.loop import spec
from cloudrift.loop.model import Layer, Loop
from cloudrift.notes.time import Clock
from cloudrift.sound.part import Part, ToneCache
from cloudrift.texture.kind import Context
from cloudrift.texture.treatment import Line, fused, tail_s, time_ratio, treat, treat_change

ONCE_LONGEST_TAIL_S = 40.0


@dataclass(frozen=True, kw_only=True)
class Node:
    """One step: its key, what it needs, and how to make it from that.

    ``like`` is the hash of all but the inputs (a part's notes count as such): two nodes that
    share it do the same to different input. ``follow(former, inputs)`` makes the output from what
    was made of another input, running only what differs; None when that is no less work.
    """

    key: bytes
    inputs: tuple["Node", ...]
    make: Callable[[list[Stereo]], Stereo]
    label: str
    like: bytes
    follow: Callable[["Former", list[Stereo]], Stereo | None]
    part: Part | None = None


@dataclass(frozen=True, kw_only=True)
class Former:
    """What a step like another has made: the step, its inputs' audio, and its own."""

    node: Node
    inputs: list[Stereo]
    out: Stereo


def _key(*parts: object) -> bytes:
    return hashlib.blake2b(msgspec.msgpack.encode(parts), digest_size=16).digest()


def passes_of(loop: Loop) -> int:
    """Return how many loop lengths a one-pass render needs until all has died away."""
    layers = loop.heard()
    tail = max(
        (layer.sound.of.spec.full(layer.sound.settings).number("release_ms") / 1000
         + tail_s(layer.line) for layer in layers),
        default=0.0,
    )  # fmt: skip
    tail = min(tail + tail_s(loop.line), ONCE_LONGEST_TAIL_S)
    return 1 + max(1, -(-int(tail * loop.rate) // loop.frames))


def loop_context(loop: Loop, *, once: bool = False) -> Context:
    """Return the context in front of the whole loop's line."""
    return Context(
        rate=loop.rate,
        exact_frames=float(loop.exact_frames),
        tempo=loop.tempo,
        cuts=tuple(loop.clock.frames(c.start_tick) for c in loop.chords) or (0,),
        passes=passes_of(loop) if once else 1,
        once=once,
    )


def layer_context(loop: Loop, layer: Layer, *, once: bool = False) -> Context:
    """Return the context in front of a layer's line.

    A line that makes its layer longer (tape) is fed a layer that was played as much faster, so
    that it comes out on the loop's grid.
    """
    return loop_context(loop, once=once).stretched(1 / time_ratio(layer.line))


def bare_layer(loop: Loop, layer: Layer, tones: ToneCache, *, once: bool = False) -> Node:
    """Return the step that plays a layer's notes."""
    context = layer_context(loop, layer, once=once)
    sound, frames = layer.sound, context.frames
    part = Part(
        notes=loop.notes_of(layer), instrument=sound.of, settings=sound.settings,
        clock=Clock.of(context.tempo, loop.rate), loop_ticks=loop.ticks, frames=frames, once=once,
    )  # fmt: skip

    def follow(former: Former, _: list[Stereo]) -> Stereo | None:
        assert former.node.part
        return part.follow(former.out, former.node.part, tones)

    what = (sound, context.tempo, loop.rate, frames, loop.ticks, once)
    return Node(
        key=_key("bare", part.notes, what),
        inputs=(),
        make=lambda _: part.render(tones),
        label=f"{layer.name}: notes",
        like=_key("bare", layer.id, what),
        follow=follow,
        part=part,
    )


def through(source: Node, line: Line, context: Context, place: str) -> Node:
    """Return the last step of a line laid behind a source; ``place`` says where in the loop."""
    node = source
    for i, group in enumerate(fused(line)):
        node = _treated(node, group, context, f"{place} {i}")
        context = context.stretched(time_ratio(group))
    return node


def _treated(source: Node, group: Line, context: Context, place: str) -> Node:
    what = [(t.kind, t.of.version, t.blend, t.draw, t.settings) for t in group]
    where = (context.rate, context.exact_frames, context.cuts, context.passes, context.once)
    return Node(
        key=_key("treat", source.key, what, where),
        inputs=(source,),
        make=lambda inputs: treat(inputs[0], group, context),
        label=", ".join(t.of.label for t in group),
        like=_key("treat", place, what, where),
        follow=lambda former, inputs: treat_change(
            former.out, former.inputs[0], inputs[0], group, context
        ),
    )


def layer_node(
    loop: Loop, layer: Layer, tones: ToneCache, *, count: int | None = None, once: bool = False
) -> Node:
    """Return a layer behind the first ``count`` of its treatments (all of them for None)."""
    bare = bare_layer(loop, layer, tones, once=once)
    # The context follows from the whole line: what comes later decides how fast it is played.
    return through(bare, layer.line[:count], layer_context(loop, layer, once=once), layer.id)


def placed(audio: Stereo, layer: Layer) -> Stereo:
    """Return a layer's audio at its level and pan."""
    return audio * np.array(_gains(layer), np.float32)[:, None]


def _gains(layer: Layer) -> tuple[float, float]:
    if layer.level_db <= spec.MIN_LEVEL_DB:
        return 0.0, 0.0
    gain = to_gain(layer.level_db)
    # A balance: the side one pans towards stays as it is.
    left = float(np.cos(max(0.0, layer.pan) * np.pi / 2))
    right = float(np.cos(max(0.0, -layer.pan) * np.pi / 2))
    return gain * left, gain * right


def mix_node(loop: Loop, tones: ToneCache, *, once: bool = False) -> Node:
    """Return the sum of the layers that are heard, in front of the whole loop's line."""
    layers = loop.heard()
    nodes = tuple(layer_node(loop, layer, tones, once=once) for layer in layers)
    frames = loop_context(loop, once=once).frames

    def make(inputs: list[Stereo]) -> Stereo:
        out = silence(frames)
        for audio, layer in zip(inputs, layers, strict=True):
            out += placed(audio, layer)
        return out

    def follow(former: Former, inputs: list[Stereo]) -> Stereo:
        new = former.out.copy()
        for old, audio, layer in zip(former.inputs, inputs, layers, strict=True):
            if old is not audio:
                start, count = changed_span(old, audio)
                difference = taken(audio, start, count) - taken(old, start, count)
                add_wrapped(new, placed(difference, layer), start)
        return new

    gains = [_gains(layer) for layer in layers]
    return Node(
        key=_key("mix", [n.key for n in nodes], gains, frames),
        inputs=nodes,
        make=make,
        label="mix",
        like=_key("mix", [layer.id for layer in layers], gains, frames, once),
        follow=follow,
    )


def loop_node(
    loop: Loop, tones: ToneCache, *, count: int | None = None, once: bool = False
) -> Node:
    """Return the whole loop behind the first ``count`` of its treatments (all for None)."""
    return through(mix_node(loop, tones, once=once), loop.line[:count],
                   loop_context(loop, once=once), "loop")  # fmt: skip
