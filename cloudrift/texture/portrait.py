"""The portrait of a treatment at its place: its kind's picture, and what rides in it twice."""

from dataclasses import replace

import numpy as np

from cloudrift.ground.settings import ResolvedSettings
from cloudrift.texture.context import Context
from cloudrift.texture.picture import Portrait
from cloudrift.texture.ride import BLEND
from cloudrift.texture.treatment import Treatment


def portrait(treatment: Treatment, context: Context) -> Portrait | None:
    """Return the picture of what a treatment does at its place; None for one not known here."""
    if not treatment.known:
        return None
    kind, full = treatment.of, treatment.full
    # Once, in one turn: what repeats is drawn for one loop.
    context = replace(context, passes=1, once=False)
    ride = next((ride for ride in treatment.rides if ride.of != BLEND.name), None)
    if ride is None:
        return kind.drawn(full, treatment.variation, context)
    values = [point.value for point in ride.points]
    high, low = (
        kind.drawn(ResolvedSettings({**full, ride.of: value}), treatment.variation, context)
        for value in (max(values), min(values))
    )
    if low.x.shape != high.x.shape or not np.allclose(low.x, high.x):
        return high
    label = kind.spec[ride.of].label.lower()
    return replace(
        high,
        title=f"{high.title}: {label} at its highest, and lowest (dashed)",
        curves=(high.curves[0], low.curves[0]),
    )
