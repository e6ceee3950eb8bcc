"""How memory is handed out and looked through in a process that renders, and what it gives back.

To let all large blocks lie outside the heap (M_MMAP_THRESHOLD) would keep the memory as low by
itself, but each step would then pay for fresh pages: twice the time for a loop.
"""

import ctypes
import functools
import gc
from typing import Any

M_ARENA_MAX = -8  # mallopt(3)
ARENAS = 2


@functools.cache
def _library() -> Any:
    return ctypes.CDLL(None)


def keep_memory_tidy() -> None:
    """Let all threads share two heaps.

    Left alone, the allocator keeps freed loops in one heap a thread, full of holes: twice the
    memory that is in use after a long session. Does nothing where the C library is another one.
    """
    if hasattr(_library(), "mallopt"):
        _library().mallopt(M_ARENA_MAX, ARENAS)


def give_back() -> None:
    """Give what is freed inside the heaps back to the system (``malloc_trim(3)``): some 10 ms.

    What lies between blocks that stay would else be held for ever: a long day would end with twice
    the memory that it needs.
    """
    if hasattr(_library(), "malloc_trim"):
        _library().malloc_trim(0)


def leave_what_stands() -> None:
    """Never again look through what there is now for what could be let go of.

    That takes 60 ms once a window stands, in which nothing else runs: longer than a speaker waits
    for sound.
    """
    gc.freeze()
