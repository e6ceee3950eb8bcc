"""Level: gain, width, balance."""

import numpy as np

from cloudrift.audio.buffers import to_gain
from cloudrift.audio.wrap import Spectrum
from cloudrift.ground.settings import Field, ResolvedSettings, SettingsSpec
from cloudrift.ground.words import number
from cloudrift.texture.context import Context
from cloudrift.texture.kind import Kind
from cloudrift.texture.process import Linear

MONO_OFF_HZ = 20.0


def _place(
    spectrum: Spectrum, full: ResolvedSettings, _variation: int, context: Context, length: int
) -> Spectrum:
    """Gain, width, a middle below a frequency, balance: all of it a matrix by frequency."""
    gain = np.float32(to_gain(full.number("gain_db")))
    width = np.full(spectrum.shape[-1], full.number("width") / 100, np.float32)
    mono = full.number("mono_hz")
    if mono > MONO_OFF_HZ:
        hz = np.fft.rfftfreq(length, 1 / context.rate).astype(np.float32)
        x = (hz / np.float32(mono)) ** 4
        width = width * (x / (1 + x))
    middle = (spectrum[0] + spectrum[1]) * (np.float32(0.5) * gain)
    side = (spectrum[0] - spectrum[1]) * (np.float32(0.5) * gain) * width
    pan = full.number("pan") / 100
    left = np.float32(np.cos(max(pan, 0.0) * np.pi / 2))
    right = np.float32(np.cos(max(-pan, 0.0) * np.pi / 2))
    return np.stack([(middle + side) * left, (middle - side) * right])


def _place_says(full: ResolvedSettings) -> str:
    parts = []
    if full.number("gain_db"):
        parts.append(f"{number(full.number('gain_db'), '+.1f')} dB")
    if full.number("width") != 100:
        parts.append(f"{full.number('width'):.0f} % wide")
    if full.number("mono_hz") > MONO_OFF_HZ:
        parts.append(f"mono below {full.number('mono_hz'):.0f} Hz")
    if full.number("pan"):
        side = "right" if full.number("pan") > 0 else "left"
        parts.append(f"{abs(full.number('pan')):.0f} % {side}")
    return ", ".join(parts) or "unchanged"


TRIM = Kind(
    name="trim",
    label="Trim",
    family="Level",
    about="Gain, width, balance, mono low end.",
    spec=SettingsSpec(
        (
            Field(name="gain_db", label="Gain", default=0, unit="dB", low=-36, high=24, step=0.1),
            Field(name="width", label="Width", default=100, unit="%", low=0, high=200),
            Field(
                name="mono_hz",
                label="Mono below",
                default=MONO_OFF_HZ,
                unit="Hz",
                low=MONO_OFF_HZ,
                high=500,
                step=1,
                log=True,
                off_low=True,
            ),
            Field(name="pan", label="Balance", default=0, unit="%", low=-100, high=100),
        )
    ),
    says=_place_says,
    linear=Linear(
        through=_place,
        ring_s=lambda full, _context: 0.3 if full.number("mono_hz") > MONO_OFF_HZ else 0.0,
    ),
)
KINDS = (TRIM,)
