"""Stretching beside the program: a few processes that wait for work. See ``stretch_child``."""

import atexit
import queue
import struct
import subprocess
import sys

import numpy as np

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.stretch_child import HEAD
from cloudrift.ground.errors import CloudriftError

PROCESSES = 2
LEAD_S = 0.24  # two blocks of the stretcher: how long it takes to settle

_idle: "queue.LifoQueue[_Child | None]" = queue.LifoQueue()
for _ in range(PROCESSES):
    _idle.put(None)  # a place for a process that has not been started yet


class _Child:
    """One stretching process."""

    def __init__(self) -> None:
        self._process = subprocess.Popen(
            # -P: nothing that lies in the folder one happens to be in is imported.
            [sys.executable, "-P", "-m", "cloudrift.audio.stretch_child"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
        )
        atexit.register(self.close)

    def shifted(self, audio: Stereo, semitones: float, rate: int) -> Stereo:
        """Send sound, return it at the other pitch."""
        to, back = self._process.stdin, self._process.stdout
        assert to is not None and back is not None
        to.write(HEAD.pack(audio.shape[1], rate, semitones))
        to.write(np.ascontiguousarray(audio, np.float32).data)
        to.flush()
        (frames,) = struct.unpack("<q", back.read(8))
        return np.frombuffer(back.read(frames * 8), np.float32).reshape(2, frames).copy()

    def close(self) -> None:
        """End the process."""
        atexit.unregister(self.close)
        self._process.kill()
        self._process.wait()
        for pipe in (self._process.stdin, self._process.stdout):
            if pipe is not None:
                pipe.close()


def pitch_shifted(audio: Stereo, semitones: float, rate: int) -> Stereo:
    """Return sound at another pitch and the same length, (2, frames); it starts from silence.

    Waits for a free process. Raises CloudriftError if the process ends before it has answered.
    """
    child = _idle.get()
    try:
        child = child or _Child()
        out = child.shifted(audio, semitones, rate)
    except (OSError, struct.error, ValueError) as error:
        if child is not None:
            child.close()
            child = None
        raise CloudriftError(
            "the pitch could not be shifted: the stretching process ended; try again"
        ) from error
    finally:
        _idle.put(child)
    return out
