"""How a treatment is run: over all of it, as what it does to spectra, or over a stretch."""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.looped import Looped, slice_wrapped
from cloudrift.audio.wrap import LONGEST_CHANGE, Spectrum, filter_circular
from cloudrift.ground.settings import ResolvedSettings
from cloudrift.texture.context import Context

Process = Callable[
    [Stereo, ResolvedSettings, int, Context], Stereo
]  # audio, settings, draw, context


@dataclass(frozen=True, kw_only=True)
class Linear:
    """A treatment that is linear and time-invariant: what it does to a spectrum, how long it rings.

    ``through(spectrum, settings, draw, context, length)`` gives the spectrum that comes out; it
    leaves the one it is given as it is. ``quick(audio, settings, context)`` is the same laid on a
    whole loop, where there is a quicker way than by its spectrum; None where there is not.
    """

    through: Callable[[Spectrum, ResolvedSettings, int, Context, int], Spectrum]
    ring_s: Callable[[ResolvedSettings, Context], float]
    quick: Callable[[Stereo, ResolvedSettings, Context], Stereo | None] = lambda _a, _f, _c: None

    def lay(
        self, audio: Stereo, full: ResolvedSettings, variation: int, context: Context
    ) -> Stereo:
        """Return what it makes of a loop by itself, unblended."""
        quick = self.quick(audio, full, context)
        if quick is not None:
            return quick
        ring = int(self.ring_s(full, context) * context.rate)
        return filter_circular(
            audio, lambda s, length: self.through(s, full, variation, context, length), ring
        )


@dataclass(frozen=True, kw_only=True)
class Near:
    """A treatment that hears only what is near: it can be run over a stretch of the loop.

    ``process(audio, settings, draw, context, start, count)`` takes the whole loop and returns the
    ``count`` frames from ``start`` on, wrapped. ``reach(settings, draw, context)`` is how many
    frames away, either way, a frame of the input is still heard.
    """

    process: Callable[[Looped, ResolvedSettings, int, Context, int, int], Stereo]
    reach: Callable[[ResolvedSettings, int, Context], int]


Rough = Callable[[Looped, ResolvedSettings, Context, int, int], Stereo | None]


def rough_of(process: Process, lead_s: float) -> Rough:
    """Return how a process is run on a stretch alone, with so much before and after it.

    The stretch is taken for a loop of its own: nearly right, for a moment. None where it would be
    most of the loop.
    """

    def rough(
        audio: Looped, full: ResolvedSettings, context: Context, start: int, count: int
    ) -> Stereo | None:
        lead = int(lead_s * context.rate)
        length = count + 2 * lead
        if length > LONGEST_CHANGE * audio.shape[1]:
            return None
        piece = np.array(slice_wrapped(audio, start - lead, length))
        alone = replace(context, exact_frames=float(length), passes=1, cuts=(0,))
        return process(piece, full, 1, alone)[:, lead : lead + count]

    return rough
