"""Fourier transforms, those of SciPy, which is loaded when the first is wanted.

To load it takes a quarter of a second; a window is up before anything is transformed.
"""

from typing import Any

import numpy as np
from numpy.typing import NDArray


def rfft(audio: NDArray[Any], n: int | None = None, **how: Any) -> NDArray[Any]:
    """Return ``scipy.fft.rfft`` along the last axis: single precision where the input is."""
    import scipy.fft  # noqa: PLC0415

    return np.asarray(scipy.fft.rfft(audio, n, **how))


def irfft(spectrum: NDArray[Any], n: int | None = None, **how: Any) -> NDArray[Any]:
    """Return ``scipy.fft.irfft`` along the last axis: single precision where the input is."""
    import scipy.fft  # noqa: PLC0415

    return np.asarray(scipy.fft.irfft(spectrum, n, **how))


def next_fast_len(frames: int) -> int:
    """Return the next length at which a real transform is quick."""
    import scipy.fft  # noqa: PLC0415

    return int(scipy.fft.next_fast_len(frames, real=True))
