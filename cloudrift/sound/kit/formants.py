"""Voices: a throat's source and the resonances of a mouth, as gains by frequency."""

import numpy as np
from numpy.typing import NDArray

Hz = NDArray[np.float64]
Mouth = tuple[tuple[float, float], ...]

# Centre and bandwidth in Hz; averages of sung vowels, men and women.
VOWELS: dict[str, Mouth] = {
    "ah": ((700, 90), (1150, 100), (2700, 150), (3500, 190), (4950, 280)),
    "eh": ((530, 80), (1750, 110), (2500, 150), (3550, 190), (4950, 280)),
    "ee": ((300, 70), (2150, 120), (2900, 160), (3600, 200), (4950, 280)),
    "oh": ((450, 80), (840, 95), (2650, 150), (3400, 190), (4950, 280)),
    "oo": ((330, 75), (760, 95), (2500, 160), (3300, 200), (4950, 300)),
    "uh": ((600, 90), (1200, 110), (2550, 160), (3450, 200), (4950, 280)),
    "mm": ((260, 90), (1100, 220), (2200, 250), (3000, 280), (4600, 360)),
}
TOP_HZ = 5600.0  # above this it only falls by 6 dB an octave: higher resonances fill up


def mouth(shape: Mouth, hz: Hz, f0: float, size: float = 1.0) -> Hz:
    """Return a mouth's gain: resonances one after another, as in a tube.

    A singer's first resonance rises with the note where that would leave it, wider then, and the
    second makes room. ``size`` multiplies all frequencies: a smaller head has higher ones.
    """
    gain = np.ones(len(hz))
    at = np.minimum(hz, TOP_HZ)
    below = 1.03 * f0
    for i, (centre, width) in enumerate(shape):
        middle = size * centre
        if i < 2:
            raised = float((middle**8 + below**8) ** (1 / 8))
            width = width * size + 0.6 * (raised - middle)  # noqa: PLW2901
            middle, below = raised, 1.35 * raised
        else:
            width = width + 0.25 * f0  # noqa: PLW2901  # harmonics would pass it by
        ratio = (at / middle) ** 2
        gain /= np.sqrt((1 - ratio) ** 2 + (at * width / middle**2) ** 2)
    return np.asarray(gain * at / hz)


def between(low: str, high: str, share: float) -> Mouth:
    """Return a mouth on its way from one vowel to another: 0 is the first, 1 the second."""
    return tuple(
        (a[0] ** (1 - share) * b[0] ** share, a[1] ** (1 - share) * b[1] ** share)
        for a, b in zip(VOWELS[low], VOWELS[high], strict=True)
    )


def throat(hz: Hz, f0: float, slope_db: float) -> Hz:
    """Return the source's amplitude, falling by that many dB an octave; 1 at the note.

    A throat falls by 12 dB an octave when it sings softly and by 6 with force; the way from the
    lips into the air gives 6 back.
    """
    return np.asarray((hz / f0) ** (slope_db / (20 * np.log10(2))))
