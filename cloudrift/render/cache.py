"""Rendered audio by content: least recently used goes first, bounded in bytes."""

import threading
from collections import OrderedDict

from cloudrift.audio.buffers import Stereo

DEFAULT_BYTES = 1 << 30


class AudioCache:
    """Audio by the hash of what it was made from; safe for threads. Arrays in it are read-only."""

    def __init__(self, limit_bytes: int = DEFAULT_BYTES) -> None:
        self._limit = limit_bytes
        self._size = 0
        self._held: OrderedDict[bytes, Stereo] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: bytes) -> Stereo | None:
        """Return the audio under a key, or None."""
        with self._lock:
            audio = self._held.get(key)
            if audio is not None:
                self._held.move_to_end(key)
            return audio

    def put(self, key: bytes, audio: Stereo) -> None:
        """Keep audio under a key; the oldest goes when there is no room."""
        audio.flags.writeable = False
        with self._lock:
            before = self._held.pop(key, None)
            self._size += audio.nbytes - (before.nbytes if before is not None else 0)
            self._held[key] = audio
            while self._size > self._limit and len(self._held) > 1:
                self._size -= self._held.popitem(last=False)[1].nbytes

    @property
    def size_bytes(self) -> int:
        """How much is held."""
        return self._size
