"""Enter presses the button in focus: Space is taken, it plays and stops everywhere."""

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QAbstractButton, QApplication, QWidget


class EnterPresses(QObject):
    """Follows the focus and listens to the keys of the button that has it.

    To listen to all that happens would cost too much.
    """

    def __init__(self, app: QApplication, parent: QObject) -> None:
        super().__init__(parent)
        app.focusChanged.connect(self._follow)

    def _follow(self, before: QWidget | None, now: QWidget | None) -> None:
        if isinstance(before, QAbstractButton):
            before.removeEventFilter(self)
        if isinstance(now, QAbstractButton):
            now.installEventFilter(self)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if (
            isinstance(watched, QAbstractButton)
            and isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.KeyPress
            and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
            # One of several that is chosen already has no press left: its page takes the key.
            and not (watched.autoExclusive() and watched.isChecked())
        ):
            watched.click()
            return True
        return False
