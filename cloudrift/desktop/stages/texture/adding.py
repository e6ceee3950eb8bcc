"""Adding a treatment: by typing a part of what it does, or by family."""

from functools import partial

from PyQt6.QtCore import QStringListModel, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QCompleter, QLineEdit, QMenu, QPushButton, QWidget

from cloudrift.desktop.kit.flow import Flow
from cloudrift.texture import FAMILIES, KINDS


class AddBar(QWidget):
    """``chosen`` carries the kind."""

    chosen = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        row = Flow(self, spacing=6)
        self._by_text = {f"{k.label}: {k.about}": k.name for k in KINDS.values()}
        self.search = QLineEdit()
        self.search.setPlaceholderText("Add a treatment: type what it does")
        self.search.setAccessibleName("Add a treatment by typing")
        self.search.setClearButtonEnabled(True)
        self.search.setMinimumWidth(200)
        completer = QCompleter(self.search)
        completer.setModel(QStringListModel(sorted(self._by_text), completer))
        completer.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        completer.setFilterMode(Qt.MatchFlag.MatchContains)
        completer.setMaxVisibleItems(12)
        completer.activated.connect(self._take)
        self.search.setCompleter(completer)
        self.search.returnPressed.connect(self._take_first)
        row.addWidget(self.search)
        self.adders: dict[str, QAction] = {}
        for family in FAMILIES:
            made = QPushButton(family)
            menu = QMenu(made)
            for kind in KINDS.values():
                if kind.family == family:
                    action = menu.addAction(f"{kind.label}: {kind.about}")
                    assert action is not None
                    action.triggered.connect(partial(self._emit, kind.name))
                    self.adders[kind.name] = action
            made.setMenu(menu)
            made.setAccessibleName(f"Add a treatment: {family}")
            row.addWidget(made)

    def _emit(self, kind: str, _checked: bool = False) -> None:
        self.chosen.emit(kind)

    def _take(self, text: str) -> None:
        if text in self._by_text:
            # The completer writes the text when this returns.
            QTimer.singleShot(0, self.search.clear)
            self.chosen.emit(self._by_text[text])

    def _take_first(self) -> None:
        """Enter on typed words takes the first treatment that they fit, names before the rest."""
        completer = self.search.completer()
        popup = completer.popup() if completer else None
        if popup is not None and popup.isVisible() and popup.currentIndex().isValid():
            return  # that one is taken
        words = self.search.text().strip().lower()
        fits = [text for text in self._by_text if words and words in text.lower()]
        fits.sort(key=lambda text: not text.lower().startswith(words))
        if fits:
            self._take(fits[0])
