"""A row of the performance table: what is measured, what is wanted, and how it is measured."""

import statistics
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass

MODULES = ("starting", "engine", "playing", "sounds", "texture", "drag", "arranged", "hands")


@dataclass(frozen=True)
class Row:
    """``measure`` returns the figures in words; it runs in a process that has done nothing else."""

    name: str
    module: str
    what: str
    wanted: str
    measure: Callable[[], str]


ROWS: dict[str, Row] = {}


def row(what: str, wanted: str) -> Callable[[Callable[[], str]], Callable[[], str]]:
    """Put what is measured into the table, under the function's name."""

    def put(measure: Callable[[], str]) -> Callable[[], str]:
        name = measure.__name__
        assert name not in ROWS
        ROWS[name] = Row(name, measure.__module__, what, wanted, measure)
        return measure

    return put


def figures(took: Sequence[float]) -> str:
    """The middle and the worst of some times in ms."""
    return f"{statistics.median(took):.0f} ms, {max(took):.0f} worst"


def cpu_of(work: Callable[[], object]) -> tuple[float, float]:
    """Return the CPU time and the wall time of some work, in ms."""
    cpu, wall = time.process_time(), time.perf_counter()
    work()
    return (time.process_time() - cpu) * 1e3, (time.perf_counter() - wall) * 1e3
