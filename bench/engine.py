"""The engine's own figures, in CPU time, each in a process that has done nothing else.

``python -m bench.engine [row ...]`` prints one row a line: what, wanted, measured.
"""

import gc
import os
import random
import statistics
import subprocess
import sys
import time
from collections.abc import Callable, Iterable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtWidgets import QApplication

from bench.loops import another, big_loop
from cloudrift.desktop.frame.app import make_app
from cloudrift.desktop.frame.window import Window
from cloudrift.desktop.session.session import Session
from cloudrift.devices import SilentSpeaker
from cloudrift.ground.memory import give_back, keep_memory_tidy
from cloudrift.loop.edits.chords import chord_edits
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.model.loop import Loop
from cloudrift.render.engine.ahead import ahead, get_ready
from cloudrift.render.engine.engine import Engine
from cloudrift.render.play.player import SWITCH_INTERVAL_S

ROUNDS = 12
Row = tuple[str, str, str]


def cpu_of(work: Callable[[], object]) -> tuple[float, float]:
    """Return the CPU time and the wall time of some work, in ms."""
    cpu, wall = time.process_time(), time.perf_counter()
    work()
    return (time.process_time() - cpu) * 1e3, (time.perf_counter() - wall) * 1e3


def rendered(bars: int = 8) -> tuple[Loop, Engine]:
    """The loop, and an engine that has rendered it and is ready for an edit."""
    loop, engine = big_loop(bars), Engine()
    engine.render(loop)
    get_ready(engine, loop, lambda: False)
    return loop, engine


def settle(app: QApplication, session: Session) -> None:
    """Let the window work until all has been heard."""
    until = time.monotonic() + 0.05
    while session.hearing.busy or time.monotonic() < until:
        app.processEvents()
        time.sleep(0.002)


def heard_and_whole(engine: Engine, loops: list[Loop]) -> str:
    """CPU time until what comes next is there, and until the whole loop is, over some edits."""
    heard, whole = [], []
    for i, loop in enumerate(loops):
        stretches = ahead(engine, loop, i / len(loops))
        first = cpu_of(lambda: next(stretches, None))  # noqa: B023
        rest = cpu_of(lambda: (list(stretches), engine.render(loop)))  # noqa: B023
        heard.append(first[0])
        whole.append(first[0] + rest[0])
    return (f"{statistics.median(heard):.0f} ms heard, {max(heard):.0f} worst; "
            f"{statistics.median(whole):.0f} ms whole, {max(whole):.0f} worst")  # fmt: skip


def cold() -> Row:
    """Render the loop with nothing kept."""
    import scipy.fft  # noqa: F401, PLC0415 - loading it is no rendering

    loop, engine = big_loop(), Engine()
    cpu, wall = cpu_of(lambda: engine.render(loop))
    plays = loop.frames / loop.rate
    return ("whole loop, empty cache, CPU", "2.0 CPU s, 15 times faster than it plays",
            f"{cpu / 1e3:.2f} CPU s, {plays / wall * 1e3:.1f} times")  # fmt: skip


def chord() -> Row:
    """Change a chord that all layers follow."""
    loop, engine = rendered()
    degrees = [chord_edits.set_degree(loop, loop.chords[1].id, 1 + i % 7, count=3 + (i > 6))
               for i in range(ROUNDS)]  # fmt: skip
    return (
        "a chord changed, all layers follow, CPU",
        "180 ms heard",
        heard_and_whole(engine, degrees),
    )


def level() -> Row:
    """Change a pan behind a line on the whole loop."""
    loop, engine = rendered()
    pans = [layer_edits.set_layer(loop, loop.layers[0].id, pan=i / 50) for i in range(ROUNDS)]
    return "level, pan, mute, CPU", "20 ms heard", heard_and_whole(engine, pans)


def long_level() -> Row:
    """The same at four times the length."""
    loop, engine = rendered(bars=32)
    pans = [layer_edits.set_layer(loop, loop.layers[0].id, pan=i / 50) for i in range(ROUNDS)]
    return ("level, pan, mute at 32 bars, CPU", "60 ms heard, 1300 ms whole",
            heard_and_whole(engine, pans))  # fmt: skip


def resident_mb() -> int:
    """How much memory this process uses."""
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE") >> 20


def peak_mb() -> int:
    """The most that it has used."""
    lines = Path("/proc/self/status").read_text().splitlines()
    return next(int(line.split()[1]) >> 10 for line in lines if line.startswith("VmHWM"))


def memory() -> Row:
    """Open the loop in the window, edit it a hundred times while it plays, and rest."""
    app, loop = make_app(), big_loop()
    session = Session(loop, None, SilentSpeaker(loop.rate))
    window = Window(session)
    window.show()

    settle(app, session)
    session.transport.set_playing(True)
    variation = random.Random(3)
    for _ in range(100):
        session.apply("edit", another(variation))
        settle(app, session)
    gc.collect()
    time.sleep(1.0)
    give_back()
    steady = resident_mb()
    session.close()  # the window would ask whether to save
    return ("memory, loop open in the window, after 100 edits", "650 MB steady, 800 MB peak",
            f"{steady} MB steady, {peak_mb()} MB peak")  # fmt: skip


ROWS = {one.__name__: one for one in (cold, chord, level, long_level, memory)}


def rows(module: str = "bench.engine", names: Iterable[str] = tuple(ROWS)) -> list[Row]:
    """Measure rows of a module, each in a process of its own."""
    out = []
    for name in names:
        done = subprocess.run([sys.executable, "-m", module, name], capture_output=True,
                              text=True, check=True)  # fmt: skip
        what, wanted, measured = done.stdout.strip().splitlines()[-1].split("\t")
        out.append((what, wanted, measured))
    return out


if __name__ == "__main__":
    sys.setswitchinterval(SWITCH_INTERVAL_S)
    keep_memory_tidy()
    for name in sys.argv[1:] or ROWS:
        print("\t".join(ROWS[name]()), flush=True)
