"""Steps that turn and add what comes in: ducking, lines, automation of gain, sums."""

import numpy as np

from cloudrift.audio.buffers import Mono, Stereo, add_wrapped, silence
from cloudrift.audio.looped import Looped, slice_wrapped
from cloudrift.audio.wrap import changed_span
from cloudrift.ground.lru import memoize
from cloudrift.loop.model.loop import LEVEL
from cloudrift.render.plan.node import Node, PreviousRun
from cloudrift.texture.context import Context
from cloudrift.texture.ride import Ride, ride_shares, share_to_value
from cloudrift.texture.running import Runner, runner
from cloudrift.texture.treatment import Line, after

Gains = tuple[float, float]  # left, right


AT_ONCE = 16_384  # frames


FEW = 2


DUCK_FALL = 132  # frames


class Ducked(Node):
    """What makes room for strokes: turned down at each, and back again.

    ``strokes`` are frames and shares (0 to 1) of the depth; ``depth_db``, frames of hold and way
    back are those of all.
    """

    kind = "ducked"

    def __init__(
        self,
        source: Node,
        strokes: tuple[tuple[int, float], ...],
        shape: tuple[float, int, int],
        frames: int,
        place: tuple[str, ...],
        *,
        once: bool,
    ) -> None:
        self._strokes, self._shape, self._frames, self._once = strokes, shape, frames, once
        super().__init__(
            place=place,
            depends=(shape, frames, once),
            given=strokes,
            inputs=(source,),
            label="ducking",
        )

    def make(self, inputs: list[Stereo]) -> Stereo:
        """Turn it down."""
        return inputs[0] * self.curve

    def stretch(
        self, inputs: list[Looped], start: int, count: int, former: PreviousRun | None = None
    ) -> Stereo:
        """Turn some frames of it down."""
        return slice_wrapped(inputs[0], start, count) * slice_wrapped(self.curve, start, count)

    @property
    def curve(self) -> Mono:
        """The gain at every frame."""
        return duck_curve(self._strokes, self._shape, self._frames, once=self._once)


@memoize
def duck_curve(
    strokes: tuple[tuple[int, float], ...],
    shape: tuple[float, int, int],
    frames: int,
    *,
    once: bool,
) -> Mono:
    """Return gains (frames,) that fall at each stroke, hold, and come back as a raised cosine.

    ``shape`` is the depth in dB, and the hold and the way back in frames. The fall takes 3 ms at
    44.1 kHz, before the stroke. Where two overlap, the lower counts; unless ``once``, they go round
    the loop's seam.
    """
    depth_db, hold, back = shape
    fall = DUCK_FALL
    dip = np.concatenate(
        [
            0.5 - 0.5 * np.cos(np.linspace(0, np.pi, fall, endpoint=False)),
            np.ones(hold),
            0.5 + 0.5 * np.cos(np.linspace(0, np.pi, back)),
        ]
    ).astype(np.float32)
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
        what = tuple((t.kind, t.version, t.blend, t.variation, t.settings, t.rides) for t in group)
        in_key = any(t.of.follows_key for t in group)
        self._group, self._context = group, context
        super().__init__(
            place=place,
            depends=(what, context.depends(in_key=in_key)),
            inputs=(source,),
            label=", ".join(t.of.label for t in group),
        )

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

    def follow(self, former: PreviousRun, inputs: list[Stereo]) -> Stereo | None:
        """Lay it on what has changed, and let that ring on."""
        return self._runner.change(former.out, former.inputs[0], inputs[0])

    def stretch(
        self, inputs: list[Looped], start: int, count: int, former: PreviousRun | None = None
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
        """Make what a stretch of that many frames needs, before it is needed."""
        self._runner.get_ready(count)


class LineBlended(Node):
    """What a line makes, blended into what goes into it."""

    kind = "line dry/wet"

    def __init__(self, dry: Node, wet: Node, blend: float, place: tuple[str, ...]) -> None:
        self._share = np.float32(blend)
        super().__init__(
            place=place, depends=(blend,), inputs=(dry, wet), label="dry/wet of the line"
        )

    def make(self, inputs: list[Stereo]) -> Stereo:
        """Blend them."""
        dry, wet = inputs
        return dry + self._share * (wet - dry)

    def stretch(
        self, inputs: list[Looped], start: int, count: int, former: PreviousRun | None = None
    ) -> Stereo:
        """Blend some frames of them."""
        return self.make([slice_wrapped(one, start, count) for one in inputs])


class GainAutomation(Node):
    """A level that rides."""

    kind = "riding"

    def __init__(
        self, source: Node, ride: Ride, context: Context, place: tuple[str, ...], label: str
    ) -> None:
        self._ride, self._context = ride, context
        super().__init__(
            place=place,
            depends=(ride, context.depends(in_key=False)),
            inputs=(source,),
            label=label,
        )

    def _curve(self) -> Mono:
        """The gain at every frame of the loop; the field's lowest value is silence."""
        shares = ride_shares(self._ride, LEVEL, self._context)
        gain = 10 ** (share_to_value(LEVEL, shares) / 20)
        return np.asarray(np.where(shares <= 1e-6, 0.0, gain), np.float32)

    def make(self, inputs: list[Stereo]) -> Stereo:
        """Turn it up and down."""
        return inputs[0] * self._context.tiled(self._curve())

    def stretch(
        self, inputs: list[Looped], start: int, count: int, former: PreviousRun | None = None
    ) -> Stereo:
        """Turn some frames of it up and down."""
        return slice_wrapped(inputs[0], start, count) * slice_wrapped(self._curve(), start, count)


class Summed(Node):
    """Parts added up, each at its gains."""

    kind = "summed"

    def __init__(
        self,
        parts: list[tuple[str, Node, Gains]],
        frames: int,
        place: tuple[str, ...],
        label: str,
        *,
        once: bool,
    ) -> None:
        self._frames = frames
        self._gains = [np.array(gains, np.float32)[:, None] for _, _, gains in parts]
        # By their names: what is followed takes away from each the one that it was.
        named = tuple((name, gains) for name, _, gains in parts)
        super().__init__(
            place=place,
            depends=(named, frames, once),
            label=label,
            inputs=tuple(node for _, node, _ in parts),
        )

    def make(self, inputs: list[Stereo]) -> Stereo:
        """Add them up."""
        out = silence(self._frames)
        for at in range(0, self._frames, AT_ONCE):  # what is added stays near the processor
            piece = np.s_[:, at : at + AT_ONCE]
            for audio, gain in zip(inputs, self._gains, strict=True):
                out[piece] += audio[piece] * gain
        return out

    def follow(self, former: PreviousRun, inputs: list[Stereo]) -> Stereo | None:
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
        self, inputs: list[Looped], start: int, count: int, former: PreviousRun | None = None
    ) -> Stereo:
        """Add some frames of them up."""
        out = silence(count)
        for audio, gain in zip(inputs, self._gains, strict=True):
            out += slice_wrapped(audio, start, count) * gain
        return out
