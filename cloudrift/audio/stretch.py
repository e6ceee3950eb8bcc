"""Stretching beside the program: a few processes that wait for work. See ``stretch_child``.

A process that has died, or does nothing more, is replaced and its work done again.
"""

import atexit
import contextlib
import os
import queue
import select
import struct
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.stretch_child import HEAD
from cloudrift.ground.errors import CloudriftError

PROCESSES = 2
# Times as long in which a stretch is not heard as one: a blow still rises in 13 ms (10 as it is, 26
# at 1.75 and 49 at 2), and what steady tones leave beside them lies 50 dB below.
CLEAN = (0.75, 1.35)
LEAD_S = 0.24  # two blocks of the stretcher: how long it takes to settle
# A process that gets no further for so long is given up: neither its pipe moves, nor does it
# compute. On a crowded machine one that works still gets its share.
STILL_S = 3.0
MOST_CPU = 4.0  # seconds of computing for a second of sound, and START_S: a hundred times the usual
START_S = 10.0
TRIES = 2
_LOOK_S = 0.5

_idle: "queue.LifoQueue[_Child | None]" = queue.LifoQueue()
for _ in range(PROCESSES):
    _idle.put(None)  # a place for a process that has not been started yet
# Children end with the thread that has started them: one that lasts as long as the program.
_starter = ThreadPoolExecutor(1, thread_name_prefix="stretch starter")


_all: "set[_Child]" = set()
_stops = 0  # how often all have been told to end


class _Lost(Exception):  # noqa: N818 - nobody outside hears of it
    """The process has ended, or gets no further."""


class _Child:
    """One stretching process."""

    def __init__(self) -> None:
        self._process = subprocess.Popen(
            # -P: nothing that lies in the folder one happens to be in is imported.
            [sys.executable, "-P", "-m", "cloudrift.audio.stretch_child", str(os.getpid())],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            bufsize=0,
            start_new_session=True,  # Ctrl+C in a terminal is for the program alone
        )
        assert self._process.stdin is not None and self._process.stdout is not None
        self._to, self._back = self._process.stdin.fileno(), self._process.stdout.fileno()
        os.set_blocking(self._to, False)
        atexit.register(self.close)
        _all.add(self)

    def stretched(self, audio: Stereo, wanted: int, semitones: float, rate: int) -> Stereo:
        """Send sound, return it at another length and pitch; raise _Lost if nothing comes back."""
        frames = audio.shape[1]
        most_cpu_s = self._cpu_s() + START_S + MOST_CPU * max(frames, wanted) / rate
        sent = np.ascontiguousarray(audio, np.float32).tobytes()
        try:
            self._send(memoryview(HEAD.pack(frames, wanted, rate, semitones) + sent), most_cpu_s)
            (frames,) = struct.unpack("<q", self._receive(8, most_cpu_s))
            back = self._receive(frames * 8, most_cpu_s)
        except OSError as error:
            raise _Lost from error
        return np.frombuffer(back, np.float32).reshape(2, frames).copy()

    def _send(self, data: memoryview, most_cpu_s: float) -> None:
        while data:
            self._wait(self._to, most_cpu_s, to_write=True)
            data = data[os.write(self._to, data) :]

    def _receive(self, count: int, most_cpu_s: float) -> bytearray:
        got = bytearray()
        while len(got) < count:
            self._wait(self._back, most_cpu_s)
            part = os.read(self._back, count - len(got))
            if not part:
                raise _Lost
            got += part
        return got

    def _wait(self, pipe: int, most_cpu_s: float, *, to_write: bool = False) -> None:
        """Wait until a pipe can be used, as long as the process is at work."""
        cpu_s, moved = self._cpu_s(), time.monotonic()
        while True:
            reads, writes = ([], [pipe]) if to_write else ([pipe], [])
            if any(select.select(reads, writes, [], _LOOK_S)):
                return
            before, cpu_s = cpu_s, self._cpu_s()
            moved = time.monotonic() if cpu_s > before else moved
            if time.monotonic() - moved > STILL_S or cpu_s > most_cpu_s:
                raise _Lost

    def _cpu_s(self) -> float:
        """How long it has computed (proc(5): user and system time); 0 where that is not told."""
        try:
            text = Path(f"/proc/{self._process.pid}/stat").read_text()
            user, system = text.rpartition(")")[2].split()[11:13]
        except (OSError, ValueError):
            return 0.0
        return (int(user) + int(system)) / os.sysconf("SC_CLK_TCK")

    def kill(self) -> None:
        """Let it end in the middle of its work: whoever waits for it is told."""
        self._process.kill()

    def close(self) -> None:
        """End the process."""
        atexit.unregister(self.close)
        _all.discard(self)
        self.kill()
        self._process.wait()
        for pipe in (self._process.stdin, self._process.stdout):
            if pipe is not None:
                pipe.close()


def start_stretching() -> None:
    """Let the processes begin to load what they need, before there is work for them."""
    _starter.submit(_start_all)


def _start_all() -> None:
    waiting: list[_Child | None] = []
    with contextlib.suppress(queue.Empty):
        while True:
            waiting.append(_idle.get_nowait())
    for one in waiting:
        child = one
        with contextlib.suppress(OSError):  # whoever has work for it will be told
            child = child or _Child()
        _idle.put(child)


def stop_stretching() -> None:
    """End what is being stretched; whoever waits for it gets CloudriftError, at once."""
    global _stops  # noqa: PLW0603 - the processes are the program's, not anybody's
    _stops += 1
    for child in list(_all):
        child.kill()


def pitch_shifted(audio: Stereo, semitones: float, rate: int) -> Stereo:
    """Return sound at another pitch and the same length: see ``stretched``."""
    return stretched(audio, audio.shape[1], rate, semitones)


def stretched(audio: Stereo, frames: int, rate: int, semitones: float = 0.0) -> Stereo:
    """Return sound that lasts that many frames, at its pitch or another: (2, frames).

    It starts from silence. Waits for a free process. Raises CloudriftError if two of them end
    before they have answered.
    """
    stops = _stops
    for _ in range(TRIES):
        child = _idle.get()
        try:
            child = child or _starter.submit(_Child).result()
            return child.stretched(audio, frames, semitones, rate)
        except (_Lost, struct.error, ValueError):
            if child is not None:
                child.close()
                child = None
            if _stops != stops:
                break
        except OSError as error:  # it could not be started
            raise CloudriftError(
                f"no sound could be stretched: no process could be started ({error.strerror}); "
                "close other programs and try again"
            ) from error
        finally:
            _idle.put(child)
    raise CloudriftError(
        "no sound could be stretched: the stretching process ended or stood still; try again"
    )
