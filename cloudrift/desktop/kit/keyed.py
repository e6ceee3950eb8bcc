"""A picture that keys act in: it shows its focus, and keeps its keys from the window's commands."""

from PyQt6.QtCore import QEvent
from PyQt6.QtGui import QFocusEvent, QKeyEvent
from PyQt6.QtWidgets import QWidget


class Keyed(QWidget):
    """``owns`` says which keys are its own, whatever command they stand for elsewhere."""

    def owns(self, event: QKeyEvent) -> bool:
        """Whether a key acts here."""
        del event
        return False

    def event(self, event: QEvent | None) -> bool:
        """Keep what acts here from the window's commands."""
        override = event is not None and event.type() == QEvent.Type.ShortcutOverride
        if override and isinstance(event, QKeyEvent) and self.owns(event):
            event.accept()
            return True
        return super().event(event)

    def focusInEvent(self, _event: QFocusEvent | None) -> None:
        self.update()

    def focusOutEvent(self, _event: QFocusEvent | None) -> None:
        self.update()
