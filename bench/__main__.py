"""The performance table: ``python -m bench [row ...]``; a part of a name chooses all that have it.

Each row is measured in a process of its own, with folders of its own, and printed as it comes,
beside what this machine measured the last time; and beside how fast the machine was, by a fixed
piece of work just before it.
"""

import argparse
import importlib
import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # as in the program

from platformdirs import user_cache_path

from bench.row import MODULES, ROWS, Row
from bench.speed import machine_ms

KEPT = "bench.json"  # what was measured the last time, in the user's cache
FOLDERS = ("HOME", "XDG_STATE_HOME", "XDG_DATA_HOME", "XDG_CONFIG_HOME", "XDG_CACHE_HOME")


def chosen(parts: list[str]) -> list[Row]:
    """The rows whose names have one of the parts; all of them where there is none."""
    for name in MODULES:
        importlib.import_module(f"bench.{name}")
    rows = [row for row in ROWS.values() if not parts or any(part in row.name for part in parts)]
    if not rows:
        sys.exit(f"bench: no row has {' or '.join(parts)} in its name; there are {', '.join(ROWS)}")
    return rows


def measured(row: Row) -> str:
    """Measure a row in a process that has done nothing else."""
    with tempfile.TemporaryDirectory() as folder:
        own = {name: str(Path(folder) / name.lower()) for name in FOLDERS}
        env = os.environ | own
        env.pop("PYTHONDONTWRITEBYTECODE", None)
        done = subprocess.run([sys.executable, "-m", "bench", "--here", row.module, row.name],
                              capture_output=True, text=True, check=False, env=env)  # fmt: skip
    if done.returncode:
        lines = done.stderr.strip().splitlines() or [f"ended with {done.returncode}"]
        return f"failed: {lines[-1]}"
    return done.stdout.strip().splitlines()[-1]


def here(module: str, name: str) -> None:
    """Measure a row in this process and print its figures."""
    from cloudrift.ground.memory import keep_memory_tidy  # noqa: PLC0415 - the parent is lean
    from cloudrift.render.play.player import SWITCH_INTERVAL_S  # noqa: PLC0415

    importlib.import_module(module)
    sys.setswitchinterval(SWITCH_INTERVAL_S)
    keep_memory_tidy()
    print(ROWS[name].measure())


def last_time(path: Path) -> dict[str, str]:
    """What was measured the last time, by row."""
    try:
        found = json.loads(path.read_text())
    except (OSError, ValueError):
        return {}
    return found if isinstance(found, dict) else {}


def main() -> None:
    """Print the table, row by row."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("rows", nargs="*", metavar="row")
    parser.add_argument("--here", nargs=2, metavar=("MODULE", "NAME"), help=argparse.SUPPRESS)
    given = parser.parse_args()
    if given.here:
        here(*given.here)
        return
    rows, path = chosen(given.rows), user_cache_path("cloudrift") / KEPT
    kept, began = last_time(path), time.monotonic()
    print(f"{os.cpu_count()} cores\n", flush=True)
    print("| row | what | wanted | measured | the last time | machine |\n|---|---|---|---|---|---|")
    for row in rows:
        machine = f"{machine_ms():.0f} ms"
        found, before = measured(row), kept.get(row.name, "")
        print(f"| {row.name} | {row.what} | {row.wanted} | {found} | {before} | {machine} |",
              flush=True)  # fmt: skip
        kept[row.name] = f"{found} ({machine})"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(json.dumps(kept, indent=1, ensure_ascii=False))
    print(f"\nThe table took {(time.monotonic() - began) / 60:.1f} minutes. The machine's speed is "
          "what a fixed piece of work took just before each row.")  # fmt: skip


if __name__ == "__main__":
    main()
