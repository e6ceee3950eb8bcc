"""A page that stands over the line for a while; Esc goes back to it."""

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QWidget

from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.parts import button, heading


class BackPage(QWidget):
    """A heading with a way back; ``left`` is emitted when the line is to be seen again."""

    left = pyqtSignal()

    def __init__(self, words: str) -> None:
        super().__init__()
        self.heading = heading(words)
        self.column = vertical(self, FLUSH, 6)
        self.back = button("‹ back to the line", self.left.emit, name="link", tip="Esc")
        row = horizontal()
        fill(row, (self.heading, 1), self.back)
        self.column.addLayout(row)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if event.key() == Qt.Key.Key_Escape:
            self.left.emit()
        else:
            super().keyPressEvent(event)
