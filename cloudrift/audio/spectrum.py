"""Spectra for pictures and for measuring."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio.buffers import Stereo

LOW_HZ, HIGH_HZ = 60.0, 14_000.0


def spectrogram(
    audio: Stereo,
    rate: int,
    *,
    columns: int,
    rows: int,
    low_hz: float = LOW_HZ,
    high_hz: float = HIGH_HZ,
) -> NDArray[np.float32]:
    """Return the loop's spectrogram in dBFS, (rows, columns), lowest band in the last row.

    Bands are equal on a logarithmic axis; windows wrap round the seam, so the first column
    shows what the steady state sounds like.
    """
    n = audio.shape[1]
    size = 4096
    mono = audio.mean(axis=0)
    starts = (np.arange(columns) + 0.5) * n / columns - size / 2
    index = (starts.astype(np.int64)[:, None] + np.arange(size)) % n
    window = np.hanning(size).astype(np.float32)
    power = np.abs(sf.rfft(mono[index] * window)) ** 2 / (window.sum() / 2) ** 2
    edges = np.geomspace(low_hz, high_hz, rows + 1) * size / rate
    low = np.floor(edges[:-1]).astype(int)
    high = np.maximum(np.ceil(edges[1:]).astype(int), low + 1)
    bands = np.stack([power[:, a:b].max(axis=1) for a, b in zip(low, high, strict=True)])
    return (10 * np.log10(bands[::-1] + 1e-12)).astype(np.float32)


def chroma(audio: Stereo, rate: int) -> NDArray[np.float64]:
    """Return how strongly each of the 12 pitch classes sounds in a piece of audio, sum 1."""
    mono = audio.mean(axis=0).astype(np.float64)
    length = max(sf.next_fast_len(len(mono)), 16384)
    power = np.abs(sf.rfft(mono * np.hanning(len(mono)), length)) ** 2
    hz = np.fft.rfftfreq(length, 1 / rate)
    use = (hz > 55) & (hz < 2000)
    pitch = 69 + 12 * np.log2(hz[use] / 440)
    near = np.abs(pitch - np.round(pitch)) < 0.3
    bins = np.round(pitch[near]).astype(int) % 12
    out = np.bincount(bins, weights=power[use][near], minlength=12)
    return np.asarray(out / max(out.sum(), 1e-30))


def energy_curve(audio: Stereo, columns: int) -> NDArray[np.float32]:
    """Return the RMS of each of ``columns`` equal stretches of a loop."""
    n = audio.shape[1]
    edges = np.linspace(0, n, columns + 1).astype(int)
    power = np.add.reduceat((audio**2).mean(axis=0), edges[:-1])
    return np.sqrt(power / np.maximum(np.diff(edges), 1)).astype(np.float32)
