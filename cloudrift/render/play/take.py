"""What the player plays: a loop as the speaker takes it, what fades, what is struck once."""

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo

FADE_S = 0.010


# NumPy hands it on in every step over more than 500 numbers: what the callback does is done in
# pieces of fewer, and waits for nobody.
PIECE = 240  # frames of two channels


MOST_AT_ONCE = 8192  # frames: what devices ask for fits many times


@dataclass(frozen=True, kw_only=True)
class Take:
    """Something to play: a loop as the speaker takes it, and which part of it turns (shares).

    ``wave`` is (frames, 2), at its gain and within full scale: made ready once, so that the
    speaker's thread has next to nothing to do. It lasts that many ``bars``, if that is known.
    """

    wave: NDArray[np.float32]
    start: float = 0.0
    end: float = 1.0
    patch: NDArray[np.float32] | None = None  # (frames, 2), instead of the wave's own
    patch_at: int = 0
    bars: int = 0
    alike: float | None = None  # how like it is to what it takes the place of, if that is known

    def read(self, position: int, most: int) -> NDArray[np.float32]:
        """Return frames from a position on, at least one and ``most`` at most: a view, no copy.

        Fewer where the wave ends, or a patch begins or ends.
        """
        count = min(most, len(self.wave) - position)
        if self.patch is None:
            return self.wave[position : position + count]
        into = (position - self.patch_at) % len(self.wave)
        if into < len(self.patch):
            return self.patch[into : into + count]
        return self.wave[position : position + min(count, len(self.wave) - into)]

    def around(self, position: int, count: int) -> NDArray[np.float32]:
        """Return that many frames, round the seam: (count, 2); a view where that can be."""
        position %= len(self.wave)
        out = self.read(position, count)
        if len(out) == count:
            return out
        out = np.empty((count, 2), np.float32)
        done = 0
        while done < count:
            part = self.read((position + done) % len(self.wave), count - done)
            out[done : done + len(part)] = part
            done += len(part)
        return out

    @property
    def bounds(self) -> tuple[int, int]:
        """The part that turns, in frames."""
        n = len(self.wave)
        first = round(self.start * n)
        return first, max(first + 1, round(self.end * n))


def as_played(audio: Stereo, gain: float) -> NDArray[np.float32]:
    """(2, n) as the speaker takes it: (n, 2), at a gain and within full scale."""
    wave = np.empty((audio.shape[1], 2), np.float32)
    np.multiply(audio.T, np.float32(gain), out=wave)
    return np.clip(wave, -1.0, 1.0, out=wave)


def how_alike(old: Take, old_at: int, new: Take, new_at: int, frames: int) -> float:
    """How like two takes are over some frames: 1 where they are the same, 0 for nothing in common.

    In pieces, and without vdot, which hands Python's lock on however few the numbers are.
    """
    olds = news = both = 0.0
    for at in range(0, frames, PIECE):
        count = min(PIECE, frames - at)
        one, other = old.around(old_at + at, count), new.around(new_at + at, count)
        olds += float((one * one).sum())
        news += float((other * other).sum())
        both += float((one * other).sum())
    return both / (olds * news) ** 0.5 if olds * news > 0 else 1.0


@dataclass(frozen=True)
class FadingTake:
    """What was sounding before a jump, fading out."""

    take: Take
    position: int
    done: int


@dataclass
class OneShot:
    """Something played once over the loop.

    ``fading`` counts its last frames, -1 while it rings; ``rising`` those it still fades in over.
    ``open``: it is waited for what it goes on as, in silence where that comes late. ``began`` is
    the frame handed to the speaker that its first was, -1 while it waits.
    """

    wave: NDArray[np.float32]
    group: str
    alone: bool
    began: int = -1
    position: int = 0
    fading: int = -1
    rising: int = 0
    open: bool = False

    @property
    def over(self) -> bool:
        """Whether nothing of it is to come."""
        return self.fading == 0 or (self.position >= len(self.wave) and not self.open)


@dataclass(frozen=True)
class LongerTail:
    """What goes on in the place of what rings of a group, from where that is.

    ``open`` as in ``OneShot``.
    """

    wave: NDArray[np.float32]
    group: str
    open: bool = False


class Stamp(NamedTuple):
    """One pull: when it was (``time.perf_counter``), and what had been handed out before it.

    ``handed`` are all frames so far, ``at`` is the frame of the loop that comes, -1 where none is
    played; ``loop_frames`` its length.
    """

    when_s: float
    handed: int
    at: int
    loop_frames: int
