"""Rides: a value that changes over the loop, drawn as points, without a step at the seam."""

from itertools import pairwise

import msgspec
import numpy as np
from numpy.typing import NDArray

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.settings import Field, percent
from cloudrift.notes.time import TICKS_PER_QUARTER
from cloudrift.texture.context import Context

BLEND = percent("blend", "Dry/wet", 100)
MOST_POINTS = 128
LEAST_EVERY, MOST_EVERY = TICKS_PER_QUARTER // 8, 64 * 4 * TICKS_PER_QUARTER
SMOOTH_S = 0.006  # over so long a step is drawn out, so that it never clicks
STEEPEST = 3.0  # how far a bend of 1 leans: the half-way point is 2^-3 of the way in value


class RidePoint(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A value (in its setting's unit) at a tick; ``bend`` leans the way to the next, -1 to 1.

    A positive bend stays near this point's value for longer, a negative one leaves it sooner.
    """

    tick: int
    value: float
    bend: float = 0.0


class Ride(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What rides (the name of a setting, ``blend`` or ``level_db``) and its points in order.

    With ``every_ticks`` the same way comes again so often, bent to divide the loop; 0: once a loop.
    """

    of: str
    points: tuple[RidePoint, ...]
    every_ticks: int = 0

    @property
    def mean(self) -> float:
        """The mean of its points' values, in the unit of what rides."""
        return sum(point.value for point in self.points) / len(self.points)

    def __post_init__(self) -> None:
        where = f"the ride of {self.of}"
        if not 1 <= len(self.points) <= MOST_POINTS:
            raise CloudriftError(f"{where} needs 1 to {MOST_POINTS} points, not {len(self.points)}")
        if any(b.tick <= a.tick for a, b in pairwise(self.points)) or self.points[0].tick < 0:
            raise CloudriftError(f"{where}: points must rise in time from tick 0, one at a tick")
        if self.every_ticks and not LEAST_EVERY <= self.every_ticks <= MOST_EVERY:
            raise CloudriftError(
                f"{where} repeats every {self.every_ticks} ticks, but must every {LEAST_EVERY} to "
                f"{MOST_EVERY}, or once a loop (0)"
            )
        if any(not -1 <= point.bend <= 1 for point in self.points):
            raise CloudriftError(f"{where}: a bend must lie between -1 and 1")


def check_ride(ride: Ride, field: Field, where: str) -> None:
    """Raise CloudriftError if a ride does not fit its field: not a number, or out of its range."""
    if field.choices or not field.rides:
        raise CloudriftError(f"{where}: {field.name} cannot ride; it has one value over the loop")
    for point in ride.points:
        field.checked(point.value, f"{where}: the ride of {field.name} at tick {point.tick}")


def shares_at(
    ride: Ride, field: Field, ticks: NDArray[np.float64], loop_ticks: float
) -> NDArray[np.float64]:
    """Return where on its field's scale (0 to 1) a ride is at some ticks of its period.

    That is the loop, unless it comes more often. From the last point it goes round to the first.
    Points after the period's end rest.
    """
    points = [point for point in ride.points if point.tick < loop_ticks] or [ride.points[0]]
    shares = [field.to_share(point.value) for point in points]
    if len(points) == 1:
        return np.full(len(ticks), shares[0])
    out = np.empty(len(ticks))
    first = points[0].tick
    at = (ticks - first) % loop_ticks + first
    ends = [*(point.tick for point in points[1:]), first + loop_ticks]
    for i, (point, end) in enumerate(zip(points, ends, strict=True)):
        inside = (at >= point.tick) & (at < end)
        to = (at[inside] - point.tick) / (end - point.tick)
        to = to ** (2.0 ** (STEEPEST * point.bend))
        out[inside] = shares[i] + (shares[(i + 1) % len(points)] - shares[i]) * to
    return out


def ride_shares(ride: Ride, field: Field, context: Context) -> NDArray[np.float64]:
    """Return where on its scale a ride is at every frame of a loop: (loop frames,)."""
    n = context.loop_frames
    period = context.loop_s * context.tempo / 60 * TICKS_PER_QUARTER
    turns = 1
    if ride.every_ticks:
        turns, period = max(1, round(period / ride.every_ticks)), float(ride.every_ticks)
    ticks = np.arange(n, dtype=np.float64) * (turns * period / n) % period
    shares = shares_at(ride, field, ticks, period)
    size = max(1, min(int(SMOOTH_S * context.rate), n // 2)) | 1
    round_it = np.concatenate([shares[n - size // 2 :], shares, shares[: size // 2 + 1]])
    total = np.concatenate([[0.0], np.cumsum(round_it)])
    return np.asarray((total[size : size + n] - total[:n]) / size)


def share_to_value(field: Field, shares: NDArray[np.float64]) -> NDArray[np.float64]:
    """Map places on a field's scale to values, without the field's steps."""
    if field.log:
        low = max(field.low, 1e-6)
        return np.asarray(low * (field.high / low) ** shares)
    return np.asarray(field.low + (field.high - field.low) * shares)


# --- hands ----------------------------------------------------------------------------------------


def with_point(
    points: tuple[RidePoint, ...], tick: int, value: float
) -> tuple[tuple[RidePoint, ...], int]:
    """Return points with another one, in order, and its place; one at that tick is moved."""
    kept = tuple(point for point in points if point.tick != tick)
    bend = next((point.bend for point in points if point.tick == tick), 0.0)
    at = sum(point.tick < tick for point in kept)
    return (*kept[:at], RidePoint(tick=tick, value=value, bend=bend), *kept[at:]), at


def moved_point(
    points: tuple[RidePoint, ...], at: int, tick: int, value: float, loop_ticks: int
) -> tuple[RidePoint, ...]:
    """Return points with one moved, between its neighbours and inside the loop."""
    low = points[at - 1].tick + 1 if at > 0 else 0
    high = points[at + 1].tick - 1 if at + 1 < len(points) else loop_ticks - 1
    moved = msgspec.structs.replace(points[at], tick=min(max(tick, low), high), value=value)
    return (*points[:at], moved, *points[at + 1 :])


def fitted_points(ride: Ride, every_ticks: int, loop_ticks: int) -> tuple[RidePoint, ...]:
    """Return a ride's points for another period (0: the loop), so that its way stays the same.

    It is drawn out or drawn together as a whole. Points that were after the old period's end, and
    rested, go; no two come to stand on one tick.
    """
    old, new = (ticks or loop_ticks for ticks in (ride.every_ticks, every_ticks))
    out: list[RidePoint] = []
    for point in ride.points:
        tick = round(point.tick * new / old)
        if point.tick < old and (not out or tick > out[-1].tick):
            out.append(msgspec.structs.replace(point, tick=tick))
    return tuple(out) or ride.points[:1]


def without_point(points: tuple[RidePoint, ...], at: int) -> tuple[RidePoint, ...]:
    """Return points with one left out."""
    return points[:at] + points[at + 1 :]


def bent(points: tuple[RidePoint, ...], at: int, by: float) -> tuple[RidePoint, ...]:
    """Return points with the way from one to the next leaning by more (-1 to 1 in all)."""
    bend = min(max(points[at].bend + by, -1.0), 1.0)
    return (*points[:at], msgspec.structs.replace(points[at], bend=bend), *points[at + 1 :])
