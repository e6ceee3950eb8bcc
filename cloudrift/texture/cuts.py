"""Cuts: low cut and high cut."""

import numpy as np
import scipy.signal as ss

from cloudrift.audio.wrap import Response
from cloudrift.ground.settings import Field, Full, SettingsSpec
from cloudrift.texture.kind import Kind, Linear

LOW_OFF_HZ, HIGH_OFF_HZ = 20.0, 20_000.0


def _response(full: Full, _draw: int, rate: int, length: int) -> Response:
    """Butterworth, evaluated as the analogue prototype, so that nothing is bent near the top."""
    s = 2j * np.pi * np.fft.rfftfreq(length, 1 / rate)
    total = np.ones(len(s), complex)
    order = round(full.number("slope_db") / 6)
    _, poles, _ = ss.butter(order, 1.0, analog=True, output="zpk")
    low, high = full.number("low_cut_hz"), full.number("high_cut_hz")
    if low > LOW_OFF_HZ:
        w = s / (2 * np.pi * low)
        for pole in poles:
            total *= w / (1 - pole * w)
    if high < HIGH_OFF_HZ:
        w = s / (2 * np.pi * high)
        for pole in poles:
            total *= 1 / (w - pole)
    return total.astype(np.complex64)[None]


def _ring_s(full: Full) -> float:
    slowest = full.number("low_cut_hz") if full.number("low_cut_hz") > LOW_OFF_HZ else 500.0
    return min(1.0, 2.0 * full.number("slope_db") / 6 / slowest + 0.02)


def _says(full: Full) -> str:
    low, high = full.number("low_cut_hz"), full.number("high_cut_hz")
    parts = []
    if low > LOW_OFF_HZ:
        parts.append(f"below {CUTS.spec['low_cut_hz'].text(low)}")
    if high < HIGH_OFF_HZ:
        parts.append(f"above {CUTS.spec['high_cut_hz'].text(high)}")
    if not parts:
        return "both cuts off: takes nothing away"
    return f"takes away {' and '.join(parts)}, {full.number('slope_db'):.0f} dB an octave"


CUTS = Kind(
    name="cuts",
    label="Cuts",
    family="Tone",
    about="Takes away the low and the high end.",
    spec=SettingsSpec(
        (
            Field(name="low_cut_hz", label="Low cut", default=120, unit="Hz", low=LOW_OFF_HZ,
                  high=4000, step=1, log=True, off_low=True),
            Field(name="high_cut_hz", label="High cut", default=HIGH_OFF_HZ, unit="Hz", low=200,
                  high=HIGH_OFF_HZ, step=10, log=True, off_high=True),
            Field(name="slope_db", label="Slope", default=24, unit="dB/oct", low=12, high=48,
                  step=12),
        )
    ),
    says=_says,
    linear=Linear(response=_response, ring_s=_ring_s),
)  # fmt: skip
