"""The stretcher's own process: reads sound from its input, writes it back longer or elsewhere.

The stretching library keeps Python's lock for a whole call. In the program's own process that
would hold up the speaker for half a second, so it lives in this one. Run with ``python -m``.
"""

import contextlib
import ctypes
import os
import signal
import struct
import sys
from typing import BinaryIO

import numpy as np

PR_SET_PDEATHSIG = 1  # prctl(2)
NICER = 10  # steps behind all others: what plays comes first
HEAD = struct.Struct("<qqdd")  # frames, wanted frames, rate, semitones


def serve(requests: BinaryIO, answers: BinaryIO) -> None:
    """Answer requests until the input ends."""
    import soxr  # noqa: PLC0415 - both for this process alone
    from python_stretch.Signalsmith import Stretch  # noqa: PLC0415

    while len(head := requests.read(HEAD.size)) == HEAD.size:
        frames, wanted, rate, semitones = HEAD.unpack(head)
        sent = np.frombuffer(requests.read(frames * 8), np.float32)
        audio = sent.reshape(2, frames).copy()  # the library takes only what it may write to
        stretch = Stretch(1)
        stretch.preset(2, rate)
        # The library's own shift is off by up to 17 cents on single tones. Its stretching is not:
        # so the sound is made longer at its pitch, and played that much faster.
        stretch.setTimeFactor(frames / wanted * 2.0 ** (-semitones / 12))
        longer = np.asarray(stretch.process(audio), np.float32)
        out = np.ascontiguousarray(longer.T)
        if semitones:
            out = soxr.resample(out, len(out), wanted, quality="VHQ")
        out = np.ascontiguousarray(_first(out.T, wanted), np.float32)
        answers.write(struct.pack("<q", out.shape[1]))
        answers.write(out.tobytes())
        answers.flush()


def _first(audio: np.ndarray, frames: int) -> np.ndarray:
    """That many frames of it, silence after its end."""
    return np.pad(audio[:, :frames], ((0, 0), (0, max(0, frames - audio.shape[1]))))


def end_with_parent(parent: int) -> None:
    """Let the system end this process when the one that has started it ends, however it does."""
    with contextlib.suppress(OSError, AttributeError):  # another system: its pipe closes, later
        ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)
    if os.getppid() != parent:
        sys.exit()  # it has ended before that


def stand_behind(parent: int) -> None:
    """Begin a process that works behind all others, and ends with the one that has started it."""
    end_with_parent(parent)
    os.nice(NICER)


if __name__ == "__main__":
    end_with_parent(int(sys.argv[1]))
    with contextlib.suppress(BrokenPipeError, KeyboardInterrupt):
        serve(sys.stdin.buffer, sys.stdout.buffer)
