"""Echo: repeats in time with the loop, each darker than the one before."""

import numpy as np

from cloudrift.audio.wrap import Spectrum
from cloudrift.ground.settings import Field, Full, SettingsSpec
from cloudrift.texture.kind import Context, Kind, Linear
from cloudrift.texture.periods import SYNCED, seconds_of

SILENT_DB = 60.0  # a repeat that is so much softer is not waited for
ACROSS, BESIDE = "from side to side", "in its place"


def _delay_frames(full: Full, context: Context) -> int:
    return max(1, round(seconds_of(full.word("time"), context.tempo) * context.rate))


def _through(spectrum: Spectrum, full: Full, _draw: int, context: Context, length: int) -> Spectrum:
    """All repeats at once: a geometric series of one repeat's response."""
    bins = np.arange(length // 2 + 1)
    frames = _delay_frames(full, context)
    once = np.exp(-2j * np.pi * ((bins * frames) % length) / length)
    back_by_one = np.exp(-2j * np.pi * bins / length)
    # One pole each: what a repeat loses above, and below.
    dark = np.exp(-2 * np.pi * min(full.number("dark_hz") / context.rate, 0.49))
    thin = np.exp(-2 * np.pi * full.number("thin_hz") / context.rate)
    once *= (1 - dark) / (1 - dark * back_by_one)
    once *= (1 + thin) / 2 * (1 - back_by_one) / (1 - thin * back_by_one)
    back = full.number("feedback") / 100 * once
    if full.word("way") == BESIDE:
        return np.asarray(spectrum * (once / (1 - back)).astype(np.complex64), np.complex64)
    # The first repeat is on the left; each one after changes sides.
    middle = (spectrum[0] + spectrum[1]) / 2
    left = once / (1 - back * back)
    right = once * back / (1 - back * back)
    width = full.number("width") / 100
    near, far = (1 + width) / 2, (1 - width) / 2
    sides = np.stack([near * left + far * right, near * right + far * left]) * np.sqrt(2)
    return np.asarray(middle * sides.astype(np.complex64), np.complex64)


def _tail_s(full: Full, tempo: float) -> float:
    feedback = max(full.number("feedback") / 100, 1e-3)
    repeats = 1 + SILENT_DB / max(0.1, -20 * np.log10(feedback))
    return float(min(30.0, repeats * seconds_of(full.word("time"), tempo)))


def _says(full: Full) -> str:
    feedback = max(full.number("feedback") / 100, 1e-3)
    count = max(1, round(1 + 24 / max(0.1, -20 * np.log10(feedback))))
    return f"about {count} repeats every {full.word('time')}, {full.word('way')}"


ECHO = Kind(
    name="echo",
    label="Echo",
    family="Space",
    about="Repeats in time, darkening; in place or from side to side.",
    spec=SettingsSpec((
        Field(name="time", label="Time", default="1/8 dotted", choices=tuple(SYNCED)),
        Field(name="feedback", label="Feedback", default=45, unit="%", low=0, high=92),
        Field(name="dark_hz", label="Dark above", default=3200, unit="Hz", low=400, high=18_000,
              step=10, log=True),
        Field(name="thin_hz", label="Thin below", default=180, unit="Hz", low=10, high=1500,
              step=1, log=True),
        Field(name="way", label="Way", default=ACROSS, choices=(ACROSS, BESIDE)),
        Field(name="width", label="Width", default=80, unit="%", low=0, high=100),
    )),
    says=_says,
    linear=Linear(
        through=_through,
        ring_s=lambda full, context: 1.5 * _tail_s(full, context.tempo) + 0.05,
    ),
    tail_s=_tail_s,
    blend=0.35,
)  # fmt: skip
