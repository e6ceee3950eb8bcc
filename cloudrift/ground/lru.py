"""What was computed, by what it was computed from: least recently used goes first."""

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Generic, TypeVar

_Value = TypeVar("_Value")


class BoundedStore(Generic[_Value]):
    """Values by key, bounded in bytes, safe for threads."""

    def __init__(self, limit_bytes: int, size_of: Callable[[_Value], int]) -> None:
        self._limit, self._size_of = limit_bytes, size_of
        self._size = 0
        self._held: OrderedDict[Hashable, _Value] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: Hashable) -> _Value | None:
        """Return the value under a key, or None."""
        with self._lock:
            value = self._held.get(key)
            if value is not None:
                self._held.move_to_end(key)
            return value

    def put(self, key: Hashable, value: _Value) -> None:
        """Keep a value; the oldest go when there is no room, but never the newest."""
        with self._lock:
            before = self._held.pop(key, None)
            self._size += self._size_of(value) - (
                self._size_of(before) if before is not None else 0
            )
            self._held[key] = value
            while self._size > self._limit and len(self._held) > 1:
                self._size -= self._size_of(self._held.popitem(last=False)[1])

    def demote(self, key: Hashable) -> None:
        """Let a value be the first to go."""
        with self._lock:
            if key in self._held:
                self._held.move_to_end(key, last=False)

    def clear(self) -> None:
        """Let everything go."""
        with self._lock:
            self._held.clear()
            self._size = 0

    @property
    def size_bytes(self) -> int:
        """How much is held."""
        return self._size
