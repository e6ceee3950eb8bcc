"""Steps: small classes, each a pure function of its inputs and of what it declares once.

What a step ``depends`` on, beside its inputs, is told in one place. From it follow its ``key`` (the
name of its audio in the cache), its ``like`` (who has done the same to other input, and may be
followed), and its ``place`` (where in the loop it stands, whatever it does there). A step cannot
so be followed by one that differs in something it has forgotten to tell: what it does not declare
it has not got, for its constructor keeps nothing else.
"""

import numpy as np

from cloudrift.audio.buffers import Stereo, add_wrapped, silence
from cloudrift.audio.clips import ClipStore
from cloudrift.audio.looped import Looped, slice_wrapped
from cloudrift.render.plan.laying import Laying, laid
from cloudrift.render.plan.node import Node, PreviousRun
from cloudrift.render.plan.slicing import Cuts, cut_up
from cloudrift.sound.part import Part
from cloudrift.sound.tones import ToneCache
from cloudrift.texture.context import Context


class Played(Node):
    """Notes played with a sound."""

    kind = "played"

    def __init__(self, part: Part, tones: ToneCache, place: tuple[str, ...], label: str) -> None:
        self.part, self._tones = part, tones
        super().__init__(
            place=place, depends=part.depends, given=(part.notes, part.stops), label=label
        )

    @property
    def frames(self) -> int:
        """How many frames it makes."""
        return self.part.frames

    def make(self, inputs: list[Stereo]) -> Stereo:
        """Play them."""
        return self.part.render(self._tones)

    def follow(self, former: PreviousRun, inputs: list[Stereo]) -> Stereo | None:
        """Take away the notes that went, add those that came."""
        assert isinstance(former.node, Played)
        return self.part.follow(former.out, former.node.part, self._tones)

    def stretch(
        self, inputs: list[Looped], start: int, count: int, former: PreviousRun | None = None
    ) -> Stereo:
        """Play what is heard of the notes in some frames."""
        if former is None:
            return self.part.stretch(start, count, self._tones)
        assert isinstance(former.node, Played)
        return self.part.stretch(start, count, self._tones, (former.node.part, former.out))


class _ClipNode(Node):
    """Recorded sound that lies in the loop: what takes long is to fit it, and that is kept.

    So any stretch of it is cut from the whole, which is quick to lay.
    """

    def __init__(
        self,
        laying: Laying,
        clips: ClipStore,
        place: tuple[str, ...],
        label: str,
        depends: tuple[object, ...],
    ) -> None:
        self._laying, self._clips = laying, clips
        super().__init__(place=place, depends=depends, label=label)

    @property
    def frames(self) -> int:
        """How many frames it makes."""
        return self._laying.frames

    def stretch(
        self, inputs: list[Looped], start: int, count: int, former: PreviousRun | None = None
    ) -> Stereo:
        """Lay it, and cut some frames from that."""
        return slice_wrapped(self.make([]), start, count)


class Recorded(_ClipNode):
    """A recording, fitted and laid into the loop."""

    kind = "recorded"

    def __init__(
        self, laying: Laying, clips: ClipStore, place: tuple[str, ...], label: str
    ) -> None:
        super().__init__(laying, clips, place, label, depends=laying)

    def make(self, inputs: list[Stereo]) -> Stereo:
        """Lay it."""
        return laid(self._laying, self._clips)


class CutUp(_ClipNode):
    """A recording in pieces, each laid where it plays."""

    kind = "cut up"

    def __init__(self, cuts: Cuts, clips: ClipStore, place: tuple[str, ...], label: str) -> None:
        self._cuts = cuts
        super().__init__(cuts.laying, clips, place, label, depends=cuts)

    def make(self, inputs: list[Stereo]) -> Stereo:
        """Lay its pieces."""
        return cut_up(self._cuts, self._clips)

    def stretch(
        self, inputs: list[Looped], start: int, count: int, former: PreviousRun | None = None
    ) -> Stereo:
        """Lay what is heard in some frames: pieces whose pitch is held take long to make."""
        start %= self.frames
        return slice_wrapped(cut_up(self._cuts, self._clips, start, count), start, count)


class Repeated(Node):
    """A loop's notes in passes: heard from the start of some, with what rings on from each."""

    kind = "repeated"

    def __init__(
        self,
        one: Node,
        turns: tuple[int, ...],
        context: Context,
        place: tuple[str, ...],
        label: str,
    ) -> None:
        """``one`` is the steady state where it plays in all passes, and otherwise one pass."""
        self._turns, self._context = turns, context
        super().__init__(
            place=place, depends=(turns, context.depends(in_key=False)), inputs=(one,), label=label
        )

    def make(self, inputs: list[Stereo]) -> Stereo:
        """Lay it where it plays."""
        if len(self._turns) == self._context.passes:
            return self._context.tiled(inputs[0])
        out = silence(self._context.frames)
        for turn in self._turns:
            add_wrapped(out, inputs[0], turn * self._context.loop_frames)
        return out

    def stretch(
        self, inputs: list[Looped], start: int, count: int, former: PreviousRun | None = None
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
        self, inputs: list[Looped], start: int, count: int, former: PreviousRun | None = None
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
        self, inputs: list[Looped], start: int, count: int, former: PreviousRun | None = None
    ) -> Stereo:
        """Add some frames of them up."""
        return self.make([slice_wrapped(one, start, count) for one in inputs])
