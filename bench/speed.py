"""How fast this machine is at the moment: a fixed piece of work, in CPU ms."""

import numpy as np

from bench.row import cpu_of


def work() -> None:
    """Some of everything that the program does: transforms, arrays, memory, plain Python."""
    rng = np.random.default_rng(1)
    noise = rng.standard_normal(1 << 17)
    for _ in range(4):
        np.fft.irfft(np.fft.rfft(noise) * 0.5)
    for _ in range(20):
        noise = noise * 0.5 + 0.25
    np.sort(noise)
    total = 0
    for i in range(200_000):
        total += i & 7


def machine_ms(tries: int = 3) -> float:
    """CPU ms for the fixed piece of work: the best of some tries."""
    return min(cpu_of(work)[0] for _ in range(tries))
