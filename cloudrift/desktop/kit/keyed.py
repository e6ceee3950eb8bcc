"""A picture that keys act in: it shows its focus, and keeps its keys from the window's commands."""

from collections.abc import Callable

from PyQt6.QtCore import QEvent
from PyQt6.QtGui import QFocusEvent, QKeyEvent
from PyQt6.QtWidgets import QWidget


class Keyed(QWidget):
    """``owns`` says which keys are its own, whatever command they stand for elsewhere: those that
    do something here (``act_of``), unless it says more.
    """

    def act_of(self, event: QKeyEvent) -> Callable[[], object] | None:
        """What a key does here, or None."""
        del event
        return None

    def owns(self, event: QKeyEvent) -> bool:
        """Whether a key acts here."""
        return self.act_of(event) is not None

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        act = self.act_of(event) if event is not None else None
        if act is None:
            super().keyPressEvent(event)
        else:
            act()

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
