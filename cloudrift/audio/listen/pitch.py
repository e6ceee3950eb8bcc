"""The pitch of one note."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo

SURE = 0.6  # how periodic a sound must be for its pitch to be believed
LOWEST_HZ, HIGHEST_HZ = 27.0, 2200.0
LEAST_FRAMES = 64


def pitch_of(audio: Stereo, rate: int) -> float | None:
    """Return the pitch of a note (MIDI, to a few cents), or None for what has none.

    The first high peak of the autocorrelation after the attack: it stands at the period, not at
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


VOICE_LOW_HZ, VOICE_HIGH_HZ = 70.0, 500.0
VOICE_WINDOW_S, VOICE_HOP_S, GLIDE_S = 0.093, 0.01, 0.05
GLIDE_CENTS, LEAP_CENTS = 15.0, 300.0
SOUNDS = 0.2  # of its mean level: what is softer is not looked at


def glides(mono: NDArray[np.float32], rate: int) -> float:
    """Return how much of what has one pitch slides: 0 to 1, 0 where nothing has.

    ``mono`` is (n,). A speaking voice never rests on a pitch (measured: 0.43 to 0.89 of its voiced
    time goes 15 cents or further in 50 ms), notes do (below 0.25 in nine of ten loops).
    """
    size, hop = int(VOICE_WINDOW_S * rate), int(VOICE_HOP_S * rate)
    count = (len(mono) - size) // hop
    if count < 2:
        return 0.0
    frames = np.lib.stride_tricks.sliding_window_view(mono, size)[: count * hop : hop]
    frames = frames.astype(np.float64) - frames.mean(axis=1, keepdims=True)
    power = np.square(frames).mean(axis=1)
    padded = 1 << (2 * size - 1).bit_length()
    half = size // 2
    same = np.fft.irfft(np.abs(np.fft.rfft(frames, padded)) ** 2)[:, :half]
    same *= size / (size - np.arange(half)) / np.maximum(same[:, :1], 1e-12)
    low, high = int(rate / VOICE_HIGH_HZ), min(int(rate / VOICE_LOW_HZ), half - 1)
    lag = low + same[:, low:high].argmax(axis=1)
    row = np.arange(count)
    a, b, c = (same[row, lag + by] for by in (-1, 0, 1))
    bend = np.clip(0.5 * (a - c) / np.minimum(a - 2 * b + c, -1e-9), -1, 1)  # a top: it bends down
    pitched = (b > SURE) & (power > SOUNDS**2 * power.mean())
    step = round(GLIDE_S / VOICE_HOP_S)
    both = pitched[:-step] & pitched[step:]
    cents = 1200 * np.abs(np.log2((lag + bend)[step:] / (lag + bend)[:-step]))
    rests_or_slides = both & (cents < LEAP_CENTS)
    slides = rests_or_slides & (cents > GLIDE_CENTS)
    return float(slides.sum() / max(int(rests_or_slides.sum()), 1))
