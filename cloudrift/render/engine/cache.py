"""Rendered audio by the hash of what it was made from, kept by what it is worth.

What the loops that are played are made of stays, as far as the machine's memory goes: a level is
heard at once only if all layers are there. What they have left behind is spare, and is kept for a
few steps back. Where not all of a long loop has room, what is quickly made again goes first.
"""

import os
import threading
from collections import OrderedDict
from collections.abc import Collection, Iterable
from dataclasses import dataclass

from cloudrift.audio.buffers import Stereo
from cloudrift.ground.lru import bytes_of, detached

SPARE_BYTES = 48 << 20
LEAST_BYTES, MOST_BYTES = 288 << 20, 1536 << 20
OF_MEMORY = 1 / 8  # so much of what the machine has


def usual_limit() -> int:
    """Return how many bytes may be held on this machine."""
    there = os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")
    return int(min(max(there * OF_MEMORY, LEAST_BYTES), MOST_BYTES))


@dataclass(frozen=True)
class _Held:
    audio: Stereo
    size: int  # bytes
    cost_ms: float  # to make it again


def _size(store: OrderedDict[bytes, _Held]) -> int:
    return sum(held.size for held in store.values())


class AudioCache:
    """A bounded store of audio. Arrays in it are read-only: many readers share them."""

    def __init__(self, limit_bytes: int | None = None, spare_bytes: int = SPARE_BYTES) -> None:
        """``limit_bytes`` for all of it, ``spare_bytes`` for what no held loop is made of."""
        self._limit = usual_limit() if limit_bytes is None else limit_bytes
        self._most_spare = spare_bytes
        self._used: OrderedDict[bytes, _Held] = OrderedDict()  # least recently used first
        self._spare: OrderedDict[bytes, _Held] = OrderedDict()
        self._loops: dict[str, frozenset[bytes]] = {}  # what each held loop is made of
        self._dear: dict[str, frozenset[bytes]] = {}  # the part of it that goes last
        self._lock = threading.Lock()

    def get(self, key: bytes) -> Stereo | None:
        """Return the audio under a key, or None."""
        with self._lock:
            for store in (self._used, self._spare):
                if key in store:
                    store.move_to_end(key)
                    return store[key].audio
            return None

    def put(self, key: bytes, audio: Stereo, cost_ms: float = 0.0) -> None:
        """Keep audio under a key; ``cost_ms`` is what it takes to make it again."""
        (audio,) = detached(audio)
        audio.flags.writeable = False
        with self._lock:
            self._take(key)
            self._used[key] = _Held(audio, bytes_of(audio), cost_ms)
            self._make_room(newest=key)

    def cost_ms(self, key: bytes) -> float:
        """Return what it takes to make some audio again; 0 if it is not there, or not known."""
        with self._lock:
            held = self._used.get(key) or self._spare.get(key)
            return held.cost_ms if held else 0.0

    def hold(self, name: str, keys: Collection[bytes], dear: Collection[bytes] = ()) -> None:
        """Say what the loop of a name is made of now; all that no such loop needs is spare.

        ``dear`` is what goes last where there is not room for all.
        """
        with self._lock:
            self._loops[name], self._dear[name] = frozenset(keys), frozenset(dear)
            needed = frozenset().union(*self._loops.values())
            for key in [key for key in self._used if key not in needed]:
                self._spare[key] = self._used.pop(key)
            for key in [key for key in self._spare if key in needed]:
                self._used[key] = self._spare.pop(key)
            self._make_room()

    def demote(self, keys: Iterable[bytes]) -> None:
        """Say that some audio has served: it is spare, unless it comes to be needed again."""
        with self._lock:
            for key in keys:
                held = self._take(key)
                if held is not None:
                    self._spare[key] = held
            self._make_room()

    def _take(self, key: bytes) -> _Held | None:
        return self._used.pop(key, None) or self._spare.pop(key, None)

    def _make_room(self, newest: bytes = b"") -> None:
        """Let spare audio go, the oldest first; then what is cheap, what is dear last of all."""
        while self._spare and (
            _size(self._spare) > self._most_spare or self._total() > self._limit
        ):
            self._spare.popitem(last=False)
        if self._total() <= self._limit:
            return
        dear = frozenset().union(*self._dear.values())
        order = sorted(
            (key for key in self._used if key != newest),
            key=lambda key: (key in dear, self._used[key].cost_ms),
        )
        for key in order:
            if self._total() <= self._limit:
                return
            del self._used[key]

    def clear(self) -> None:
        """Let everything go."""
        with self._lock:
            self._used.clear()
            self._spare.clear()
            self._loops.clear()
            self._dear.clear()

    @property
    def size_bytes(self) -> int:
        """How much is held."""
        with self._lock:
            return self._total()

    def _total(self) -> int:
        return _size(self._used) + _size(self._spare)
