"""Two steps held against each other: their mean spectra, equally loud, and where they differ."""

import numpy as np

from cloudrift.ground.settings import hz_text
from cloudrift.ground.words import number
from cloudrift.render.measure.step_facts import BANDS_HZ, StepFacts
from cloudrift.texture.picture import Axis, Portrait

FLOOR_DB = -90.0
SMOOTH = 3  # bands to either side: together three quarters of an octave


def _balance(facts: StepFacts) -> np.ndarray:
    """A mean spectrum smoothed over three quarters of an octave, in dB: balance, not partials."""
    power = 10 ** (facts.spectrum_db / 10)
    padded = np.pad(power, SMOOTH, mode="edge")
    total = np.concatenate([[0.0], np.cumsum(padded)])
    size = 2 * SMOOTH + 1
    return np.asarray(10 * np.log10((total[size:] - total[:-size]) / size))


def spectra_portrait(one: StepFacts, other: StepFacts) -> Portrait:
    """Return both mean spectra over one axis, matched in loudness: the second is turned."""
    middles = np.sqrt(BANDS_HZ[1:] * BANDS_HZ[:-1])
    plain, turned = _balance(one), _balance(other) + (one.lufs - other.lufs)
    top = float(np.ceil(max(plain.max(), turned.max()) / 10) * 10)
    return Portrait(
        title="mean spectra, loudness matched: left solid, right dashed",
        x=middles,
        curves=(np.maximum(plain, FLOOR_DB), np.maximum(turned, FLOOR_DB)),
        x_axis=Axis(
            low=float(BANDS_HZ[0]),
            high=float(BANDS_HZ[-1]),
            log=True,
            marks=tuple((hz, hz_text(hz)) for hz in (100.0, 1000.0, 10_000.0)),
        ),
        y_axis=Axis(
            low=top - 70,
            high=top,
            marks=tuple((top - d, f"{number(top - d, '.0f')} dB") for d in (0, 20, 40, 60)),
        ),
    )


def difference(one: StepFacts, other: StepFacts) -> str:
    """Say where two sounds differ most when they are equally loud, and by how much."""
    middles = np.sqrt(BANDS_HZ[1:] * BANDS_HZ[:-1])
    plain, turned = _balance(one), _balance(other) + (one.lufs - other.lufs)
    loud = np.maximum(plain, turned) > plain.max() - 30
    away = turned - plain
    away = np.where(loud, away, 0)
    most, least = int(away.argmax()), int(away.argmin())
    parts = []
    if away[most] > 1:
        parts.append(f"the right has {away[most]:.1f} dB more at {hz_text(float(middles[most]))}")
    if away[least] < -1:
        parts.append(f"{-away[least]:.1f} dB less at {hz_text(float(middles[least]))}")
    return " and ".join(parts) or "the same balance within 1 dB"
