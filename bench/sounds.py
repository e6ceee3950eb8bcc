"""How long each house sound takes for a part, with nothing kept from before.

``python -m bench.sounds`` prints name and ms a line.
"""

import os
import statistics
import subprocess
import sys

from bench.row import row
from cloudrift.sound import CATALOGUE
from cloudrift.sound.measure import part_ms

TRIES = 2  # processes: a sound has one try in each, and the best is its own time


@row("64 notes over 8 bars, each of the house sounds", "70 ms, 150 worst")
def notes64() -> str:
    took: dict[str, float] = {}
    for _ in range(TRIES):
        out = subprocess.run([sys.executable, "-m", "bench.sounds"], capture_output=True,
                             text=True, check=True)  # fmt: skip
        for line in out.stdout.splitlines():
            ms, name = line.split(maxsplit=1)
            took[name] = min(float(ms), took.get(name, float("inf")))
    slowest = max(took, key=lambda name: took[name])
    under = sum(ms < 150 for ms in took.values())
    return (f"{statistics.median(took.values()):.0f} ms; {under} of {len(took)} under 150; "
            f"slowest {took[slowest]:.0f} ms ({slowest})")  # fmt: skip


if __name__ == "__main__":
    import scipy.fft  # noqa: F401 - loaded by then in the application, and slow to load

    os.sched_setaffinity(0, {0})
    for name, sound in CATALOGUE.items():
        print(f"{part_ms(sound):.1f} {name}")
