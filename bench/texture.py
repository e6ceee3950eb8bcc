"""What texture costs: a line of eight on one core."""

import os
from collections.abc import Callable

import numpy as np

from bench.row import cpu_of, row
from cloudrift.texture import Context, Treatment
from cloudrift.texture.running import treat
from cloudrift.texture.treatment import Line, acting, fused

RATE, SECONDS, ROUNDS = 44_100, 16, 5
N = RATE * SECONDS
EIGHT = ("equaliser", "tape", "compressor", "chorus", "echo", "hall", "weathering", "limiter")


def music() -> np.ndarray:
    """Sixteen seconds of struck chords with noise in them, stereo."""
    rng, t = np.random.default_rng(1), np.arange(N) / RATE
    wave = np.zeros(N)
    for beat in range(2 * SECONDS):
        hz = 110 * 2 ** (rng.integers(0, 24) / 12)
        since = t - beat / 2
        on = since >= 0
        for k in range(1, 9):
            wave[on] += np.sin(2 * np.pi * hz * k * since[on]) * np.exp(-2 * since[on]) / k
    wave = 0.1 * wave + 0.01 * rng.standard_normal(N)
    return np.stack([wave, np.roll(wave, 200)]).astype(np.float32)


def context() -> Context:
    return Context(rate=RATE, exact_frames=float(N), tempo=120.0, cuts=tuple(range(0, N, N // 4)))


def of(*kinds: str, **settings: object) -> Line:
    line = []
    for i, kind in enumerate(kinds):
        one = Treatment(id=f"t{i}", kind=kind)
        for name, value in settings.items():
            one = one.set(name, value)
        line.append(one)
    return tuple(line)


def lay(line: Line) -> Callable[[], object]:
    audio, where = music(), context()

    def work() -> None:
        sound = audio
        for group in fused(line):
            sound = treat(sound, group, where)

    return work


def best_ms(work: Callable[[], object]) -> float:
    return min(cpu_of(work)[1] for _ in range(ROUNDS))


@row(f"{len(EIGHT)} treatments on {SECONDS} s stereo, one core", "900 ms")
def eight_treatments() -> str:
    """The first time, with nothing kept, and the best of the next, as when a field is moved."""
    import scipy.ndimage  # noqa: F401, PLC0415 - loading it is no rendering

    os.sched_setaffinity(0, {0})
    line = of(*EIGHT)
    for name, value in (("mid_db", 3.0), ("bass_db", -2.0)):
        line = (line[0].set(name, value), *line[1:])
    assert len(acting(line)) == 8
    work = lay(line)
    _cpu, first = cpu_of(work)
    return f"{best_ms(work):.0f} ms ({first:.0f} ms the first time)"
