"""A note on a card: shown where there is one, written in the open card."""

from collections.abc import Callable

from PyQt6.QtCore import QSignalBlocker
from PyQt6.QtWidgets import QLineEdit, QWidget

from cloudrift.desktop.kit.layouts import FLUSH, fill, vertical
from cloudrift.desktop.kit.parts import label
from cloudrift.texture.treatment import MOST_NOTE


class NoteLine(QWidget):
    """The note's words; ``edited`` is called with them when they have changed."""

    def __init__(self, note: str, *, edited: Callable[[str], object], open_: bool) -> None:
        super().__init__()
        self._edited, self._open = edited, open_
        column = vertical(self, FLUSH)
        self.words = label("", size=11, wrap=True)
        self.line = QLineEdit()
        self.line.setMaxLength(MOST_NOTE)
        self.line.setPlaceholderText("A note on this treatment")
        self.line.setAccessibleName("Note on this treatment")
        self.line.editingFinished.connect(self._written)
        fill(column, self.words, self.line)
        self._note = note
        self.show_note(note)

    def show_note(self, note: str) -> None:
        """Show the note, or nothing where there is none."""
        self._note = note
        self.words.setText(f"note: {note}")
        self.words.setVisible(bool(note) and not self._open)
        self.line.setVisible(bool(note) and self._open)
        if not self.line.hasFocus():
            with QSignalBlocker(self.line):
                self.line.setText(note)
        self.setVisible(bool(note))

    def begin(self) -> None:
        """Let somebody write."""
        self.show()
        self.line.show()
        self.line.setFocus()

    def _written(self) -> None:
        text = self.line.text().strip()
        if text != self._note:
            self._edited(text)
        elif not text:
            self.hide()
