"""Strata: how much of a loop each layer is, over time."""

from functools import partial

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.spectrum import energy_curve
from cloudrift.loop.model.loop import Loop
from cloudrift.render.engine.engine import Engine

COLUMNS = 320
QUIET_DB = -48.0  # of the loudest moment; below, a stratum has no height


def strata(engine: Engine, loop: Loop) -> list[tuple[str, NDArray[np.float32]]]:
    """Return each heard layer's role and its energy over the loop, as heights from 0 to 1."""
    measure = partial(energy_curve, columns=COLUMNS)
    curves = [
        (layer.role, engine.of_layer("energy", loop, layer, measure)) for layer in loop.heard()
    ]
    total = sum((curve for _, curve in curves), np.zeros(COLUMNS, np.float32))
    loudest = float(total.max(initial=0.0))
    if loudest <= 0:
        return [(role, np.zeros(COLUMNS, np.float32)) for role, _ in curves]
    height = np.clip(1 - 20 * np.log10(np.maximum(total, 1e-9) / loudest) / QUIET_DB, 0, 1)
    share = height / np.maximum(total, 1e-9)
    return [(role, (curve * share).astype(np.float32)) for role, curve in curves]
