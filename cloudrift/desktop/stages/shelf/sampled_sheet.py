"""A sampled instrument: which of those in the file, its name, and where it is from."""

from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QDialog, QLineEdit, QListWidget, QWidget

from cloudrift.desktop.kit.layouts import fill, horizontal, vertical
from cloudrift.desktop.kit.parts import button, heading, label, search_field
from cloudrift.ground.words import NAME_TYPED, plural
from cloudrift.sound import CATALOGUE


class SampledSheet(QDialog):
    """Asks which instrument becomes a sound. ``chosen`` carries its number, name and licence."""

    chosen = pyqtSignal(int, str, str)

    def __init__(self, names: list[str], path: Path, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("A sampled instrument")
        self.setMinimumSize(440, 420 if len(names) > 1 else 200)
        self._typed = False
        self.list = QListWidget()
        self.list.setAccessibleName("Instruments in the file")
        self.list.addItems([name or f"number {i + 1}" for i, name in enumerate(names)])
        self.list.currentRowChanged.connect(self._pointed)
        self.list.itemActivated.connect(lambda _item: self._make())
        self.search = search_field("Search by name")
        self.search.textChanged.connect(self._narrow)
        self.name = QLineEdit()
        self.licence = QLineEdit()
        for line, words in ((self.name, "Name"), (self.licence, "Source and licence")):
            line.setMaxLength(NAME_TYPED)
            line.setAccessibleName(words)
        self.name.textEdited.connect(self._on_typed)
        self.licence.setPlaceholderText("e.g. own recording; CC0 by …")
        self.words = label("", size=11.5, name="signal", wrap=True)
        column = vertical(self, spacing=7)
        if len(names) > 1:
            fill(
                column,
                heading(f"{plural(len(names), 'instrument')} in {path.name}"),
                self.search,
                (self.list, 1),
            )
        else:
            column.addWidget(heading(f"The instrument in {path.name}"))
        fill(
            column,
            heading("Name"),
            self.name,
            heading("Source and licence: stored in the sound"),
            self.licence,
            self.words,
        )
        hands = horizontal()
        fill(hands, 1, button("Cancel", self.reject))
        self.make = button("Make the sound", self._make, name="strong")
        self.make.setDefault(True)
        hands.addWidget(self.make)
        column.addLayout(hands)
        self.list.setCurrentRow(0)

    def _on_typed(self, text: str) -> None:
        self._typed = bool(text.strip())

    def _pointed(self, row: int) -> None:
        if row >= 0 and not self._typed:
            item = self.list.item(row)
            assert item is not None
            self.name.setText(item.text()[:NAME_TYPED])

    def _narrow(self, text: str) -> None:
        rows = [item for i in range(self.list.count()) if (item := self.list.item(i)) is not None]
        wanted = text.lower().split()
        for item in rows:
            item.setHidden(not all(word in item.text().lower() for word in wanted))
        now = self.list.currentItem()
        first = next((item for item in rows if not item.isHidden()), None)
        if first is not None and (now is None or now.isHidden()):
            self.list.setCurrentItem(first)

    def _make(self) -> None:
        name, item = " ".join(self.name.text().split()), self.list.currentItem()
        if item is None or item.isHidden():
            self.words.setText("Select an instrument.")
        elif not name:
            self.words.setText("Give the sound a name.")
        elif name.lower() in CATALOGUE:
            self.words.setText(f"{name} is a house sound; give yours another name.")
        else:
            self.chosen.emit(self.list.currentRow(), name, self.licence.text().strip())
            self.accept()
