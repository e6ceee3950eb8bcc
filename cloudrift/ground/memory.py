"""How the C library hands out memory, set once for a process that renders."""

import ctypes
import ctypes.util

M_MMAP_THRESHOLD, M_ARENA_MAX = -3, -8  # mallopt(3)
ONE_LOOP_BYTES = 4 << 20


def keep_memory_tidy() -> None:
    """Let loops be given back to the system when they are let go.

    Left alone, the allocator keeps freed loops in one heap a thread, full of holes: twice the
    memory that is in use. Does nothing where the C library is another one.
    """
    library = ctypes.util.find_library("c")
    if library is None:
        return
    c = ctypes.CDLL(library)
    if hasattr(c, "mallopt"):
        c.mallopt(M_ARENA_MAX, 2)
        c.mallopt(M_MMAP_THRESHOLD, ONE_LOOP_BYTES)
