"""Reading and writing round a loop's seam; and a loop in which one stretch is another."""

from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo, raised_cosine


class SplicedLoop:
    """A loop (2, n) with ``piece`` (2, count) in place of its frames from ``start`` on, wrapped.

    ``count`` is at most n. It is read as any loop is, by the functions of this module, without
    there being a copy of the whole.
    """

    def __init__(self, whole: Stereo, piece: Stereo, start: int) -> None:
        self.whole, self.piece, self.start = whole, piece, start % whole.shape[1]

    @property
    def shape(self) -> tuple[int, ...]:
        """That of the loop."""
        return self.whole.shape

    def slice(self, start: int, count: int) -> Stereo:
        """Return a copy of ``count`` frames from ``start`` on, wrapped."""
        n, long = self.whole.shape[1], self.piece.shape[1]
        start %= n
        out = np.array(slice_wrapped(self.whole, start, count))
        for turn in range(-1, (start + count) // n + 1):  # wherever the piece comes round
            at = self.start + turn * n - start
            first, last = max(at, 0), min(at + long, count)
            if first < last:
                out[:, first:last] = self.piece[:, first - at : last - at]
        return out

    def at(self, places: NDArray[np.int64]) -> Stereo:
        """Return the frames at some places, each from 0 to n - 1."""
        out = self.whole[:, places]
        into = (places - self.start) % self.whole.shape[1]
        inside = into < self.piece.shape[1]
        out[:, inside] = self.piece[:, into[inside]]
        return out

    def all(self) -> Stereo:
        """Return the whole of it, a copy."""
        return self.slice(0, self.whole.shape[1])

    def faded(self, frames: int) -> "SplicedLoop":
        """Return it with the piece faded into the loop over that many frames at both ends."""
        fade = raised_cosine(frames)
        share = np.ones(self.piece.shape[1], np.float32)
        share[:frames], share[-frames:] = fade, fade[::-1]
        was = slice_wrapped(self.whole, self.start, self.piece.shape[1])
        return SplicedLoop(self.whole, was + share * (self.piece - was), self.start)


Looped: TypeAlias = Stereo | SplicedLoop


def slice_wrapped(
    audio: NDArray[np.float32] | SplicedLoop, start: int, count: int
) -> NDArray[np.float32]:
    """Return ``count`` frames of a loop from a start frame, round the seam as often as it takes."""
    if isinstance(audio, SplicedLoop):
        return audio.slice(start, count)
    n = audio.shape[-1]
    start %= n
    if start + count <= n:
        return audio[..., start : start + count]
    turns, rest = divmod(start + count - n, n)
    return np.concatenate([audio[..., start:], *[audio] * turns, audio[..., :rest]], axis=-1)


def frames_at(audio: Looped, places: NDArray[np.int64]) -> Stereo:
    """Return the frames of a loop (2, n) at some places, each from 0 to n - 1: (2, places)."""
    return audio.at(places) if isinstance(audio, SplicedLoop) else audio[:, places]


def put_wrapped(target: NDArray[np.float32], part: NDArray[np.float32], start: int) -> None:
    """Write a part over a loop from a start frame, round the seam if it must."""
    n, count = target.shape[-1], part.shape[-1]
    start %= n
    first = min(count, n - start)
    target[..., start : start + first] = part[..., :first]
    target[..., : count - first] = part[..., first:]
