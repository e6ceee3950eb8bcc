"""The core and its tests run where Qt cannot be imported."""

import re
import subprocess
import sys
from pathlib import Path

HERE = Path(__file__).parent
QT = ("PyQt6", "qtbot", "cloudrift.desktop", "tests.hands", "(window", "(session", "test_desktop")
CODE = """
import importlib, sys
sys.modules["PyQt6"] = None  # as where it is not installed
import pytest
for name in sys.argv[2:]:
    importlib.import_module(f"tests.{name}")
sys.exit(pytest.main(["-p", "no:pytest-qt", "-p", "no:cacheprovider", sys.argv[1]]))
"""


def core_tests():
    """Every file of tests that has nothing to do with the window."""
    files = (path for path in sorted(HERE.glob("test_*.py")) if path != Path(__file__))
    return [path for path in files if not any(word in path.read_text() for word in QT)]


def tried(run, *imported):
    """Import some files of tests, and run one."""
    return subprocess.run(
        [sys.executable, "-c", CODE, str(HERE / run), *(path.stem for path in imported)],
        cwd=HERE.parent, capture_output=True, text=True, timeout=300, check=False,
    )  # fmt: skip


def test_every_core_test_is_imported_and_theory_is_run_without_qt():
    files = core_tests()
    assert len(files) >= 20
    done = tried("test_theory.py", *files)
    assert done.returncode == 0, done.stdout[-2000:] + done.stderr[-2000:]
    assert int(re.search(r"(\d+) passed", done.stdout)[1]) > 100


def test_qt_is_really_out_of_reach_there():
    done = tried("test_theory.py", HERE / "test_desktop.py")
    assert done.returncode != 0
    assert "PyQt6" in done.stderr
