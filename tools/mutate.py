"""Listed one-line faults over the core, each put in by itself: do the tests see it?

Each fault is a line that somebody might have written instead. The program and its tests are copied,
one line is changed, and the tests that are about it are run; a fault that none of them sees is
printed. ``make mutants`` prints which share was seen.
"""

import argparse
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from tools.faults import FAULTS, Fault

HOME = Path(__file__).resolve().parent.parent
COPIED = ("cloudrift", "tests", "tools", "bench", "docs")
LONGEST_S = 400


def is_seen(fault: Fault) -> tuple[bool, str]:
    """Put a fault into a copy and run its tests; say whether it was seen, and in which way."""
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder)
        for name in COPIED:
            shutil.copytree(HOME / name, copy / name, ignore=shutil.ignore_patterns("__pycache__"))
        shutil.copy(HOME / "pyproject.toml", copy)
        path = copy / "cloudrift" / fault.file
        text = path.read_text()
        if text.count(fault.right) != 1:
            return False, f"the right line is there {text.count(fault.right)} times"
        path.write_text(text.replace(fault.right, fault.wrong))
        tests = [f"tests/test_{name}.py" for name in fault.tests.split()]
        known = {"PYTHONPATH": folder, "PYTHONDONTWRITEBYTECODE": "1",
                 "QT_QPA_PLATFORM": "offscreen"}  # fmt: skip
        try:
            run = subprocess.run(
                [sys.executable, "-m", "pytest", "-x", "-q", "-p", "no:cacheprovider", *tests],
                cwd=copy, env=os.environ | known, capture_output=True, text=True, check=False,
                timeout=LONGEST_S,
            )  # fmt: skip
        except subprocess.TimeoutExpired:
            return True, "its tests did not end"
    failed = [line for line in run.stdout.splitlines() if line.startswith(("FAILED", "ERROR"))]
    # Ended by a signal: what nobody caught in a slot ends a test run at once.
    return run.returncode == 1 or run.returncode < 0, (failed or [""])[0].removeprefix(
        "FAILED "
    ).split(" - ")[0]


def main(arguments: Sequence[str] | None = None) -> int:
    """Try all faults, or those in files that are named; return 1 where one is not seen."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("only", nargs="?", default="", help="only faults in files of this name")
    only = parser.parse_args(arguments).only
    faults = [fault for fault in FAULTS if only in fault.file]
    began = time.monotonic()
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        found = list(pool.map(is_seen, faults))
    for fault, (seen, how) in zip(faults, found, strict=True):
        print(f"{'seen' if seen else 'UNSEEN':6}  {fault.file}: {fault.wrong!r}  {how}")
    count = sum(seen for seen, _ in found)
    print(f"{count} of {len(faults)} faults were seen ({count / len(faults):.0%}) in "
          f"{time.monotonic() - began:.0f} s")  # fmt: skip
    return 0 if count == len(faults) else 1


if __name__ == "__main__":
    sys.exit(main())
