"""The stretcher's own process: reads sound from its input, writes it back at another pitch.

The stretching library keeps Python's lock for a whole call. In the program's own process that
would hold up the speaker for half a second, so it lives in this one. Run with ``python -m``.
"""

import struct
import sys
from typing import BinaryIO

import numpy as np

HEAD = struct.Struct("<qddd")  # frames, rate, semitones, tonality limit in Hz


def serve(requests: BinaryIO, answers: BinaryIO) -> None:
    """Answer requests until the input ends."""
    from python_stretch.Signalsmith import Stretch  # noqa: PLC0415 - for this process alone

    while len(head := requests.read(HEAD.size)) == HEAD.size:
        frames, rate, semitones, limit_hz = HEAD.unpack(head)
        sent = np.frombuffer(requests.read(frames * 8), np.float32)
        audio = sent.reshape(2, frames).copy()  # the library takes only what it may write to
        stretch = Stretch(1)
        stretch.preset(2, rate)
        stretch.setTransposeSemitones(semitones, limit_hz / rate)
        out = np.ascontiguousarray(stretch.process(audio), np.float32)
        answers.write(struct.pack("<q", out.shape[1]))
        answers.write(out.tobytes())
        answers.flush()


if __name__ == "__main__":
    serve(sys.stdin.buffer, sys.stdout.buffer)
