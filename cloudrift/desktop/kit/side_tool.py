"""What is opened in the inspector's place: a head, a column, and hearing in place."""

from PyQt6.QtCore import QObject, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QFrame

from cloudrift.desktop.kit.layouts import fill, horizontal, vertical
from cloudrift.desktop.kit.look import SEMI
from cloudrift.desktop.kit.parts import Elided, button, label
from cloudrift.desktop.session.hearing.preview import Edit, Preview
from cloudrift.desktop.session.session import Session


class SideTool(QFrame):
    """One column over the full height, its title on top. ``closed``: the inspector is wanted."""

    closed = pyqtSignal()

    def __init__(self, title: str, tip: str) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.whom = Elided(size=11.5, name="soft")  # what it is for
        self.column = vertical(self, (12, 8, 12, 10), 6)
        head = horizontal(spacing=6)
        close = button("Close", self.leave, tip=f"Back to the inspector (Esc, {tip})")
        fill(head, label(title, size=15, weight=SEMI), (self.whom, 1), close)
        self.column.addLayout(head)

    def leave(self) -> None:
        """Give the inspector its place back."""
        self.closed.emit()

    def stop(self) -> bool:
        """Stop what is under way here; return whether something was."""
        return False

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if event.key() != Qt.Key.Key_Escape:
            super().keyPressEvent(event)
        elif not self.stop():
            self.leave()


class InPlace(Preview):
    """A preview that sets the loop going where it stands, and lets it stand again after."""

    def __init__(self, session: Session, view: QObject) -> None:
        super().__init__(session.hearing.previews, view)
        self._transport = session.transport
        self._started = False  # whether hearing it has set the loop going

    def hear(self, edit: Edit, words: str, *, alone: frozenset[str] | None = None) -> None:
        """Let an edit be heard, from where the loop is."""
        self.put(edit, words, alone=alone)
        if not self._transport.player.playing:
            self._started = True
            self._transport.set_playing(True)

    def stop(self) -> None:
        """Hear the loop as it is again; it stands if it did."""
        self.end()
        if self._started:
            self._transport.set_playing(False)
        self._started = False

    def settle(self) -> None:
        """It becomes so: what plays goes on playing."""
        self.end()
        self._started = False
