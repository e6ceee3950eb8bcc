"""What a kind of treatment is, and the context that a treatment works in."""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.wrap import LONGEST_CHANGE, Spectrum, filter_circular, slice_wrapped
from cloudrift.ground.settings import Full, SettingsSpec
from cloudrift.theory.key import Key

C_MINOR = Key()


@dataclass(frozen=True, kw_only=True)
class Context:
    """Where a treatment works: rate, the loop's length and tempo at this place, chord starts.

    ``exact_frames`` is the loop's length before rounding. ``passes`` is 1 for the steady state;
    a one-pass render is a loop with silence behind it, that many loop lengths long, so that the
    same code serves: nothing is left to wrap round. ``cuts`` are the chord starts in frames,
    ``key`` is what is heard here.
    """

    rate: int
    exact_frames: float
    tempo: float
    cuts: tuple[int, ...] = (0,)
    passes: int = 1
    once: bool = False
    key: Key = C_MINOR

    @property
    def loop_frames(self) -> int:
        """The period of everything that repeats."""
        return round(round(self.exact_frames, 4))  # floats of exact fractions, cleaned

    @property
    def frames(self) -> int:
        """The length of the audio handed in."""
        return self.passes * self.loop_frames

    @property
    def loop_s(self) -> float:
        """The period in seconds."""
        return self.exact_frames / self.rate

    def depends(self, *, in_key: bool) -> tuple[object, ...]:
        """All that a treatment can ask of it, as plain values; the key only of those that do."""
        key = self.key.plain if in_key else ""
        return (self.rate, self.exact_frames, self.tempo, self.cuts, self.passes, self.once, key)

    def stretched(self, ratio: float) -> "Context":
        """Return the context behind a change of length by ``ratio`` (2 = twice as long)."""
        if ratio == 1:
            return self
        return replace(
            self,
            exact_frames=self.exact_frames * ratio,
            tempo=self.tempo / ratio,
            cuts=tuple(round(cut * ratio) for cut in self.cuts),
        )

    def tiled(self, period: np.ndarray) -> np.ndarray:
        """Repeat something with the loop's period over the whole length (last axis)."""
        return np.tile(period, self.passes)


Process = Callable[[Stereo, Full, int, Context], Stereo]  # audio, settings, draw, context


@dataclass(frozen=True, kw_only=True)
class Linear:
    """A treatment that is linear and time-invariant: what it does to a spectrum, how long it rings.

    ``through(spectrum, settings, draw, context, length)`` gives the spectrum that comes out; it
    leaves the one it is given as it is.
    """

    through: Callable[[Spectrum, Full, int, Context, int], Spectrum]
    ring_s: Callable[[Full, Context], float]

    def lay(self, audio: Stereo, full: Full, draw: int, context: Context) -> Stereo:
        """Return what it makes of a loop by itself, unblended."""
        ring = int(self.ring_s(full, context) * context.rate)
        return filter_circular(
            audio, lambda s, length: self.through(s, full, draw, context, length), ring
        )


@dataclass(frozen=True, kw_only=True)
class Near:
    """A treatment that hears only what is near: it can be run over a stretch of the loop.

    ``process(audio, settings, draw, context, start, count)`` takes the whole loop and returns the
    ``count`` frames from ``start`` on, wrapped. ``reach(settings, draw, context)`` is how many
    frames away, either way, a frame of the input is still heard.
    """

    process: Callable[[Stereo, Full, int, Context, int, int], Stereo]
    reach: Callable[[Full, int, Context], int]


Rough = Callable[[Stereo, Full, Context, int, int], Stereo | None]


def rough_of(process: Process, lead_s: float) -> Rough:
    """Return how a process is run on a stretch alone, with so much before and after it.

    The stretch is taken for a loop of its own: nearly right, for a moment. None where it would be
    most of the loop.
    """

    def rough(audio: Stereo, full: Full, context: Context, start: int, count: int) -> Stereo | None:
        lead = int(lead_s * context.rate)
        length = count + 2 * lead
        if length > LONGEST_CHANGE * audio.shape[1]:
            return None
        piece = np.array(slice_wrapped(audio, start - lead, length))
        alone = replace(context, exact_frames=float(length), passes=1, cuts=(0,))
        return process(piece, full, 1, alone)[:, lead : lead + count]

    return rough


def _no_shift(_: Full) -> float:
    return 0.0


def _no_tail(_: Full, _tempo: float) -> float:
    return 0.0


def _same_length(_: Full) -> float:
    return 1.0


@dataclass(frozen=True, kw_only=True)
class Kind:
    """A kind of treatment.

    Exactly one of ``process`` and ``linear`` is there; ``near`` may be beside ``process``. ``says``
    writes in words what it does now.
    ``rough`` does what ``near.process`` does, but only nearly the same as the whole: good enough to
    be heard for a moment. ``shift_st`` and ``time_ratio`` tell how it moves the sounding key and
    length, ``tail_s(settings, tempo)`` how long it rings on.
    """

    name: str
    label: str
    family: str
    about: str
    spec: SettingsSpec
    says: Callable[[Full], str]
    process: Process | None = None
    linear: Linear | None = None
    near: Near | None = None
    rough: Rough | None = None
    shift_st: Callable[[Full], float] = _no_shift
    time_ratio: Callable[[Full], float] = _same_length
    tail_s: Callable[[Full, float], float] = _no_tail
    blend: float = 1.0  # what it begins with
    draws: bool = False  # whether its draw number changes anything
    follows_key: bool = False
    version: int = 1
