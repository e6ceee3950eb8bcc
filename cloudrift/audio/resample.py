"""Other rates and other pitches, still loop-true."""

import numpy as np
import soxr

from cloudrift.audio.buffers import Stereo, raised_cosine

PAD = 6_000  # frames either side: longer than the resampler's filter


def resample_circular(audio: Stereo, frames: int) -> Stereo:
    """Return the loop at another number of frames, as heard in the steady state.

    The lead-in is chosen so that it lands on a whole output frame (to 1/200 of one), which keeps
    the notes where they were.
    """
    n = audio.shape[1]
    if frames == n:
        return audio
    ratio = frames / n
    lengths = np.arange(PAD, PAD + 400)
    offset = lengths * ratio
    lead = int(lengths[np.argmin(np.abs(offset - np.round(offset)))])
    padded = audio[:, np.arange(-lead, n + PAD) % n]
    out = soxr.resample(np.ascontiguousarray(padded.T), n, frames, quality="VHQ")
    start = round(lead * ratio)
    return np.ascontiguousarray(out[start : start + frames].T)


def shift_held(audio: Stereo, semitones: float, rate: int) -> Stereo:
    """Move the pitch and keep the length, in the steady state: (2, n) -> (2, n).

    The stretcher has memory, so it runs in over the loop's own end; then its run over the seam is
    cross-faded with its run at the start, so that the two passes join without a step.
    """
    from python_stretch.Signalsmith import Stretch  # noqa: PLC0415 - only when needed

    if semitones == 0:
        return audio
    n = audio.shape[1]
    stretch = Stretch(1)
    stretch.preset(2, float(rate))
    stretch.setTransposeSemitones(semitones, 8000.0 / rate)
    block = stretch.blockSamples()
    fade = min(rate // 8, n // 4)
    lead = fade + 2 * block
    fed = audio[:, np.arange(-lead, n + block) % n]
    out = stretch.process(np.ascontiguousarray(fed))  # its latency is already taken off
    held = np.array(out[:, lead : lead + n], np.float32)
    # What the stretcher gave just before the start belongs, one pass on, just before the end.
    before = out[:, lead - fade : lead]
    rise = raised_cosine(fade)
    held[:, n - fade :] = held[:, n - fade :] * (1 - rise) + before * rise
    return held
