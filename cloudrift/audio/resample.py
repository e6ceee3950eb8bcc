"""Other rates and other pitches, still loop-true."""

import numpy as np
import soxr

from cloudrift.audio.buffers import Stereo, add_wrapped, raised_cosine
from cloudrift.audio.pair import per_channel
from cloudrift.audio.stretch import LEAD_S, pitch_shifted

JOIN_S = 0.06
PAD = 6_000  # frames either side: longer than the resampler's filter


def at_rate(audio: Stereo, rate: int, wanted: int) -> Stereo:
    """Return sound that does not go round, (2, n), at another rate; itself where it has that."""
    if rate == wanted:
        return audio
    made = soxr.resample(audio.T, rate, wanted, quality="VHQ")
    return np.ascontiguousarray(made.T, np.float32)


def resample_circular(audio: Stereo, frames: int) -> Stereo:
    """Return the loop at another number of frames, as heard in the steady state.

    The lead-in is chosen so that it lands on a whole output frame (to 1/200 of one), which keeps
    the notes where they were.
    """
    n = audio.shape[1]
    if frames == n:
        return audio
    ratio = frames / n
    lengths = np.arange(PAD, PAD + 8_000)
    offset = lengths * ratio
    lead = int(lengths[np.argmin(np.abs(offset - np.round(offset)))])
    padded = audio[:, np.arange(-lead, n + PAD) % n]
    out = soxr.resample(np.ascontiguousarray(padded.T), n, frames, quality="VHQ")
    start = round(lead * ratio)
    return np.ascontiguousarray(out[start : start + frames].T)


def shift_held(
    audio: Stereo, semitones: float, rate: int, *, joins: tuple[int, ...] = (0,)
) -> Stereo:
    """Move the pitch and keep the length, in the steady state: (2, n) -> (2, n).

    The stretcher has memory, so it runs in over what comes before. The loop is cut in two at
    places from ``joins`` (frames where something new starts, such as chords); the halves run
    beside each other and are cross-faded just before each cut, where the ear awaits a change.
    """
    if semitones == 0:
        return audio
    n = audio.shape[1]
    first = joins[0] % n
    middle = min(
        (j % n for j in joins if j % n != first),
        default=(first + n // 2) % n,
        key=lambda j: abs((j - first) % n - n / 2),
    )
    length = (middle - first) % n
    fade = min(int(JOIN_S * rate), length // 4, (n - length) // 4)
    spans = ((first, length), (middle, n - length))
    halves = per_channel(lambda i: _shifted(audio, *spans[i], fade, semitones, rate))
    out = np.zeros((2, n), np.float32)
    # Two runs agree in level but not in phase: fades of equal power keep the level.
    rise = np.sqrt(raised_cosine(fade))
    for (start, _), half in zip(spans, halves, strict=True):
        half[:, :fade] *= rise
        half[:, -fade:] *= rise[::-1]
        add_wrapped(out, half, start - fade)
    return out


def _shifted(
    audio: Stereo, start: int, length: int, fade: int, semitones: float, rate: int
) -> Stereo:
    """Return [start - fade, start + length) of the loop at the other pitch."""
    lead = int(LEAD_S * rate)
    at = np.arange(start - fade - lead, start + length + lead // 2) % audio.shape[1]
    out = pitch_shifted(audio[:, at], semitones, rate)
    return out[:, lead : lead + fade + length].copy()
