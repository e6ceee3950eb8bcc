"""How the C library hands out memory, set once for a process that renders."""

import ctypes
import ctypes.util

M_MMAP_THRESHOLD, M_ARENA_MAX = -3, -8  # mallopt(3)
ARENAS = 2
LARGE = 1 << 20  # bytes from which on a block is the system's own, and goes back to it when freed


def keep_memory_tidy() -> None:
    """Let all threads share two heaps, and what is large lie outside them.

    Left alone, the allocator keeps freed loops in one heap a thread, full of holes: twice the
    memory that is in use after a long session; and it moves the line from which on blocks are given
    back up to the largest that it has seen. Does nothing where the C library is another one.
    """
    library = ctypes.util.find_library("c")
    if library is None:
        return
    c = ctypes.CDLL(library)
    if hasattr(c, "mallopt"):
        c.mallopt(M_ARENA_MAX, ARENAS)
        c.mallopt(M_MMAP_THRESHOLD, LARGE)
