"""A treatment some of whose values ride: run at a few settings, with the sound passing between.

The scale of what rides is divided evenly. The treatment is run with the settings at each place that
the ride comes by, over the time around it alone where it can be, and the sound passes from one to
the next as the value does. The blend is followed frame by frame.
"""

from collections.abc import Callable, Iterator
from itertools import product

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo
from cloudrift.ground.settings import SettingsSpec
from cloudrift.texture.context import Context
from cloudrift.texture.ride import BLEND, Ride, ride_shares, share_to_value

APART = 16_384  # frames: what is nearer than this is run in one
Values = tuple[tuple[str, float], ...]
# Runs the treatment with other settings: on the whole (None) or from a frame on, that many.
Run = Callable[[Values, tuple[int, int] | None], Stereo | None]


def blend_curve(rides: tuple[Ride, ...], context: Context) -> NDArray[np.float32] | None:
    """Return the blend at every frame of the loop, 0 to 1; None where it does not ride."""
    for ride in rides:
        if ride.of == BLEND.name:
            return np.asarray(ride_shares(ride, BLEND, context), np.float32)
    return None


class Course:
    """Which settings are heard when: a grid over what rides, and how near each point is.

    Every frame lies between two grid places of each value that rides, and hears the sounds at all
    of them, each the more the nearer it is.
    """

    def __init__(self, rides: tuple[Ride, ...], spec: SettingsSpec, context: Context) -> None:
        rides = tuple(ride for ride in rides if ride.of != BLEND.name)
        self._fields = [spec[ride.of] for ride in rides]
        # Two at once would be run at every pair of places: they are set wider apart.
        wider = 1 if len(rides) == 1 else 2
        self._counts = [round(1 / (field.ride_step * wider)) for field in self._fields]
        self._base = [int(np.prod([c + 1 for c in self._counts[:i]])) for i in range(len(rides))]
        self._low, self._nearer = [], []
        for ride, field, count in zip(rides, self._fields, self._counts, strict=True):
            at = ride_shares(ride, field, context) * count
            low = np.minimum(at.astype(np.int64), count - 1)
            self._low.append(low)
            self._nearer.append((at - low).astype(np.float32))
        # Round each frame lie as many places as there are corners: their codes, and how near.
        self._corners = list(self._round_each())
        codes = [np.unique(code[weight > 0]) for code, weight in self._corners]
        self.codes: list[int] = np.unique(np.concatenate(codes)).tolist()

    def _round_each(self) -> Iterator[tuple[NDArray[np.int64], NDArray[np.float32]]]:
        for corner in product((0, 1), repeat=len(self._low)):
            code = np.zeros(len(self._low[0]), np.int64)
            weight = np.ones(len(self._low[0]), np.float32)
            for up, low, nearer, base in zip(
                corner, self._low, self._nearer, self._base, strict=True
            ):
                code += (low + up) * base
                weight *= nearer if up else 1 - nearer
            yield code, weight

    def values(self, code: int) -> Values:
        """Return the settings at a place of the grid."""
        out = []
        for field, count, base in zip(self._fields, self._counts, self._base, strict=True):
            share = np.array([code // base % (count + 1) / count])
            out.append((field.name, field.clipped(float(share_to_value(field, share)[0]))))
        return tuple(out)

    def weights(
        self, code: int, at: NDArray[np.int64] | slice = slice(None)
    ) -> NDArray[np.float32]:
        """Return how much of the sound at a place is heard at some frames; at all for none."""
        parts = [
            np.where(codes[at] == code, weight[at], np.float32(0))
            for codes, weight in self._corners
        ]
        return np.asarray(np.sum(parts, axis=0), np.float32)


def ridden(course: Course, run: Run, context: Context) -> Stereo:
    """Return the sound of the whole loop with its settings riding: (2, frames)."""
    total = context.frames
    out = np.zeros((2, total), np.float32)
    for code in course.codes:
        values, weight = course.values(code), context.tiled(course.weights(code))
        spans = _spans(weight)
        parts = None
        if sum(count for _, count in spans) < total // 2:
            parts = [run(values, span) for span in spans]
        if parts is None or any(part is None for part in parts):
            spans, parts = [(0, total)], [run(values, None)]
        for (start, count), part in zip(spans, parts, strict=True):
            assert part is not None
            out[:, start : start + count] += part * weight[start : start + count]
    return out


def _spans(weight: NDArray[np.float32]) -> list[tuple[int, int]]:
    """Where something is heard: first frames and counts; what is near to each other as one."""
    heard = np.flatnonzero(weight)
    if not len(heard):
        return []
    gaps = np.flatnonzero(np.diff(heard) > APART)
    firsts, lasts = heard[np.append(0, gaps + 1)], heard[np.append(gaps, -1)]
    return [(int(a), int(b - a) + 1) for a, b in zip(firsts, lasts, strict=True)]


def ridden_stretch(
    course: Course, run: Run, context: Context, start: int, count: int
) -> Stereo | None:
    """Return some frames of that; None where the treatment cannot be run on a stretch."""
    out = np.zeros((2, count), np.float32)
    at = np.arange(start, start + count) % context.loop_frames
    for code in course.codes:
        weight = course.weights(code, at)
        if weight.any():
            part = run(course.values(code), (start, count))
            if part is None:
                return None
            out += part * weight
    return out
