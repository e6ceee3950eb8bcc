"""A treatment some of whose values ride: run at a few settings, with the sound passing between.

Along the way that the values take through the loop knots are set, evenly by how far they move. The
treatment is run with the settings of each knot, over the time around it alone where it can be, and
the sound is cross-faded from each to the next. The blend is followed frame by frame.
"""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo
from cloudrift.ground.settings import SettingsSpec
from cloudrift.texture.kind import Context
from cloudrift.texture.ride import BLEND, Ride, ride_shares, share_to_value

MOST_KNOTS = 120
ENDS = 1e-3  # of a scale: so near its end a value is at the end
Values = tuple[tuple[str, float], ...]
# Runs the treatment with other settings: on the whole (None) or from a frame on, so many.
Run = Callable[[Values, tuple[int, int] | None], Stereo | None]


def blend_curve(rides: tuple[Ride, ...], context: Context) -> NDArray[np.float32] | None:
    """Return the blend at every frame of the loop, 0 to 1; None where it does not ride."""
    for ride in rides:
        if ride.of == BLEND.name:
            return np.asarray(ride_shares(ride, BLEND, context), np.float32)
    return None


class Course:
    """Knots along the way of all settings that ride, and how much of each is heard when."""

    def __init__(self, rides: tuple[Ride, ...], spec: SettingsSpec, context: Context) -> None:
        fields = [spec[ride.of] for ride in rides if ride.of != BLEND.name]
        self.n = context.loop_frames
        shares = np.stack([ride_shares(ride, spec[ride.of], context)
                           for ride in rides if ride.of != BLEND.name])  # fmt: skip
        steps = np.array([field.ride_step for field in fields])
        moved = (np.abs(np.diff(shares, axis=1)) / steps[:, None]).sum(axis=0)
        way = np.concatenate([[0.0], np.cumsum(moved)])  # in steps
        count = int(min(MOST_KNOTS, max(1, np.ceil(way[-1]))))
        self.at = way / max(way[-1], 1e-12) * count  # which knot, and how far to the next
        # At the very ends a field may be off: a hair beside them it would not be.
        shares = np.where(shares < ENDS, 0.0, np.where(shares > 1 - ENDS, 1.0, shares))
        frames = np.searchsorted(self.at, np.arange(count + 1) - 1e-9).clip(0, self.n - 1)
        knots = [
            tuple(
                (field.name, field.clipped(round(float(share_to_value(field, s)), 6)))
                for field, s in zip(fields, shares[:, frame], strict=True)
            )
            for frame in frames
        ]
        # Going there and back passes the same places: each is run once.
        places = [
            tuple(round(field.to_share(value) / field.ride_step * 4)
                  for field, (_, value) in zip(fields, knot, strict=True))
            for knot in knots
        ]  # fmt: skip
        first = dict(zip(reversed(places), reversed(knots), strict=True))
        self.knots: list[Values] = [first[place] for place in places]

    def weights(self, values: Values) -> NDArray[np.float32]:
        """Return how much of the sound with these values is heard at every frame: (n,)."""
        out = np.zeros(self.n, np.float32)
        for k, knot in enumerate(self.knots):
            if knot == values:
                out += np.maximum(0, 1 - np.abs(self.at - k)).astype(np.float32)
        return out


def ridden(course: Course, run: Run, context: Context) -> Stereo:
    """Return the sound of the whole loop with its settings riding: (2, frames)."""
    total = context.frames
    out = np.zeros((2, total), np.float32)
    for values in dict.fromkeys(course.knots):
        weight = context.tiled(course.weights(values))
        heard = np.flatnonzero(weight)
        if not len(heard):
            continue
        first, last = int(heard[0]), int(heard[-1]) + 1
        part = run(values, (first, last - first)) if last - first < total // 2 else None
        if part is None:
            whole = run(values, None)
            assert whole is not None
            out += whole * weight
        else:
            out[:, first:last] += part * weight[first:last]
    return out


def ridden_stretch(
    course: Course, run: Run, context: Context, start: int, count: int
) -> Stereo | None:
    """Return some frames of that; None where the treatment cannot be run on a stretch."""
    out = np.zeros((2, count), np.float32)
    at = np.arange(start, start + count) % context.loop_frames
    for values in dict.fromkeys(course.knots):
        weight = course.weights(values)[at]
        if weight.any():
            part = run(values, (start, count))
            if part is None:
                return None
            out += part * weight
    return out
