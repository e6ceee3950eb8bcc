"""The command finder: every command of the menus, found by typing what it does."""

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QAction, QKeyEvent
from PyQt6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QWidget

from cloudrift.desktop.kit.commands import keys_of, name_of
from cloudrift.desktop.kit.layouts import fill, vertical
from cloudrift.ground.search import Entry, Index, synonyms


class Finder(QDialog):
    """A line to type in over a list; Enter runs the first, Esc backs out."""

    def __init__(self, actions: list[QAction], parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Find a command")
        self.setFixedSize(460, 340)
        known = synonyms("cloudrift.desktop.frame")
        self._index = Index(
            Entry(of=action, names=(name,), does=known.get(name, {}).get("does", ()))
            for action in actions
            if action.isEnabled() and (name := name_of(action))
        )
        self.line = QLineEdit()
        self.line.setPlaceholderText("Type what you want to do")
        self.list = QListWidget()
        column = vertical(self)
        fill(column, self.line, self.list)
        self.line.textChanged.connect(self._filter)
        self.line.returnPressed.connect(self._run)
        self.list.itemActivated.connect(lambda _item: self._run())
        self.line.installEventFilter(self)
        self._filter("")

    def _filter(self, text: str) -> None:
        self.list.clear()
        for match in self._index.find(text):
            said = name_of(match.of) + f" ({match.words})" * bool(match.words)
            keys = keys_of(match.of)
            item = QListWidgetItem(f"{said}    {keys}" if keys else said)
            item.setData(Qt.ItemDataRole.UserRole, match.of)
            self.list.addItem(item)
        self.list.setCurrentRow(0)

    def _run(self) -> None:
        item = self.list.currentItem()
        if item is not None:
            action = item.data(Qt.ItemDataRole.UserRole)
            self.accept()
            action.trigger()

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            by = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(event.key()))
            if by is not None:
                row = min(max(self.list.currentRow() + by, 0), self.list.count() - 1)
                self.list.setCurrentRow(row)
                return True
        return super().eventFilter(watched, event)
