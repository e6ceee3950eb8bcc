"""Timers that wait once."""

from collections.abc import Callable

from PyQt6.QtCore import QObject, QTimer, pyqtBoundSignal


def single_shot(owner: QObject, act: Callable[[], object] | pyqtBoundSignal, ms: int = 0) -> QTimer:
    """Return a timer that does something once, ``ms`` after it was started last; it debounces."""
    made = QTimer(owner)
    made.setSingleShot(True)
    made.setInterval(ms)
    made.timeout.connect(act)
    return made
