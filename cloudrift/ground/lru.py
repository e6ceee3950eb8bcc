"""What was computed, by what it was computed from: what is least worth its room goes first."""

import functools
import itertools
import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Hashable
from dataclasses import dataclass
from typing import Any, Generic, ParamSpec, TypeVar

import numpy as np
from numpy.typing import NDArray

_Value = TypeVar("_Value")
_Given = ParamSpec("_Given")
PATIENCE_S = 2.0
MOST_MADE = 112 << 20  # bytes of arrays that are kept to make sound from


@dataclass(slots=True)
class _Held(Generic[_Value]):
    value: _Value
    size: int
    cost_ms: float  # to make it again; 0 where that is not known
    worth: float = 0.0


class BoundedStore(Generic[_Value]):
    """Values by key, bounded in bytes, safe for threads.

    What goes first is what is cheap to make again for the room it takes, and has not been used for
    long: each use makes a value worth its ms a byte more than what went last (GreedyDual-Size, Cao
    and Irani 1997). A loop that needs a little more than there is room for would else find nothing
    of it. Among values whose cost is not known, the least recently used goes first.
    """

    def __init__(self, limit_bytes: int, size_of: Callable[[_Value], int]) -> None:
        self._limit, self._size_of = limit_bytes, size_of
        self._size = 0
        self._gone_worth = 0.0  # of what went last
        self._held: OrderedDict[Hashable, _Held[_Value]] = OrderedDict()
        self._making: dict[Hashable, threading.Event] = {}
        self._lock = threading.Lock()

    def get(self, key: Hashable) -> _Value | None:
        """Return the value under a key, or None."""
        with self._lock:
            return self._used(key)

    def _used(self, key: Hashable) -> _Value | None:
        held = self._held.get(key)
        if held is None:
            return None
        self._held.move_to_end(key)
        held.worth = self._gone_worth + held.cost_ms / max(held.size, 1)
        return held.value

    def put(self, key: Hashable, value: _Value, cost_ms: float = 0.0) -> None:
        """Keep a value; when there is no room others go, never the newest."""
        with self._lock:
            self._drop(key)
            self._held[key] = held = _Held(value, self._size_of(value), cost_ms)
            self._size += held.size
            self._used(key)
            while self._size > self._limit and len(self._held) > 1:
                others = itertools.islice(self._held.items(), len(self._held) - 1)
                least, going = min(others, key=_worth)
                self._gone_worth = max(self._gone_worth, going.worth)
                self._drop(least)

    def _drop(self, key: Hashable) -> None:
        held = self._held.pop(key, None)
        self._size -= held.size if held else 0

    def made(
        self,
        key: Hashable,
        make: Callable[[], _Value],
        serves: Callable[[_Value], bool] = lambda _value: True,
    ) -> _Value:
        """Return the value under a key if it serves, or make it and keep it.

        Whoever wants what another thread is making waits for it rather than making it, too; but
        not for ever: what is made may itself wait for a thread that waits here.
        """
        while True:
            with self._lock:
                value = self._used(key)
                if value is not None and serves(value):
                    return value
                making = self._making.get(key)
                if making is None:
                    self._making[key] = threading.Event()
                    break
            if not making.wait(PATIENCE_S):
                return make()
        try:
            began = time.perf_counter()
            value = make()
            self.put(key, value, (time.perf_counter() - began) * 1e3)
            return value
        finally:
            with self._lock:
                self._making.pop(key).set()

    def items(self) -> list[tuple[Hashable, _Value]]:
        """Return all that is held, by key."""
        with self._lock:
            return [(key, held.value) for key, held in self._held.items()]

    def clear(self) -> None:
        """Let everything go."""
        with self._lock:
            self._held.clear()
            self._size = 0

    @property
    def size_bytes(self) -> int:
        """How much is held."""
        return self._size


def _worth(held: tuple[Hashable, _Held[Any]]) -> float:
    return held[1].worth


def bytes_of(value: Any) -> int:
    """Return how much an array holds, or the arrays in a tuple; little for anything else.

    A part of a larger array holds all of that; parts of one hold it once.
    """
    held: dict[int, int] = {}
    little, waiting = 0, [value]
    while waiting:
        one = waiting.pop()
        if isinstance(one, np.ndarray):
            whole = _whole(one)
            held[id(whole)] = whole.nbytes
        else:
            little += 64
            waiting += one if isinstance(one, tuple) else ()
    return little + sum(held.values())


def _whole(array: NDArray[Any]) -> NDArray[Any]:
    """Return what an array is part of, down to what holds the memory."""
    while isinstance(array.base, np.ndarray):
        array = array.base
    return array


def detached(*arrays: NDArray[Any]) -> tuple[NDArray[Any], ...]:
    """Return arrays that hold no more than themselves: copies, if together they are part of more.

    Those that are one array stay one.
    """
    own = {id(array): array.nbytes for array in arrays}
    held = {id(whole): whole.nbytes for whole in map(_whole, arrays)}
    if sum(held.values()) <= 1.1 * sum(own.values()):
        return arrays
    copies = {id(array): array.copy() for array in arrays}
    return tuple(copies[id(array)] for array in arrays)


_MADE = BoundedStore[Any](MOST_MADE, bytes_of)


def memoize(make: Callable[_Given, _Value]) -> Callable[_Given, _Value]:
    """Keep the arrays that a pure function makes (or tuples of them), by what it was given.

    All such functions share room for MOST_MADE bytes: what is large does not stay because it is
    one of few.
    """
    name = f"{make.__module__}.{make.__qualname__}"

    @functools.wraps(make)
    def look(*given: _Given.args, **named: _Given.kwargs) -> _Value:
        key = (name, given, tuple(sorted(named.items())))
        return get_or_make(key, lambda: make(*given, **named))

    return look


def get_or_make(key: Hashable, make: Callable[[], _Value]) -> _Value:
    """Return what is kept under a key, or make it: as ``memoize``, where a key says all of it."""
    value: _Value = _MADE.made(key, make)
    return value


def by_identity(most: int) -> Callable[[Callable[_Given, _Value]], Callable[_Given, _Value]]:
    """Keep the last ``most`` results of a pure function of frozen values, by being those very ones.

    To compare documents takes longer than most that is made of them; what an edit leaves alone
    stays the same object. Numbers and words are compared as such.
    """

    def decorate(make: Callable[_Given, _Value]) -> Callable[_Given, _Value]:
        held: OrderedDict[Hashable, tuple[Any, _Value]] = OrderedDict()
        lock = threading.Lock()

        @functools.wraps(make)
        def look(*given: _Given.args, **named: _Given.kwargs) -> _Value:
            key = tuple(
                one if isinstance(one, (str, int, float)) else id(one)
                for one in (*given, *named.values())
            )
            with lock:
                found = held.get(key)
                if found is not None:
                    held.move_to_end(key)
                    return found[1]
            value = make(*given, **named)
            with lock:
                held[key] = ((given, named), value)  # what is held keeps its identity
                while len(held) > most:
                    held.popitem(last=False)
            return value

        return look

    return decorate


def made_bytes() -> int:
    """Return how much is kept so."""
    return _MADE.size_bytes


def forget_made() -> None:
    """Let all that is kept so go."""
    _MADE.clear()
