"""Spring: coils in which high sounds travel slower than low ones, so that each return chirps."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.wrap import Spectrum
from cloudrift.ground.lru import memoize
from cloudrift.ground.settings import Field, ResolvedSettings, SettingsSpec, hz_text, percent
from cloudrift.texture.context import Context
from cloudrift.texture.kind import Kind, decay_of
from cloudrift.texture.process import Linear

# What a low sound needs for the way there and back (s), and how much of a spring is left, right.
SPRINGS = ((0.0331, 1.0, 0.15), (0.0417, 0.15, 1.0), (0.0378, 0.7, -0.7))
SLOWED = 1.3  # at the edge a return takes so much longer again
LEAST_EDGE_HZ = 1500.0


def decay_at_s(full: ResolvedSettings, hz: float) -> float:
    """Return the decay time (T60) at a frequency."""
    return full.number("decay_s") / (1 + full.number("damping") / 100 * (hz / 2500))


@memoize
def _response(
    settings: tuple[tuple[str, float], ...], rate: int, length: int
) -> NDArray[np.complex64]:
    """Left and right as spectra, (2, bins): of each spring, the sum of all returns."""
    full = ResolvedSettings(dict(settings))
    hz = np.fft.rfftfreq(length, 1 / rate)
    edge = max(full.number("high_cut_hz"), LEAST_EDGE_HZ)
    decay = full.number("decay_s") / (1 + full.number("damping") / 100 * (hz / 2500))
    low = full.number("low_cut_hz") / np.maximum(hz, 0.1)
    tone = 1 / np.sqrt((1 + low**4) * (1 + (hz / full.number("high_cut_hz")) ** 12))
    late = np.exp(-2j * np.pi * hz * full.number("pre_delay_ms") * 1e-3)
    sides = np.zeros((2, len(hz)), complex)
    within = np.minimum(hz / edge, 1.5)  # nothing slows any further where nothing is heard
    for low_s, left, right in SPRINGS:
        first = low_s * (0.6 + 0.8 * full.number("length") / 100)
        takes = first * (1 + SLOWED * within**2)
        turn = (
            2
            * np.pi
            * first
            * np.where(
                hz / edge <= 1.5,
                hz * (1 + SLOWED / 3 * within**2),
                hz * (1 + SLOWED * 2.25) - edge * 1.5 * SLOWED * 2.25 * 2 / 3,
            )
        )
        once = 10 ** (-3 * takes / decay) * np.exp(-1j * turn)
        sides += np.array([[left], [right]]) * (once / (1 - once))
    sides *= tone * late
    middle, side = (sides[0] + sides[1]) / 2, (sides[0] - sides[1]) / 2
    sides = np.stack(
        [middle + side * full.number("width") / 100, middle - side * full.number("width") / 100]
    )
    return (sides / np.sqrt((np.abs(sides) ** 2).mean())).astype(np.complex64)


def _through(
    spectrum: Spectrum, full: ResolvedSettings, _variation: int, context: Context, length: int
) -> Spectrum:
    settings = tuple(sorted((k, float(v)) for k, v in full.items()))  # numbers only
    mono = (spectrum[0] + spectrum[1]) * np.float32(0.5**0.5)
    return np.asarray(mono * _response(settings, context.rate, length), np.complex64)


def _ring_s(full: ResolvedSettings, _where: object) -> float:
    return full.number("decay_s") * 1.2 + full.number("pre_delay_ms") * 1e-3 + 0.2


_LINEAR = Linear(through=_through, ring_s=_ring_s)
SPRING = Kind(
    name="spring",
    label="Spring",
    family="Space",
    about="Spring reverb: chirping, bouncy, dark.",
    spec=SettingsSpec(
        (
            Field(
                name="decay_s",
                label="Decay",
                default=1.9,
                unit="s",
                low=0.4,
                high=5,
                step=0.1,
                log=True,
            ),
            Field(
                name="low_cut_hz",
                label="Low cut",
                default=220,
                unit="Hz",
                low=20,
                high=2000,
                log=True,
                off_low=True,
            ),
            Field(
                name="high_cut_hz",
                label="High cut",
                default=3600,
                unit="Hz",
                low=800,
                high=8000,
                step=10,
                log=True,
            ),
            percent("damping", "Damping", 35),
            percent("length", "Length", 50, hint="of the springs: the time between returns"),
            Field(
                name="pre_delay_ms",
                label="Pre-delay",
                default=0,
                unit="ms",
                low=0,
                high=250,
                follows="tempo",
            ),
            percent("width", "Width", 80),
        )
    ),
    says=lambda full: (
        f"returns for {full.number('decay_s'):.1f} s up to "
        f"{hz_text(full.number('high_cut_hz'))}, highs later than lows"
    ),
    linear=_LINEAR,
    picture=decay_of(_LINEAR),
    tail_s=_ring_s,
    blend=0.3,
)
