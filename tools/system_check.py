"""See whether Qt finds the system libraries it needs; install them as root, or say how."""

import os
import shutil
import subprocess
import sys
from pathlib import Path

import PyQt6

PLUGINS = ("libqoffscreen.so", "libqxcb.so")


def missing() -> list[str]:
    """Return the libraries that Qt's window plugins ask for and the system does not have."""
    folder = Path(PyQt6.__file__).parent / "Qt6" / "plugins" / "platforms"
    found: set[str] = set()
    for plugin in PLUGINS:
        out = subprocess.run(["ldd", folder / plugin], capture_output=True, text=True, check=False)
        found |= {line.split()[0] for line in out.stdout.splitlines() if "not found" in line}
    return sorted(found)


def main(packages: list[str]) -> int:
    """Say nothing when all is there."""
    if not missing():
        return 0
    line = ["apt-get", "install", "-y", "--no-install-recommends", *packages]
    if os.geteuid() == 0 and shutil.which("apt-get"):
        quiet = {
            "stdout": subprocess.DEVNULL,
            "env": {**os.environ, "DEBIAN_FRONTEND": "noninteractive"},
        }
        subprocess.run(["apt-get", "update", "-qq"], check=False, **quiet)
        subprocess.run(line, check=False, **quiet)
    if left := missing():
        print(f"cloudrift: Qt needs {', '.join(left)}; install with: sudo {' '.join(line)}")
        return 2
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
