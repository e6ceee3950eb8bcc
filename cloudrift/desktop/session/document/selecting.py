"""What is selected, followed through what becomes of the loop."""

from dataclasses import replace

from PyQt6.QtCore import QObject, pyqtSignal

from cloudrift.desktop.session.document.document import OpenDocument
from cloudrift.desktop.session.document.selection import (
    Selection,
    first_selection,
    only_there,
    still_there,
)


class Selecting(QObject):
    """Holds the selection in the open document."""

    changed = pyqtSignal(object)  # Selection before

    def __init__(self, document: OpenDocument, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._document = document
        self.now: Selection = first_selection(document.loop)

    def select(self, **what: object) -> None:
        """Change the selection: ``chord_id``, ``voice``, ``layer_id``, ``line_of``, …

        Another chord in front, without ``more``, is selected alone. What the loop has not got is
        passed over.
        """
        what = only_there(what, self._document.loop)
        if what.get("chord_id", self.now.chord_id) != self.now.chord_id:
            what = {"more": (), "voice": -1, "through": False, **what}
        if what.get("layer_id", self.now.layer_id) != self.now.layer_id:
            what = {"notes": frozenset(), **what}
        selection = replace(self.now, **what)  # type: ignore[arg-type]
        if selection != self.now:
            before, self.now = self.now, selection
            self.changed.emit(before)

    def follow(self) -> None:
        """Drop what the loop has no more."""
        self.now = still_there(self.now, self._document.loop)

    def begin(self) -> None:
        """Select what is selected first in another document."""
        self.now = first_selection(self._document.loop)
