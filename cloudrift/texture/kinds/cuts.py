"""Cuts: low cut and high cut."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.wrap import Spectrum
from cloudrift.ground.settings import Field, ResolvedSettings, SettingsSpec
from cloudrift.texture.context import Context
from cloudrift.texture.kind import Kind
from cloudrift.texture.process import Linear

LOW_OFF_HZ, HIGH_OFF_HZ = 20.0, 20_000.0


def _through(
    spectrum: Spectrum, full: ResolvedSettings, _variation: int, context: Context, length: int
) -> Spectrum:
    """Butterworth, evaluated as the analogue prototype, so that nothing is bent near the top.

    A filter of order 2 m is m resonant pairs, 1 / (1 - x^2 + 2 i z x), with x the frequency over
    the cut's for a high cut and the other way up for a low cut.
    """
    hz = np.fft.rfftfreq(length, 1 / context.rate).astype(np.float32)
    below = np.ones(len(hz), np.complex64)
    low, high = full.number("low_cut_hz"), full.number("high_cut_hz")
    damping = _damping(full)
    pair = np.empty(len(hz), np.complex64)
    if high < HIGH_OFF_HZ:
        _multiply_pairs(below, pair, hz / np.float32(high), damping)
    if low > LOW_OFF_HZ:
        with np.errstate(divide="ignore"):
            _multiply_pairs(below, pair, np.minimum(np.float32(low) / hz, 1e4), -damping)
    return np.asarray(spectrum * (1 / below), np.complex64)  # one division for all blocks


def _multiply_pairs(
    total: NDArray[np.complex64],
    pair: NDArray[np.complex64],
    x: NDArray[np.float32],
    damping: NDArray[np.float64],
) -> None:
    np.subtract(1, x * x, out=pair.real)
    for one in damping:
        np.multiply(x, np.float32(2 * one), out=pair.imag)
        total *= pair


def _damping(full: ResolvedSettings) -> NDArray[np.float64]:
    """The damping of each resonant pair, the least damped first."""
    order = round(full.number("slope_db") / 6)
    return np.asarray(np.sin(np.pi / (2 * order) * np.arange(1, order, 2)))


def _ring_s(full: ResolvedSettings, _context: Context) -> float:
    """How long the least damped pair takes to fall by 90 dB."""
    low, high = full.number("low_cut_hz"), full.number("high_cut_hz")
    slowest = min(low if low > LOW_OFF_HZ else high, high)
    return float(10.4 / (2 * np.pi * slowest * _damping(full)[0])) + 0.005


def _says(full: ResolvedSettings) -> str:
    low, high = full.number("low_cut_hz"), full.number("high_cut_hz")
    parts = []
    if low > LOW_OFF_HZ:
        parts.append(f"below {CUTS.spec['low_cut_hz'].text(low)}")
    if high < HIGH_OFF_HZ:
        parts.append(f"above {CUTS.spec['high_cut_hz'].text(high)}")
    if not parts:
        return "both cuts off"
    return f"cuts {' and '.join(parts)}, {full.number('slope_db'):.0f} dB an octave"


CUTS = Kind(
    name="cuts",
    label="Low and high cut",
    family="Tone",
    about="Cuts the low and the high end.",
    spec=SettingsSpec(
        (
            Field(
                name="low_cut_hz",
                label="Low cut",
                default=120,
                unit="Hz",
                low=LOW_OFF_HZ,
                high=4000,
                step=1,
                log=True,
                off_low=True,
            ),
            Field(
                name="high_cut_hz",
                label="High cut",
                default=HIGH_OFF_HZ,
                unit="Hz",
                low=200,
                high=HIGH_OFF_HZ,
                step=10,
                log=True,
                off_high=True,
            ),
            Field(
                name="slope_db", label="Slope", default=24, unit="dB/oct", low=12, high=48, step=12
            ),
        )
    ),
    says=_says,
    linear=Linear(through=_through, ring_s=_ring_s),
    clears_hz=lambda full: full.number("low_cut_hz"),
)
