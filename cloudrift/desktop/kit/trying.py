"""Hearing before doing: a button that lets its edit be heard while the pointer or focus rests."""

import contextlib
from collections.abc import Callable

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QFocusEvent
from PyQt6.QtWidgets import QAbstractButton

from cloudrift.desktop.kit.rest import Rest
from cloudrift.desktop.session.hearing.preview import Preview
from cloudrift.desktop.session.session import Session
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.model.loop import Loop

TABBED = (Qt.FocusReason.TabFocusReason, Qt.FocusReason.BacktabFocusReason)


class Trying(QObject):
    """Previews what a button would do while somebody rests on it; nothing is changed by that.

    Resting is a pointer that has moved there, or a keyboard that was tabbed there: a button that
    comes up under a pointer, or is given the keyboard, is not heard by that.
    """

    def __init__(
        self, widget: QAbstractButton, session: Session, edit: Callable[[Loop], Loop], words: str
    ) -> None:
        super().__init__(widget)
        self._edit, self._words = edit, words
        self._widget = widget
        self._preview = Preview(session.hearing.previews, widget)
        self._rest = Rest(self)
        self._rest.rested.connect(self.begin)
        widget.setMouseTracking(True)
        widget.installEventFilter(self)
        widget.clicked.connect(self.end)

    def begin(self) -> None:
        """Let the edit be heard and seen."""
        with contextlib.suppress(CloudriftError):  # said when the button is pressed
            self._preview.put(self._edit, self._words)

    def end(self) -> None:
        """Go back to the loop as it is."""
        self._rest.stop()
        self._preview.end()

    def eventFilter(self, _watched: QObject | None, event: QEvent | None) -> bool:
        if event is not None and self._widget.isEnabled():
            tabbed = isinstance(event, QFocusEvent) and event.reason() in TABBED
            if event.type() == QEvent.Type.FocusIn and tabbed:
                self._rest.come()
            elif event.type() == QEvent.Type.MouseMove:
                if not (self._rest.waiting or self._preview.on):
                    self._rest.come()
            elif event.type() in (QEvent.Type.Leave, QEvent.Type.FocusOut, QEvent.Type.Hide):
                self.end()
        return False
