"""How the C library hands out memory, set once for a process that renders."""

import ctypes
import ctypes.util

M_ARENA_MAX = -8  # mallopt(3)
ARENAS = 2


def keep_memory_tidy() -> None:
    """Let all threads share two heaps.

    Left alone, the allocator keeps freed loops in one heap a thread, full of holes: twice the
    memory that is in use after a long session. Does nothing where the C library is another one.
    """
    library = ctypes.util.find_library("c")
    if library is None:
        return
    c = ctypes.CDLL(library)
    if hasattr(c, "mallopt"):
        c.mallopt(M_ARENA_MAX, ARENAS)
