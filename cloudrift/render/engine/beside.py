"""The same work on many things, in processes that stand behind all that plays."""

import os
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from multiprocessing import get_context
from typing import TypeVar

from cloudrift.audio.stretch_child import stand_behind
from cloudrift.ground.cancel import never
from cloudrift.ground.interrupts import held_back

LOOK_S = 0.2

_In = TypeVar("_In")
_Out = TypeVar("_Out")


def each_beside(
    work: Callable[[_In], _Out],
    things: Sequence[_In],
    processes: int,
    cancelled: Callable[[], bool] = never,
) -> Iterator[_Out]:
    """Hand out what comes of each, as it stands, in whatever order; less where nobody wants it."""
    if not things:
        return
    pool = ProcessPoolExecutor(
        min(processes, len(things)), get_context("spawn"), stand_behind, (os.getpid(),)
    )
    try:
        with held_back():
            running: set[Future[_Out]] = {pool.submit(work, one) for one in things}
        while running and not cancelled():
            ready, running = wait(running, timeout=LOOK_S, return_when=FIRST_COMPLETED)
            for future in ready:
                yield future.result()
    finally:
        pool.shutdown(wait=False, cancel_futures=True)
