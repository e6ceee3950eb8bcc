"""The pitch of one note."""

import numpy as np

from cloudrift.audio.buffers import Stereo

SURE = 0.6  # how periodic a sound must be for its pitch to be believed
LOWEST_HZ, HIGHEST_HZ = 27.0, 2200.0
LEAST_FRAMES = 64


def pitch_of(audio: Stereo, rate: int) -> float | None:
    """Return the pitch of a note (MIDI, to a few cents), or None for what has none.

    The first high peak of the autocorrelation behind the attack: it stands at the period, not at
    the loudest partial.
    """
    mono = audio.mean(axis=0).astype(np.float64)
    size = min(len(mono), rate // 2)
    if size < LEAST_FRAMES:
        return None
    start = int(np.abs(mono).argmax())
    start = min(start + rate // 50, len(mono) - size)
    part = mono[max(0, start) : max(0, start) + size] * np.hanning(size)
    padded = 1 << (2 * size - 1).bit_length()
    same = np.fft.irfft(np.abs(np.fft.rfft(part, padded)) ** 2)[:size]
    window = np.fft.irfft(np.abs(np.fft.rfft(np.hanning(size), padded)) ** 2)[:size]
    same = same / np.maximum(window, 1e-9 * window[0])
    low, high = int(rate / HIGHEST_HZ), min(int(rate / LOWEST_HZ), size // 2)
    if high <= low + 2 or same[0] <= 0:
        return None
    level = same[: high + 1] / same[0]
    peaks = [i for i in range(low, high) if level[i - 1] < level[i] >= level[i + 1]]
    best = max((level[i] for i in peaks), default=0.0)
    if best < SURE:
        return None
    lag = next(i for i in peaks if level[i] > 0.9 * best)
    a, b, c = level[lag - 1 : lag + 2]
    period = lag + 0.5 * (a - c) / (a - 2 * b + c)
    return float(69 + 12 * np.log2(rate / period / 440))
