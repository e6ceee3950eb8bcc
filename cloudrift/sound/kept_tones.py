"""Tones on disk: what was computed once, in this program or another, is read instead.

Each tone is a file of its own under the hash of all that decides it, the code that computes it
included: mark, frames, check sums, and the blocks that those are of. Files are read, not mapped: a
disk that goes away while a mapped file is in use ends the program, and to read a tone takes a tenth
of a millisecond.
"""

import contextlib
import functools
import hashlib
import io
import os
import queue
import struct
import threading
import time
import zlib
from collections.abc import Hashable
from importlib import resources
from pathlib import Path

import numpy as np
from platformdirs import user_cache_path

from cloudrift.audio import quick
from cloudrift.audio.buffers import Stereo
from cloudrift.audio.files import PART, make_folder, write_atomically
from cloudrift.ground.errors import WriteError
from cloudrift.sound.instrument import Tone

LIMIT_BYTES = 1 << 30
WAITING_BYTES = 64 << 20  # of tones that are to be written; what comes beyond that is not kept
BLOCK = 1 << 15  # frames that are checked as one: no more of a tone is read than is wanted
DEAR_MS = 2.0  # what is computed in less is not worth a file
CLOSING_S = 2.0
TRIMMED = 0.9  # of the limit is left where there was too much
USED_S = 3600.0  # how closely it is known when a file was last read
SUFFIX = ".tone"
PACKAGES = ("ground", "theory", "audio", "notes", "sound")  # all that a tone can come from
_HEAD = struct.Struct("<8sQI")  # mark, frames; 1 where soft and hard are one, else 2
_MARK = b"cr-tone1"


def usual_folder() -> Path:
    """Return where tones are kept (``$XDG_CACHE_HOME/cloudrift/tones``)."""
    return user_cache_path("cloudrift") / "tones"


@functools.cache
def _code() -> bytes:
    """The hash of all code that decides what a tone is like."""
    found = hashlib.blake2b(f"{np.__version__} {bool(quick.library)}".encode())
    for package in PACKAGES:
        root = Path(str(resources.files(f"cloudrift.{package}")))
        for path in sorted((*root.rglob("*.py"), *root.glob("*.c"))):
            found.update(path.read_bytes())
    return found.digest()


def _read_head(file: io.RawIOBase) -> tuple[int, int]:
    """Return how many frames a file has, and of how many sides; no frames if it is another."""
    mark, frames, sides = _HEAD.unpack(file.read(_HEAD.size))
    return (frames, sides) if mark == _MARK and sides in (1, 2) else (0, 0)


class KeptTones:
    """A folder of tones, bounded in bytes; several programs may share it.

    What can't be read or written is as if it were not there: nothing depends on it.
    """

    def __init__(self, folder: Path | None = None, limit_bytes: int = LIMIT_BYTES) -> None:
        self._folder = usual_folder() if folder is None else folder
        self._limit = limit_bytes
        self._size: int | None = None  # bytes in the folder, as far as this program knows
        self._waiting: queue.SimpleQueue[tuple[Path, Tone] | None] = queue.SimpleQueue()
        self._waiting_bytes = 0
        self._lock = threading.Lock()
        self._thread: threading.Thread | None = None

    def get(self, key: Hashable, frames: int) -> Tone | None:
        """Return the first ``frames`` of a tone, or a few more; None where it has not as many."""
        path = self._path(key)
        try:
            with path.open("rb", buffering=0) as file:
                there, sides = _read_head(file)
                if there < frames:
                    return None
                count, most = -(-frames // BLOCK), -(-there // BLOCK)
                checks = np.frombuffer(file.read(4 * most), np.uint32)
                audio = np.empty((sides, 2, min(count * BLOCK, there)), np.float32)
                for at in range(count):
                    here = audio[..., at * BLOCK : (at + 1) * BLOCK]
                    block = np.empty(here.shape, np.float32)
                    if file.readinto(block.data) != block.nbytes:
                        return None
                    if zlib.crc32(block.data) != checks[at]:
                        return None
                    here[:] = block
                self._say_used(path, os.fstat(file.fileno()))
        except (OSError, struct.error, IndexError):
            return None
        return Tone(audio[0], audio[-1])

    def has(self, key: Hashable, frames: int) -> bool:
        """Whether there is a tone of at least so many frames, as far as its file says."""
        try:
            with self._path(key).open("rb", buffering=0) as file:
                return _read_head(file)[0] >= frames
        except (OSError, struct.error):
            return False

    def put(self, key: Hashable, tone: Tone, cost_ms: float) -> None:
        """Keep a tone that took so long, soon; it is written by a thread of its own."""
        size = 2 * tone.soft.nbytes
        with self._lock:
            if cost_ms < DEAR_MS or self._waiting_bytes + size > WAITING_BYTES:
                return
            self._waiting_bytes += size
            if self._thread is None:
                self._thread = threading.Thread(target=self._run, name="tones", daemon=True)
                self._thread.start()
        self._waiting.put((self._path(key), tone))

    def close(self) -> None:
        """Write what waits, and end; a disk that takes longer than CLOSING_S is not waited for."""
        with self._lock:
            thread, self._thread = self._thread, None
        if thread is not None:
            self._waiting.put(None)
            thread.join(CLOSING_S)

    def _path(self, key: Hashable) -> Path:
        digest = hashlib.blake2b(repr(key).encode(), digest_size=20, key=_code())
        return self._folder / (digest.hexdigest() + SUFFIX)

    @staticmethod
    def _say_used(path: Path, status: os.stat_result) -> None:
        """Note that a file is in use: when it was written is when it was last wanted."""
        if time.time() - status.st_mtime > USED_S:
            with contextlib.suppress(OSError):
                os.utime(path)

    def _run(self) -> None:
        while (one := self._waiting.get()) is not None:
            path, tone = one
            with contextlib.suppress(OSError, WriteError):
                self._write(path, tone)
            with self._lock:
                self._waiting_bytes -= 2 * tone.soft.nbytes

    def _write(self, path: Path, tone: Tone) -> None:
        arrays: tuple[Stereo, ...] = (tone.soft,) if tone.soft is tone.hard else tuple(tone)
        audio = np.stack(arrays, dtype=np.float32)
        frames = audio.shape[2]
        blocks = [audio[..., at : at + BLOCK].tobytes() for at in range(0, frames, BLOCK)]
        checks = np.array([zlib.crc32(block) for block in blocks], np.uint32)
        head = _HEAD.pack(_MARK, frames, len(arrays))
        make_folder(self._folder, private=True)
        write_atomically(
            path, lambda file: file.writelines((head, checks.tobytes(), *blocks)), durable=False
        )
        if self._size is None:
            self._size = sum(status.st_size for _, status in self._files())
        else:
            self._size += _HEAD.size + audio.nbytes
        if self._size > self._limit:
            self._trim()

    def _files(self) -> list[tuple[Path, os.stat_result]]:
        found = []
        for entry in os.scandir(self._folder):
            with contextlib.suppress(OSError):  # another program may have removed it
                if entry.name.endswith((SUFFIX, PART)):
                    found.append((Path(entry.path), entry.stat()))
        return found

    def _trim(self) -> None:
        """Remove what was wanted longest ago."""
        files = sorted(self._files(), key=lambda one: one[1].st_mtime)
        size = sum(status.st_size for _, status in files)
        for path, status in files:
            if size <= TRIMMED * self._limit:
                break
            path.unlink(missing_ok=True)
            size -= status.st_size
        self._size = size
