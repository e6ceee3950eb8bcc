"""Ctrl+C in a terminal reaches every process of a program; the one that was started says so."""

import contextlib
import signal
from collections.abc import Iterator


@contextlib.contextmanager
def held_back() -> Iterator[None]:
    """Let an interrupt wait; processes that are started meanwhile hold it back for good.

    They begin so, before any of their own code runs, and print nothing when one comes.
    """
    before = signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGINT})
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)


def leave_to_parent() -> None:
    """Of a process that was started: pass interrupts by, whoever started it ends it."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
