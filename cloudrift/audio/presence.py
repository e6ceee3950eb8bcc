"""Whether a voice has room: how loud it is over the rest, where words are told apart."""

import numpy as np

from cloudrift.audio.buffers import Stereo

BAND_HZ = (1000.0, 4000.0)  # where consonants are, and what tells vowels apart
WINDOW_S = 0.05
SOUNDS_DB = -25.0  # under its loudest moment, where a voice is not sounding


def over_the_rest_db(voice: Stereo, rest: Stereo, rate: int) -> float | None:
    """Return by how many dB a voice, (2, n), stands over the rest between 1 and 4 kHz.

    Only what sounds of it counts. None where one of both is silent there.
    """
    n = min(voice.shape[1], rest.shape[1])
    hop = int(WINDOW_S * rate)
    if n < hop:
        return None
    hz = np.fft.rfftfreq(hop, 1 / rate)
    band = (hz >= BAND_HZ[0]) & (hz <= BAND_HZ[1])
    powers = []
    for audio in (voice, rest):
        frames = audio[:, : n // hop * hop].reshape(2, -1, hop) * np.hanning(hop)
        powers.append((np.abs(np.fft.rfft(frames)[..., band]) ** 2).sum(axis=(0, 2)))
    mine, other = powers
    sounds = mine > mine.max(initial=0.0) * 10 ** (SOUNDS_DB / 10)
    if not mine.max(initial=0.0) > 1e-12 or not other[sounds].mean() > 1e-12:
        return None
    return float(10 * np.log10(mine[sounds].mean() / other[sounds].mean()))
