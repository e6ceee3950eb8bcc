"""Memory over a long day in short: ``python -m bench.random_edits [edits] [big]``.

Random edits in the window while the loop plays. Prints, for each hundred, the memory (the median of
the looks between edits, and the most), threads and child processes; ends with 1 where the memory
after the first hundred is not flat within 5 %, or threads or children are not as many as there
were.
"""

import os
import random
import statistics
import sys
import threading
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from bench.engine import resident_mb, settle
from bench.loops import another, big_loop
from cloudrift.demo import polar_night
from cloudrift.desktop.frame.app import make_app
from cloudrift.desktop.frame.window import Window
from cloudrift.desktop.session.session import Session
from cloudrift.devices import SilentSpeaker
from cloudrift.ground.memory import keep_memory_tidy
from cloudrift.render.play.player import SWITCH_INTERVAL_S

FLAT = 1.05
A_HUNDRED = 100


def children() -> int:
    """How many processes this one has begun that are there."""
    lists = Path("/proc/self/task").glob("*/children")  # one for each thread that began any
    return sum(len(one.read_text().split()) for one in lists)


def main() -> int:
    keep_memory_tidy()
    sys.setswitchinterval(SWITCH_INTERVAL_S)
    count = next((int(word) for word in sys.argv[1:] if word.isdigit()), 500)
    variation, app = random.Random(7), make_app()
    loop = big_loop() if "big" in sys.argv else polar_night()
    session = Session(loop, None, SilentSpeaker(loop.rate))
    window = Window(session)
    window.show()
    session.transport.set_playing(True)
    medians: list[float] = []
    looks: list[int] = []
    there: tuple[int, int] | None = None
    for i in range(1, count + 1):
        if variation.random() < 0.15:
            session.document.undo()
        else:
            session.apply("edit", another(variation))
        settle(app, session)
        looks.append(resident_mb())
        if i % A_HUNDRED == 0:
            now = threading.active_count(), children()
            there = there or now
            medians.append(statistics.median(looks))
            print(f"{i} edits: {medians[-1]:.0f} MB, {max(looks)} MB at most; "
                  f"{now[0]} threads, {now[1]} children", flush=True)  # fmt: skip
            looks = []
    session.close()  # the window would ask whether to save
    flat = max(medians[1:], default=0) <= FLAT * min(medians[1:], default=0)
    return 0 if flat and there == now else 1


if __name__ == "__main__":
    sys.exit(main())
