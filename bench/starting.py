"""What a start takes: the window's until it is up and sounds, the command line's, many loops'."""

import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from bench.row import row
from cloudrift.loop.files.storage import save
from cloudrift.style import find_card, sketch

UP = """
import time; began = time.perf_counter()
from cloudrift.demo import polar_night
from cloudrift.desktop.frame.app import make_app
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.frame.window import Window
from cloudrift.devices import SilentSpeaker
app = make_app(); loop = polar_night()
session = Session(loop, None, SilentSpeaker(loop.rate)); window = Window(session)
window.show(); app.processEvents(); print(time.perf_counter() - began)
session.transport.set_playing(True)
while 'treated' not in session.hearing.rendered: app.processEvents(); time.sleep(0.002)
print(time.perf_counter() - began, flush=True)
"""
# Checks, marks and pictures follow a start for some seconds: they are no part of the playhead.
PLAYS = """
for _ in range(10):
    t, w = time.process_time(), time.perf_counter()
    while time.perf_counter() - w < 2: app.processEvents(); time.sleep(0.002)
    print((time.process_time() - t) / (time.perf_counter() - w), flush=True)
"""
END = "\nimport os; session.close(); os._exit(0)\n"


def said_by(script: str) -> list[float]:
    """The numbers that a process prints which runs a script."""
    out = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    return [float(line) for line in out.stdout.split()]


@row("window up; demo loop playing, from a second start on", "1.2 s, 2.2 s (second: 1.6)")
def start() -> str:
    """The best of three after the first: what else the machine does is no part of it."""
    first, *rest = (said_by(UP + END) for _ in range(4))
    up, playing = (min(one[i] for one in rest) for i in range(2))
    return f"{up:.2f} s, {playing:.2f} s; the first time {first[0]:.2f} s, {first[1]:.2f} s"


@row("playhead and meters at 60 frames/s, playing", "12 % of a core")
def playhead() -> str:
    """The quietest two seconds of the first twenty, and the middle of them."""
    _up, _playing, *load = said_by(UP + PLAYS + END)
    return (f"{min(load):.0%} (offscreen, with the audio thread); with checks, marks and pictures "
            f"that follow a start {statistics.median(load):.0%}")  # fmt: skip


@row("`cloudrift --help`; `cloudrift info`", "0.4 s, 0.9 s")
def command_line() -> str:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "loop.cloudrift"
        save(sketch(find_card("Edda Fenn"), variation=1, bars=4), path)
        found = []
        for words in (["--help"], ["info", str(path)]):
            took = []
            for _ in range(3):
                began = time.perf_counter()
                subprocess.run([sys.executable, "-m", "cloudrift", *words], check=True,
                               capture_output=True)  # fmt: skip
                took.append(time.perf_counter() - began)
            found.append(f"{min(took):.2f} s")
    return ", ".join(found)


@row("12 loops of 4 bars by `cloudrift render`", "start 1.5 s, both cores, linear")
def many() -> str:
    count = 12
    with tempfile.TemporaryDirectory() as folder:
        for variation in range(1, count + 1):
            loop = sketch(
                find_card("Edda Fenn"), variation=variation, bars=4, title=f"n{variation}"
            )
            save(loop, Path(folder) / f"n{variation}.cloudrift")
        files = [str(path) for path in Path(folder).glob("*.cloudrift")]
        times = []
        for some in (files[: count // 2], files):
            began = time.perf_counter()
            subprocess.run([sys.executable, "-m", "cloudrift", "render", *some, "-o", folder],
                           check=True, capture_output=True)  # fmt: skip
            times.append(time.perf_counter() - began)
    half, whole = times
    return f"{whole:.1f} s; {half:.1f} s for half: start {2 * half - whole:.1f} s"
