"""Threads that may take their time."""

import contextlib
import os
import sys
import threading


def be_nice(by: int) -> None:
    """Let all other threads come before this one, from now on; by 0 nothing changes.

    Where threads have no priority of their own (elsewhere than on Linux) nothing does.
    """
    if by and sys.platform == "linux":
        with contextlib.suppress(OSError):
            os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), by)
