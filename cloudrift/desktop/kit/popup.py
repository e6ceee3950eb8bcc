"""A small window under what was pressed."""

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QWidget

from cloudrift.desktop.kit.layouts import vertical


class Popup(QFrame):
    """A small editor under a tile; Esc and a press elsewhere close it."""

    def __init__(self, owner: QWidget, width: int) -> None:
        super().__init__(owner.window(), Qt.WindowType.Popup)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setObjectName("panel")
        self.setFixedWidth(width)
        self.body = vertical(self, (12, 10, 12, 12), 7)
        self._owner = owner
        self.first: QWidget | None = None

    def open(self) -> None:
        """Show it below its owner, with the keyboard on what comes first."""
        self.move(self._owner.mapToGlobal(self._owner.rect().bottomLeft()))
        self.show()
        self.fit()
        if self.first is not None:
            self.first.setFocus()

    def fit(self) -> None:
        """Be as high as what is inside."""
        layout = self.layout()
        if layout is not None and layout.hasHeightForWidth():  # lines of text that wrap
            layout.activate()
            self.setFixedHeight(layout.totalHeightForWidth(self.width()))
        else:
            self.adjustSize()
