"""The engine's own figures: what a loop costs from nothing, and what an edit of it costs."""

import gc
import os
import random
import statistics
import subprocess
import sys
import time
from collections import deque
from collections.abc import Callable, Iterable
from pathlib import Path

from msgspec.structs import replace
from PyQt6.QtWidgets import QApplication

from bench.loops import another, big_loop
from bench.row import cpu_of, figures, row
from cloudrift.demo import polar_night
from cloudrift.desktop.frame.app import make_app
from cloudrift.desktop.frame.window import Window
from cloudrift.desktop.session.session import Session
from cloudrift.devices import SilentSpeaker
from cloudrift.ground.memory import give_back
from cloudrift.loop.edits.chords import chord_edits
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.model.loop import Loop
from cloudrift.render.engine.ahead import ahead, get_ready
from cloudrift.render.engine.engine import Engine
from cloudrift.render.plan.plan import heard_node
from cloudrift.sound.kept_tones import KeptTones

ROUNDS = 12


def rendered(loop: Loop) -> Engine:
    """An engine that has rendered a loop and is ready for an edit."""
    engine = Engine(kept=KeptTones())
    be_ready(engine, loop)
    return engine


def be_ready(engine: Engine, loop: Loop) -> None:
    """Render a loop, and make what the first look ahead at an edit of it needs."""
    engine.render(loop)
    get_ready(heard_node(loop, engine.tones), loop, lambda: False)


def until(app: QApplication, done: Callable[[], object]) -> None:
    """Let the window work until something is so."""
    while not done():
        app.processEvents()
        time.sleep(0.001)


def settle(app: QApplication, session: Session) -> None:
    """Let the window work until all has been heard."""
    least = time.monotonic() + 0.05
    until(app, lambda: not session.hearing.busy and time.monotonic() >= least)


def heard_and_whole(engine: Engine, loops: Iterable[Loop]) -> str:
    """Times on the clock until what comes next is there, and until the whole loop is; CPU beside.

    The loops are edits of one that the engine has rendered.
    """
    loops = list(loops)
    heard, whole, cpu = [], [], []
    for i, loop in enumerate(loops):
        stretches = ahead(engine, loop, i / len(loops))
        first = cpu_of(lambda: next(stretches, None))  # noqa: B023
        rest = cpu_of(lambda: (deque(stretches, maxlen=0), engine.render(loop)))  # noqa: B023
        heard.append(first[1])
        whole.append(first[1] + rest[1])
        cpu.append(first[0])
    engine.close()
    return f"{figures(heard)} ({statistics.median(cpu):.0f} CPU ms); whole {figures(whole)}"


def from_nothing(loop: Loop, kept: KeptTones | None = None) -> str:
    """Render a loop with nothing in memory."""
    import scipy.fft  # noqa: F401, PLC0415 - loading it is no rendering

    engine = Engine(kept=kept)
    cpu, wall = cpu_of(lambda: engine.render(loop))
    engine.close()
    plays = loop.frames / loop.rate
    return f"{cpu / 1e3:.2f} CPU s, {plays / wall * 1e3:.1f} times as fast as it plays"


@row("ten layers of eight bars, from nothing", "3.2 CPU s, 7 times")
def cold() -> str:
    return from_nothing(big_loop())


@row("the same with its tones on disk", "12 times")
def cold_kept() -> str:
    """In a process of its own, where another has opened it before."""
    first = ("from bench.loops import big_loop; from cloudrift.render import Engine; "
             "from cloudrift.sound.kept_tones import KeptTones; "
             "e = Engine(kept=KeptTones()); e.render(big_loop()); e.close()")  # fmt: skip
    subprocess.run([sys.executable, "-c", first], check=True)
    return from_nothing(big_loop(), KeptTones())


@row("the demo loop from nothing", "16 times")
def cold_demo() -> str:
    return from_nothing(polar_night())


def chords_of(loop: Loop) -> Iterable[Loop]:
    """The loop with its second chord on one degree after another."""
    for i in range(ROUNDS):
        yield chord_edits.set_degree(loop, loop.chords[1].id, 1 + i % 7, count=3 + (i > 6))


@row("a chord changed, ten layers follow: first sound", "150 ms, whole 1500 ms")
def chord() -> str:
    loop = big_loop()
    return heard_and_whole(rendered(loop), chords_of(loop))


@row("the same where its tones are known", "80 ms, whole 800 ms")
def chord_known() -> str:
    loop = big_loop()
    engine = rendered(loop)
    for one in chords_of(loop):
        engine.render(one)
    engine.cache.clear()
    be_ready(engine, loop)
    return heard_and_whole(engine, chords_of(loop))


@row("a field of a layer's last treatment moved: first sound", "30 ms, 60 worst")
def treatment() -> str:
    loop = big_loop()
    first = loop.layers[0]
    return heard_and_whole(rendered(loop), [
        line_edits.set_treatment(loop, first.id, first.line[-1].id, blend=0.3 + i / 100)
        for i in range(ROUNDS)])  # fmt: skip


@row("a field of the whole loop's last treatment moved: first sound", "12 ms, 60 worst")
def treatment_of_loop() -> str:
    loop = big_loop()
    return heard_and_whole(rendered(loop), [
        line_edits.set_treatment(loop, None, loop.line[-1].id, blend=0.3 + i / 100)
        for i in range(ROUNDS)])  # fmt: skip


@row("a field of the third of a layer's four treatments moved: first sound", "30 ms, 60 worst")
def third_of_four() -> str:
    loop = line_edits.set_line(big_loop(), "l1", ())
    for kind in ("cuts", "tape", "chorus", "hall"):
        loop = line_edits.add_treatment(loop, "l1", kind)
    third = loop.line_of("l1")[2].id
    return heard_and_whole(rendered(loop), [
        line_edits.set_treatment_setting(loop, "l1", third, "depth_ms", 1.0 + i / 10)
        for i in range(ROUNDS)])  # fmt: skip


def pans_of(loop: Loop) -> list[Loop]:
    return [layer_edits.set_layer(loop, loop.layers[0].id, pan=i / 50) for i in range(ROUNDS)]


@row("level, pan, mute: first sound", "15 ms, 60 worst")
def level() -> str:
    loop = big_loop()
    return heard_and_whole(rendered(loop), pans_of(loop))


@row("level, no treatments on the whole loop: first sound", "15 ms, 60 worst")
def level_bare() -> str:
    loop = replace(big_loop(), line=())
    return heard_and_whole(rendered(loop), pans_of(loop))


@row("level, pan, mute at 32 bars: first sound", "15 ms, 60 worst")
def level_long() -> str:
    loop = big_loop(32)
    return heard_and_whole(rendered(loop), pans_of(loop))


def resident_mb() -> int:
    """How much memory this process uses."""
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE") >> 20


def peak_mb() -> int:
    """The most that it has used."""
    lines = Path("/proc/self/status").read_text().splitlines()
    return next(int(line.split()[1]) >> 10 for line in lines if line.startswith("VmHWM"))


@row("memory, ten layers open in the window, after 100 edits", "500 MB steady, 700 MB peak")
def memory() -> str:
    """Edit it a hundred times while it plays, and rest."""
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
    return f"{steady} MB steady, {peak_mb()} MB peak"
