"""What is secondary, folded to one line that says the most important of it."""

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QPushButton, QWidget

from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.parts import Elided


class Fold(QWidget):
    """A heading that opens and closes what is under it; beside it is said what is in there."""

    opened = pyqtSignal(bool)

    def __init__(self, title: str, inside: QWidget, *, is_open: bool = False) -> None:
        super().__init__()
        self._title, self._inside = title, inside
        self.head = QPushButton()
        self.head.setObjectName("link")
        self.head.setCheckable(True)
        self.head.clicked.connect(lambda on: self.open(on=on))
        self.says = Elided(size=11.5, name="soft")
        line = horizontal(spacing=6)
        line.addWidget(self.head, 0, Qt.AlignmentFlag.AlignLeft)
        line.addWidget(self.says, 1)
        column = vertical(self, FLUSH, 4)
        fill(column, line, inside)
        self.open(on=is_open)

    @property
    def is_open(self) -> bool:
        """Whether what is in it is shown."""
        return self.head.isChecked()

    def open(self, *, on: bool) -> None:
        """Show what is in it, or fold it away."""
        self.head.setChecked(on)
        self.head.setText(f"{'▾' if on else '▸'} {self._title}")
        self.head.setAccessibleName(f"{self._title}, {'open' if on else 'folded'}")
        self._inside.setVisible(on)
        self.opened.emit(on)

    def say(self, words: str) -> None:
        """Say in a line what is in it."""
        self.says.setText(words)
