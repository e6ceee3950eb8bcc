"""Resonance: strings or bars that ring along, tuned to the key that is heard."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.wrap import Spectrum
from cloudrift.ground.lru import memoize
from cloudrift.ground.settings import Field, ResolvedSettings, SettingsSpec
from cloudrift.texture.context import Context
from cloudrift.texture.kind import Kind
from cloudrift.texture.process import Linear
from cloudrift.theory.key import Key

# Which tones of the scale ring, counted from 0.
TONES = {"tonic": (0,), "tonic and fifth": (0, 4), "triad": (0, 2, 4), "all of the scale": range(7)}
FIRST_MIDI = 36  # C2


def tuned_hz(key: Key, which: str, octave: int, octaves: int) -> tuple[float, ...]:
    """Return what rings, in Hz: tones of a key over some octaves."""
    first = FIRST_MIDI + 12 * octave
    pitch_classes = [key.scale[i] for i in TONES[which] if i < len(key.scale)]
    midi = [first + (pc - first) % 12 + 12 * up for pc in pitch_classes for up in range(octaves)]
    return tuple(440.0 * 2 ** ((m - 69) / 12) for m in sorted(midi))


@memoize
def _response(
    tones_hz: tuple[float, ...], ring_s: float, bright: float, rate: int, length: int
) -> NDArray[np.complex64]:
    """The sum of one resonance a tone, each as high as the next, higher ones softer."""
    hz = np.maximum(np.fft.rfftfreq(length, 1 / rate), 0.1)
    out = np.zeros(len(hz), complex)
    for middle in tones_hz:
        q = ring_s * middle / 2.2  # so that it falls by 60 dB in that time
        level = (tones_hz[0] / middle) ** (1 - bright)
        out += level / (1 + 1j * q * (hz / middle - middle / hz))
    return np.asarray(out, np.complex64)


def _through(
    spectrum: Spectrum, full: ResolvedSettings, _variation: int, context: Context, length: int
) -> Spectrum:
    tones = tuned_hz(
        context.key, full.word("tones"), round(full.number("octave")), round(full.number("octaves"))
    )
    response = _response(
        tones, full.number("ring_s"), full.number("bright") / 100, context.rate, length
    )
    gain = np.float32(10 ** (full.number("gain_db") / 20))
    return np.asarray(spectrum * (response * gain), np.complex64)


RESONANCE = Kind(
    name="resonance",
    label="Resonator",
    family="Tone",
    about="Resonating strings tuned to the key.",
    spec=SettingsSpec(
        (
            Field(name="tones", label="Tones", default="tonic and fifth", choices=tuple(TONES)),
            Field(
                name="ring_s",
                label="Ring",
                default=1.2,
                unit="s",
                low=0.1,
                high=6,
                step=0.1,
                log=True,
            ),
            Field(
                name="octave",
                label="Lowest octave",
                default=1,
                unit="oct",
                low=0,
                high=4,
                hint="above C2",
            ),
            Field(name="octaves", label="Octaves", default=3, unit="oct", low=1, high=5),
            Field(name="bright", label="Bright", default=50, unit="%", low=0, high=100),
            Field(name="gain_db", label="Gain", default=8, unit="dB", low=0, high=30, step=0.5),
        )
    ),
    says=lambda full: f"{full.word('tones')} of the key ring for {full.number('ring_s'):.1f} s",
    linear=Linear(through=_through, ring_s=lambda full, _context: 1.5 * full.number("ring_s")),
    tail_s=lambda full, _tempo: full.number("ring_s"),
    blend=0.4,
    follows_key=True,
)
