"""Running a line: one runner for each fused group, which makes all of the loop or what changed.

A group is run in one of three ways: linear treatments that stand are one convolution, a treatment
that stands is its process, and one that rides is run at other values along its way. Each way
answers the same three questions, so that whoever renders need not know which it is.
"""

from abc import ABC, abstractmethod
from functools import cached_property

import msgspec
import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.looped import Looped, SplicedLoop, put_wrapped, slice_wrapped
from cloudrift.audio.wrap import (
    LONGEST_CHANGE,
    Spectrum,
    TruncatedResponse,
    changed_span,
    convolve_head,
    filter_change,
    filter_circular,
    filter_stretch,
    mixed,
    opening_of,
)
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.lru import get_or_make
from cloudrift.texture.context import Context
from cloudrift.texture.process import Process
from cloudrift.texture.ridden import Course, Values, blend_curve, ridden, ridden_stretch
from cloudrift.texture.ride import BLEND
from cloudrift.texture.treatment import Line, after, fused, stands, tail_s
from cloudrift.theory.key import Key


class Runner(ABC):
    """Runs one fused group in its context: (2, context.frames) in, frames after it out."""

    def __init__(self, group: Line, context: Context) -> None:
        self.group, self.context = group, context

    @abstractmethod
    def whole(self, audio: Stereo) -> Stereo:
        """Return what it makes of the whole loop."""

    def change(self, out: Stereo, before: Stereo, after: Stereo) -> Stereo | None:
        """Return what ``whole`` makes of ``after``, from what it made of ``before``.

        Only the stretch that an edit touched is run again, and what rings on from it. None when
        that is not possible, or no less work than the whole.
        """
        return None if self.context.once else self._change(out, before, after)

    def answer(self, out: Stereo, difference: Stereo, start: int) -> Stereo | None:
        """Return the frames of what ``whole`` makes over which its input begins to differ.

        ``out`` is what it made before, ``difference`` (2, count) is added to its input from
        ``start`` on: exact, as far as that goes. None where it is not linear, or rings too long.
        """
        return None if self.context.once else self._answer(out, difference, start)

    def get_ready(self, count: int) -> None:
        """Make what ``answer`` needs for that many frames, before it is needed."""
        del count

    def stretch(
        self, audio: Looped, start: int, count: int, *, exact: bool = False
    ) -> Stereo | None:
        """Return frames ``start`` to ``start + count`` of what ``whole`` makes.

        Nearly so, good enough to be heard for a moment, unless it is to be ``exact``. None where
        that is not possible, or no less work than the whole.
        """
        return None if self.context.once else self._stretch(audio, start, count, exact)

    def _change(self, out: Stereo, before: Stereo, after: Stereo) -> Stereo | None:
        del out, before, after
        return None

    def _answer(self, out: Stereo, difference: Stereo, start: int) -> Stereo | None:
        del out, difference, start
        return None

    @abstractmethod
    def _stretch(self, audio: Looped, start: int, count: int, exact: bool) -> Stereo | None: ...


def runner(group: Line, context: Context) -> Runner:
    """Return what runs a fused group."""
    if stands(group[0]):
        return LinearRunner(group, context)
    return RidingRunner(group, context) if group[0].rides else StandingRunner(group, context)


class LinearRunner(Runner):
    """Linear treatments that stand: one convolution."""

    def __init__(self, group: Line, context: Context) -> None:
        super().__init__(group, context)
        self._parts = [(t, linear, t.full) for t in group if (linear := t.of.linear) is not None]
        ring_s = sum(linear.ring_s(full, context) for _, linear, full in self._parts)
        self._ring = int(ring_s * context.rate)

    def _through(self, spectrum: Spectrum, length: int) -> Spectrum:
        for treatment, linear, full in self._parts:
            wet = linear.through(spectrum, full, treatment.variation, self.context, length)
            if treatment.blend < 1:
                wet = mixed(wet, spectrum, treatment.blend)
            spectrum = wet
        return spectrum

    def whole(self, audio: Stereo) -> Stereo:
        """Return what it makes of the whole loop."""
        if len(self._parts) == 1:
            ((treatment, linear, full),) = self._parts
            wet = linear.quick(audio, full, self.context)
            if wet is not None:
                return audio + np.float32(treatment.blend) * (wet - audio)
        return filter_circular(audio, self._through, self._ring)

    def _change(self, out: Stereo, before: Stereo, after: Stereo) -> Stereo | None:
        return filter_change(out, before, after, self._through, self._ring)

    def _answer(self, out: Stereo, difference: Stereo, start: int) -> Stereo | None:
        opening = self._opening(difference.shape[1])
        if opening is None:
            return None
        return slice_wrapped(out, start, difference.shape[1]) + convolve_head(difference, opening)

    def get_ready(self, count: int) -> None:
        """Make what ``answer`` needs for that many frames, before it is needed."""
        self._opening(count)

    def _opening(self, count: int) -> TruncatedResponse | None:
        what = tuple(
            (t.kind, t.version, t.blend, t.variation, t.settings) for t, _, _ in self._parts
        )
        key = ("opening", what, self.context.depends(in_key=True), count)
        return get_or_make(key, lambda: opening_of(self._through, self._ring, count))

    def _stretch(self, audio: Looped, start: int, count: int, exact: bool) -> Stereo | None:
        # What rang in longer ago than half of that is 45 dB down.
        ring = self._ring if exact else self._ring // 2
        return filter_stretch(audio, self._through, ring, start, count)


class _OneRunner(Runner):
    """One treatment, blended into what came in."""

    def __init__(self, group: Line, context: Context) -> None:
        super().__init__(group, context)
        (self.treatment,) = group
        self.kind, self.full = self.treatment.of, self.treatment.full

    @cached_property
    def _blend(self) -> NDArray[np.float32] | None:
        return blend_curve(self.treatment.rides, self.context)

    @property
    def _process(self) -> Process:
        if self.kind.process is None:
            raise CloudriftError(f"treatment {self.kind.name} has no process")
        return self.kind.process

    def whole(self, audio: Stereo) -> Stereo:
        """Return what it makes of the whole loop."""
        wet = self._wet(audio)
        if self.kind.time_ratio(self.full) != 1:
            return wet  # of another length: there is nothing to blend it with
        return self._blended(audio, wet)

    def _stretch(self, audio: Looped, start: int, count: int, exact: bool) -> Stereo | None:
        wet = self._wet_stretch(audio, start, count, exact)
        return (
            None if wet is None else self._blended(slice_wrapped(audio, start, count), wet, start)
        )

    def _blended(self, dry: Stereo, wet: Stereo, start: int = 0) -> Stereo:
        """Blend its sound into what came in; both begin at a frame of the loop."""
        if self._blend is not None:
            return dry + slice_wrapped(self._blend, start, dry.shape[1]) * (wet - dry)
        blend = self.treatment.blend
        return wet if blend == 1 else dry + np.float32(blend) * (wet - dry)

    @abstractmethod
    def _wet(self, audio: Stereo) -> Stereo:
        """What it makes of the whole loop, unblended."""

    @abstractmethod
    def _wet_stretch(self, audio: Looped, start: int, count: int, exact: bool) -> Stereo | None:
        """The same of a stretch of it."""


class StandingRunner(_OneRunner):
    """One treatment whose values stand."""

    def _wet(self, audio: Stereo) -> Stereo:
        return self._process(audio, self.full, self.treatment.variation, self.context)

    def _change(self, out: Stereo, before: Stereo, after: Stereo) -> Stereo | None:
        near, variation = self.kind.near, self.treatment.variation
        if near is None:
            return None
        start, count = changed_span(before, after)
        reach = near.reach(self.full, variation, self.context)
        if count + 2 * reach > LONGEST_CHANGE * out.shape[1]:
            return None
        new = out.copy()
        if count:
            start, count = start - reach, count + 2 * reach
            wet = near.process(after, self.full, variation, self.context, start, count)
            put_wrapped(new, self._blended(slice_wrapped(after, start, count), wet, start), start)
        return new

    def _wet_stretch(self, audio: Looped, start: int, count: int, exact: bool) -> Stereo | None:
        near, rough, context = self.kind.near, self.kind.rough, self.context
        if near:
            return near.process(audio, self.full, self.treatment.variation, context, start, count)
        return rough(audio, self.full, context, start, count) if rough and not exact else None


class RidingRunner(_OneRunner):
    """One treatment some of whose values ride."""

    @cached_property
    def _course(self) -> Course | None:
        """What rides beside the blend, if anything does."""
        rides = self.treatment.rides
        only_blend = all(ride.of == BLEND.name for ride in rides)
        return None if only_blend else Course(rides, self.kind.spec, self.context)

    def _at(self, values: Values) -> Runner:
        """What runs it with its values standing elsewhere."""
        still = msgspec.structs.replace(self.treatment, rides=(), blend=1.0)
        settings = self.kind.spec.check({**self.full, **dict(values)}, self.kind.name)
        return runner((msgspec.structs.replace(still, settings=settings),), self.context)

    def _run(
        self, audio: Looped, values: Values, where: tuple[int, int] | None, exact: bool
    ) -> Stereo | None:
        at = self._at(values)
        if where is not None:
            return at.stretch(audio, *where, exact=exact)
        return at.whole(audio.all() if isinstance(audio, SplicedLoop) else audio)

    def _wet(self, audio: Stereo) -> Stereo:
        if self._course is None:
            return self._at(()).whole(audio)
        return ridden(
            self._course, lambda values, where: self._run(audio, values, where, True), self.context
        )

    def _wet_stretch(self, audio: Looped, start: int, count: int, exact: bool) -> Stereo | None:
        if self._course is None:
            return self._at(()).stretch(audio, start, count, exact=exact)
        return ridden_stretch(
            self._course,
            lambda values, where: self._run(audio, values, where, exact),
            self.context,
            start,
            count,
        )


def treat(audio: Stereo, group: Line, context: Context) -> Stereo:
    """Apply one fused group: (2, context.frames) -> (2, frames of the context after it)."""
    return runner(group, context).whole(audio)


def laid(
    audio: Stereo,
    line: Line,
    rate: int,
    tempo: float,
    *,
    key: Key | None = None,
    once: bool = False,
) -> Stereo:
    """Lay a line on sound: (2, n) as a loop, or once, with the tail that it rings.

    Parameters
    ----------
    tempo : BPM, for what is in time.
    key : for what rings in the key; C minor where none is given.
    """
    n = audio.shape[1]
    passes = 2 + int(tail_s(line, tempo) * rate) // n if once else 1
    context = Context(
        rate=rate, exact_frames=float(n), tempo=tempo, passes=passes, once=once, key=key or Key()
    )
    if once:
        audio = np.pad(audio, ((0, 0), (0, (passes - 1) * n)))
    for group in fused(line):
        audio = treat(audio, group, context)
        context = after(context, group)
    return audio
