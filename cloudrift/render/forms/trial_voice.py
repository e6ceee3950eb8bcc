"""A voice that is sung over the arrangement on trial: laid over it, and held against it."""

import math

import numpy as np

from cloudrift.audio.buffers import Stereo, silence, to_gain
from cloudrift.audio.clips import ClipStore
from cloudrift.loop.model.sections import VoiceTake
from cloudrift.render.measure.sound_facts import voice_power

PART_S = 50.0  # a recording may not be longer than a minute
HEARD_DB = -55.0  # a voice that is softer than this in a section is not sung there


def kept_in(clips: ClipStore, audio: Stereo, rate: int) -> tuple[str, ...]:
    """Keep a take, (2, frames), in as many recordings as it needs; return their names in order."""
    size = int(PART_S * rate)
    return tuple(
        clips.record(np.ascontiguousarray(audio[:, at : at + size]), rate)
        for at in range(0, audio.shape[1], size)
    )


def laid_over(take: VoiceTake, clips: ClipStore, rate: int, frames: int) -> Stereo:
    """Return a take where it lies in that many frames of an arrangement, at its level: (2, frames).

    Raises CloudriftError where a recording is gone.
    """
    out = silence(frames)
    at = round(take.at_s * rate)
    gain = np.float32(to_gain(take.gain_db))
    for name in take.clips:
        audio, had = clips.read(name)
        if had != rate:
            from scipy.signal import resample_poly  # noqa: PLC0415 - slow to import

            by = math.gcd(had, rate)
            audio = resample_poly(audio, rate // by, had // by, axis=1)
        count = min(audio.shape[1], frames - at)
        if count <= 0:
            break
        out[:, at : at + count] += np.asarray(audio[:, :count], np.float32) * gain
        at += count
    return out


def over_rest_db(voice: Stereo, rest: Stereo, rate: int) -> float | None:
    """Return how far a voice stands over the rest between 1 and 4 kHz; None where it is silent."""
    if 10 * math.log10(float(np.square(voice).mean()) + 1e-12) < HEARD_DB:
        return None
    return 10 * math.log10((voice_power(voice, rate) + 1e-12) / (voice_power(rest, rate) + 1e-12))
