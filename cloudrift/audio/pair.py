"""Two channels, two cores: the same work on left and right at once."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

_Out = TypeVar("_Out")
# Threads without work cost nothing; making them at each call would cost more than some of the work.
_POOL = ThreadPoolExecutor(2, thread_name_prefix="pair")


def per_channel(work: Callable[[int], _Out]) -> tuple[_Out, _Out]:
    """Return ``work(0), work(1)``, run beside each other where NumPy and SciPy allow it."""
    second = _POOL.submit(work, 1)
    first = work(0)
    return first, second.result()
