"""Steps: small classes, each a pure function of its inputs and of what it declares once.

What a step ``depends`` on, beside its inputs, is told in one place. From it follow its ``key`` (the
name of its audio in the cache), its ``like`` (who has done the same to other input, and may be
followed), and its ``place`` (where in the loop it stands, whatever it does there). A step cannot
so be followed by one that differs in something it has forgotten to tell: what it does not declare
it has not got, for its constructor keeps nothing else.
"""

import hashlib
from abc import ABC, abstractmethod
from collections.abc import Iterator
from typing import ClassVar, NamedTuple

import msgspec
import numpy as np

from cloudrift.audio.buffers import Mono, Stereo, add_wrapped, silence
from cloudrift.audio.clips import ClipStore
from cloudrift.audio.looped import Looped, slice_wrapped
from cloudrift.audio.wrap import changed_span
from cloudrift.ground.lru import kept
from cloudrift.loop.model.loop import LEVEL
from cloudrift.render.plan.laying import Laying, laid
from cloudrift.render.plan.slicing import Cuts, cut_up
from cloudrift.sound.part import Part
from cloudrift.sound.tones import ToneCache
from cloudrift.texture.context import Context
from cloudrift.texture.ride import Ride, ride_shares, share_to_value
from cloudrift.texture.running import Runner, runner
from cloudrift.texture.treatment import Line, after

Gains = tuple[float, float]  # left, right
AT_ONCE = 16_384  # frames
FEW = 2
DUCK_FALL = 132  # frames


class Former(NamedTuple):
    """What a step like another has made: the step, its inputs' audio, and its own."""

    node: "Node"
    inputs: list[Stereo]
    out: Stereo


def _hash(*parts: object) -> bytes:
    return hashlib.blake2b(msgspec.msgpack.encode(parts), digest_size=16).digest()


class Node(ABC):
    """One step.

    Parameters
    ----------
    place : where in the loop it stands: ids and names, whatever its settings.
    inputs : the steps whose audio it is made from.
    depends : all else that decides what it makes, as plain values.
    given : what of that counts as input: two steps that differ in nothing else are alike.
    label : what it is, in words, for progress.
    """

    kind: ClassVar[str]

    def __init__(
        self, *, place: tuple[str, ...], depends: tuple[object, ...], label: str,
        inputs: tuple["Node", ...] = (), given: object = None,
    ) -> None:  # fmt: skip
        self.inputs, self.label = inputs, label
        self.key: bytes = _hash(self.kind, depends, given, [node.key for node in inputs])
        self.like: bytes = _hash(self.kind, place, depends)
        self.place: bytes = _hash(self.kind, place)

    @property
    def frames(self) -> int | None:
        """How many frames it makes by itself; None where that follows from what comes in."""
        return None

    @abstractmethod
    def make(self, inputs: list[Stereo]) -> Stereo:
        """Make the whole of it."""

    def follow(self, former: Former, inputs: list[Stereo]) -> Stereo | None:
        """Make it from what a step like it made of other input, running only what differs.

        None where that is no less work than the whole.
        """
        del former, inputs
        return None

    @abstractmethod
    def stretch(
        self, inputs: list[Looped], start: int, count: int, former: Former | None = None
    ) -> Stereo | None:
        """Make only some frames, or nearly so; None where that cannot be.

        ``former`` is what a step like it has made, if there is one: what sounded until ``start``
        rings on from it.
        """


def steps(node: Node) -> Iterator[Node]:
    """Return a step and all that it is made from."""
    yield node
    for one in node.inputs:
        yield from steps(one)


class Played(Node):
    """Notes played with a sound."""

    kind = "played"

    def __init__(self, part: Part, tones: ToneCache, place: tuple[str, ...], label: str) -> None:
        self.part, self._tones = part, tones
        super().__init__(place=place, depends=part.depends, given=(part.notes, part.stops),
                         label=label)  # fmt: skip

    @property
    def frames(self) -> int:
        """How many frames it makes."""
        return self.part.frames

    def make(self, inputs: list[Stereo]) -> Stereo:
        """Play them."""
        return self.part.render(self._tones)

    def follow(self, former: Former, inputs: list[Stereo]) -> Stereo | None:
        """Take away the notes that went, add those that came."""
        assert isinstance(former.node, Played)
        return self.part.follow(former.out, former.node.part, self._tones)

    def stretch(
        self, inputs: list[Looped], start: int, count: int, former: Former | None = None
    ) -> Stereo:
        """Play what is heard of the notes in some frames."""
        if former is None:
            return self.part.stretch(start, count, self._tones)
        assert isinstance(former.node, Played)
        return self.part.stretch(start, count, self._tones, (former.node.part, former.out))


class _Lying(Node):
    """Recorded sound that lies in the loop: what takes long is to fit it, and that is kept.

    So any stretch of it is cut from the whole, which is quick to lay.
    """

    def __init__(
        self, laying: Laying, clips: ClipStore, place: tuple[str, ...], label: str,
        depends: tuple[object, ...],
    ) -> None:  # fmt: skip
        self._laying, self._clips = laying, clips
        super().__init__(place=place, depends=depends, label=label)

    @property
    def frames(self) -> int:
        """How many frames it makes."""
        return self._laying.frames

    def stretch(
        self, inputs: list[Looped], start: int, count: int, former: Former | None = None
    ) -> Stereo:
        """Lay it, and cut some frames from that."""
        return slice_wrapped(self.make([]), start, count)


class Recorded(_Lying):
    """A recording, fitted and laid into the loop."""

    kind = "recorded"

    def __init__(
        self, laying: Laying, clips: ClipStore, place: tuple[str, ...], label: str
    ) -> None:
        super().__init__(laying, clips, place, label, depends=laying)

    def make(self, inputs: list[Stereo]) -> Stereo:
        """Lay it."""
        return laid(self._laying, self._clips)


class CutUp(_Lying):
    """A recording in pieces, each laid where it plays."""

    kind = "cut up"

    def __init__(self, cuts: Cuts, clips: ClipStore, place: tuple[str, ...], label: str) -> None:
        self._cuts = cuts
        super().__init__(cuts.laying, clips, place, label, depends=cuts)

    def make(self, inputs: list[Stereo]) -> Stereo:
        """Lay its pieces."""
        return cut_up(self._cuts, self._clips)

    def stretch(
        self, inputs: list[Looped], start: int, count: int, former: Former | None = None
    ) -> Stereo:
        """Lay what is heard in some frames: pieces whose pitch is held take long to make."""
        start %= self.frames
        return slice_wrapped(cut_up(self._cuts, self._clips, start, count), start, count)


class Repeated(Node):
    """A loop's notes in passes: heard from the start of some, with what rings on from each."""

    kind = "repeated"

    def __init__(
        self, one: Node, turns: tuple[int, ...], context: Context, place: tuple[str, ...],
        label: str,
    ) -> None:  # fmt: skip
        """``one`` is the steady state where it plays in all passes, and otherwise one pass."""
        self._turns, self._context = turns, context
        super().__init__(place=place, depends=(turns, context.depends(in_key=False)),
                         inputs=(one,), label=label)  # fmt: skip

    def make(self, inputs: list[Stereo]) -> Stereo:
        """Lay it where it plays."""
        if len(self._turns) == self._context.passes:
            return self._context.tiled(inputs[0])
        out = silence(self._context.frames)
        for turn in self._turns:
            add_wrapped(out, inputs[0], turn * self._context.loop_frames)
        return out

    def stretch(
        self, inputs: list[Looped], start: int, count: int, former: Former | None = None
    ) -> None:
        """Passes are printed, rather than played while they are changed."""
        del inputs, start, count, former


class Turns(Node):
    """Two sounds that take turns, added up: each has the notes of its own turns."""

    kind = "turns"

    def __init__(self, one: Node, other: Node, place: tuple[str, ...], label: str) -> None:
        super().__init__(place=place, depends=(), inputs=(one, other), label=label)

    def make(self, inputs: list[Stereo]) -> Stereo:
        """Add them up."""
        return inputs[0] + inputs[1]

    def stretch(
        self, inputs: list[Looped], start: int, count: int, former: Former | None = None
    ) -> Stereo:
        """Add some frames of them up."""
        return slice_wrapped(inputs[0], start, count) + slice_wrapped(inputs[1], start, count)


class Stack(Node):
    """Several sounds struck at once, each at its gain."""

    kind = "stack"

    def __init__(
        self, parts: list[Node], gains: tuple[float, ...], place: tuple[str, ...], label: str
    ) -> None:
        self._gains = [np.float32(gain) for gain in gains]
        super().__init__(place=place, depends=gains, inputs=tuple(parts), label=label)

    def make(self, inputs: list[Stereo]) -> Stereo:
        """Add them up."""
        out = inputs[0] * self._gains[0]
        for audio, gain in zip(inputs[1:], self._gains[1:], strict=True):
            out += audio * gain
        return out

    def stretch(
        self, inputs: list[Looped], start: int, count: int, former: Former | None = None
    ) -> Stereo:
        """Add some frames of them up."""
        return self.make([slice_wrapped(one, start, count) for one in inputs])


class Ducked(Node):
    """What makes room for strokes: turned down at each, and back again.

    ``strokes`` are frames and shares (0 to 1) of the depth; ``depth_db``, frames of hold and way
    back are those of all.
    """

    kind = "ducked"

    def __init__(
        self, source: Node, strokes: tuple[tuple[int, float], ...], shape: tuple[float, int, int],
        frames: int, place: tuple[str, ...], *, once: bool,
    ) -> None:  # fmt: skip
        self._strokes, self._shape, self._frames, self._once = strokes, shape, frames, once
        super().__init__(place=place, depends=(shape, frames, once), given=strokes,
                         inputs=(source,), label="ducking")  # fmt: skip

    def make(self, inputs: list[Stereo]) -> Stereo:
        """Turn it down."""
        return inputs[0] * self.curve

    def stretch(
        self, inputs: list[Looped], start: int, count: int, former: Former | None = None
    ) -> Stereo:
        """Turn some frames of it down."""
        return slice_wrapped(inputs[0], start, count) * slice_wrapped(self.curve, start, count)

    @property
    def curve(self) -> Mono:
        """The gain at every frame."""
        return duck_curve(self._strokes, self._shape, self._frames, once=self._once)


@kept
def duck_curve(
    strokes: tuple[tuple[int, float], ...], shape: tuple[float, int, int], frames: int, *,
    once: bool,
) -> Mono:  # fmt: skip
    """Return gains (frames,) that fall at each stroke, hold, and come back as a raised cosine.

    ``shape`` is the depth in dB, and the hold and the way back in frames. The fall takes 3 ms at
    44.1 kHz, before the stroke. Where two overlap, the lower counts; unless ``once``, they go round
    the loop's seam.
    """
    depth_db, hold, back = shape
    fall = DUCK_FALL
    dip = np.concatenate([
        0.5 - 0.5 * np.cos(np.linspace(0, np.pi, fall, endpoint=False)), np.ones(hold),
        0.5 + 0.5 * np.cos(np.linspace(0, np.pi, back)),
    ]).astype(np.float32)  # fmt: skip
    dip = dip[:frames]
    down = np.zeros(frames, np.float32)
    for frame, share in strokes:
        first = frame - fall
        if once:
            a, b = max(first, 0), min(first + len(dip), frames)
            if a < b:
                down[a:b] = np.maximum(down[a:b], share * dip[a - first : b - first])
            continue
        at = first % frames
        head = min(len(dip), frames - at)
        down[at : at + head] = np.maximum(down[at : at + head], share * dip[:head])
        rest = dip[head:]
        down[: len(rest)] = np.maximum(down[: len(rest)], share * rest)
    return np.asarray(10 ** (-depth_db * down / 20), np.float32)


class Treated(Node):
    """A fused group of treatments laid on what comes in."""

    kind = "treated"

    def __init__(self, source: Node, group: Line, context: Context, place: tuple[str, ...]) -> None:
        what = tuple((t.kind, t.version, t.blend, t.draw, t.settings, t.rides) for t in group)
        in_key = any(t.of.follows_key for t in group)
        self._group, self._context = group, context
        super().__init__(
            place=place, depends=(what, context.depends(in_key=in_key)), inputs=(source,),
            label=", ".join(t.of.label for t in group),
        )  # fmt: skip

    @property
    def frames(self) -> int:
        """How long it makes what comes in: what goes slower is longer."""
        return after(self._context, self._group).frames

    @property
    def _runner(self) -> Runner:
        # Made when it runs and not kept: steps are remembered long, and what rides fills arrays.
        return runner(self._group, self._context)

    def make(self, inputs: list[Stereo]) -> Stereo:
        """Lay it on the whole."""
        return self._runner.whole(inputs[0])

    def follow(self, former: Former, inputs: list[Stereo]) -> Stereo | None:
        """Lay it on what has changed, and let that ring on."""
        return self._runner.change(former.out, former.inputs[0], inputs[0])

    def stretch(
        self, inputs: list[Looped], start: int, count: int, former: Former | None = None
    ) -> Stereo | None:
        """Lay it on some frames."""
        runs = self._runner
        if former is not None:
            difference = slice_wrapped(inputs[0], start, count) - slice_wrapped(
                former.inputs[0], start, count
            )
            found = runs.answer(former.out, difference, start)
            if found is not None:
                return found
        return runs.stretch(inputs[0], start, count)

    def get_ready(self, count: int) -> None:
        """Make what a stretch of so many frames needs, before it is needed."""
        self._runner.get_ready(count)


class LineBlended(Node):
    """What a line makes, blended into what goes into it."""

    kind = "line blend"

    def __init__(self, dry: Node, wet: Node, blend: float, place: tuple[str, ...]) -> None:
        self._share = np.float32(blend)
        super().__init__(place=place, depends=(blend,), inputs=(dry, wet),
                         label="blend of the line")  # fmt: skip

    def make(self, inputs: list[Stereo]) -> Stereo:
        """Blend them."""
        dry, wet = inputs
        return dry + self._share * (wet - dry)

    def stretch(
        self, inputs: list[Looped], start: int, count: int, former: Former | None = None
    ) -> Stereo:
        """Blend some frames of them."""
        return self.make([slice_wrapped(one, start, count) for one in inputs])


class Riding(Node):
    """A level that rides."""

    kind = "riding"

    def __init__(
        self, source: Node, ride: Ride, context: Context, place: tuple[str, ...], label: str
    ) -> None:
        self._ride, self._context = ride, context
        super().__init__(place=place, depends=(ride, context.depends(in_key=False)),
                         inputs=(source,), label=label)  # fmt: skip

    def _curve(self) -> Mono:
        """The gain at every frame of the loop; the field's lowest value is silence."""
        shares = ride_shares(self._ride, LEVEL, self._context)
        gain = 10 ** (share_to_value(LEVEL, shares) / 20)
        return np.asarray(np.where(shares <= 1e-6, 0.0, gain), np.float32)

    def make(self, inputs: list[Stereo]) -> Stereo:
        """Turn it up and down."""
        return inputs[0] * self._context.tiled(self._curve())

    def stretch(
        self, inputs: list[Looped], start: int, count: int, former: Former | None = None
    ) -> Stereo:
        """Turn some frames of it up and down."""
        return slice_wrapped(inputs[0], start, count) * slice_wrapped(self._curve(), start, count)


class Summed(Node):
    """Parts added up, each at its gains."""

    kind = "summed"

    def __init__(
        self, parts: list[tuple[str, Node, Gains]], frames: int, place: tuple[str, ...],
        label: str, *, once: bool,
    ) -> None:  # fmt: skip
        self._frames = frames
        self._gains = [np.array(gains, np.float32)[:, None] for _, _, gains in parts]
        # By their names: what is followed takes away from each the one that it was.
        named = tuple((name, gains) for name, _, gains in parts)
        super().__init__(place=place, depends=(named, frames, once), label=label,
                         inputs=tuple(node for _, node, _ in parts))  # fmt: skip

    def make(self, inputs: list[Stereo]) -> Stereo:
        """Add them up."""
        out = silence(self._frames)
        for at in range(0, self._frames, AT_ONCE):  # what is added stays near the processor
            piece = np.s_[:, at : at + AT_ONCE]
            for audio, gain in zip(inputs, self._gains, strict=True):
                out[piece] += audio[piece] * gain
        return out

    def follow(self, former: Former, inputs: list[Stereo]) -> Stereo | None:
        """Add what has changed, less what it was; None where so much has that all is less work."""
        if sum(old is not new for old, new in zip(former.inputs, inputs, strict=True)) > FEW:
            return None
        new = former.out.copy()
        for old, audio, gain in zip(former.inputs, inputs, self._gains, strict=True):
            if old is not audio:
                start, count = changed_span(old, audio)
                difference = slice_wrapped(audio, start, count) - slice_wrapped(old, start, count)
                add_wrapped(new, difference * gain, start)
        return new

    def stretch(
        self, inputs: list[Looped], start: int, count: int, former: Former | None = None
    ) -> Stereo:
        """Add some frames of them up."""
        out = silence(count)
        for audio, gain in zip(inputs, self._gains, strict=True):
            out += slice_wrapped(audio, start, count) * gain
        return out
