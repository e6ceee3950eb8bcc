"""Recorded sound that a document carries: kept once, named by its content.

A document holds a clip's name; its file carries the FLAC. Whoever reads a document adds its
clips first, so a name that is known always has its sound.
"""

import hashlib
import io

import numpy as np
import soundfile

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.files import HIGHEST_RATE, LOWEST_RATE
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.lru import kept

LONGEST_S = 60.0
_CLIPS: dict[str, bytes] = {}  # one program's documents share what they carry


def clip_of(audio: Stereo, rate: int) -> str:
    """Keep audio as 24-bit FLAC and return its name."""
    body = io.BytesIO()
    data = np.clip(audio, -1, 1 - 2**-23).T
    try:
        soundfile.write(body, data, rate, subtype="PCM_24", format="FLAC")
    except RuntimeError as error:
        raise CloudriftError(
            f"a recording of {rate} frames a second can't be kept; take one of 44100 or 48000"
        ) from error
    return add_clip(body.getvalue())


def add_clip(flac: bytes) -> str:
    """Keep a clip that is FLAC already; raise CloudriftError if it can't be read."""
    name = hashlib.blake2b(flac, digest_size=12).hexdigest()
    if name not in _CLIPS:
        try:
            with soundfile.SoundFile(io.BytesIO(flac)) as file:
                if file.format != "FLAC" or file.channels != 2:
                    raise CloudriftError("a recording is not FLAC in two channels")
                if not LOWEST_RATE <= file.samplerate <= HIGHEST_RATE:
                    raise CloudriftError(
                        f"a recording has {file.samplerate} frames a second, not {LOWEST_RATE} to "
                        f"{HIGHEST_RATE}"
                    )
                if not 0 < file.frames <= LONGEST_S * file.samplerate:
                    raise CloudriftError(f"a recording is empty or longer than {LONGEST_S:.0f} s")
        except (OSError, RuntimeError) as error:
            raise CloudriftError(f"a recording in it can't be read: {error}") from error
        _CLIPS[name] = flac
    return name


def has_clip(name: str) -> bool:
    """Whether a clip is known."""
    return name in _CLIPS


def flac_of(name: str) -> bytes:
    """Return a known clip as it is filed."""
    return _CLIPS[name]


@kept
def read_clip(name: str) -> tuple[Stereo, int]:
    """Return a known clip as (2, frames), read-only, and its rate."""
    with soundfile.SoundFile(io.BytesIO(_CLIPS[name])) as file:
        rate = file.samplerate  # no more is read than was looked at
        data = file.read(int(LONGEST_S * rate), dtype="float32", always_2d=True)
    audio = np.ascontiguousarray(data.T)
    audio.flags.writeable = False
    return audio, int(rate)
