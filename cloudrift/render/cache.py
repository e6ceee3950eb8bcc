"""Rendered audio by the hash of what it was made from."""

from collections.abc import Iterable

from cloudrift.audio.buffers import Stereo
from cloudrift.ground.lru import BoundedStore, alone, bytes_of

DEFAULT_BYTES = 288 << 20  # a ten-layer loop with its treatments, and some moments of history


class AudioCache:
    """A bounded store of audio. Arrays in it are read-only: many readers share them."""

    def __init__(self, limit_bytes: int = DEFAULT_BYTES) -> None:
        self._store = BoundedStore[Stereo](limit_bytes, bytes_of)

    def get(self, key: bytes) -> Stereo | None:
        """Return the audio under a key, or None."""
        return self._store.get(key)

    def put(self, key: bytes, audio: Stereo) -> None:
        """Keep audio under a key."""
        audio = alone(audio)
        audio.flags.writeable = False
        self._store.put(key, audio)

    def demote(self, keys: Iterable[bytes]) -> None:
        """Let audio be the first to go when there is no room."""
        for key in keys:
            self._store.demote(key)

    def clear(self) -> None:
        """Let everything go."""
        self._store.clear()

    @property
    def size_bytes(self) -> int:
        """How much is held."""
        return self._store.size_bytes
