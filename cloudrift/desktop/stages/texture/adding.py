"""Adding a treatment: by typing a part of what it does, or by family."""

from functools import partial

from PyQt6.QtCore import QStringListModel, QTimer, pyqtSignal
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QCompleter, QMenu, QPushButton, QWidget

from cloudrift.desktop.kit.flow import Flow
from cloudrift.desktop.kit.parts import search_field
from cloudrift.texture import FAMILIES, KINDS
from cloudrift.texture.searching import find_treatments

FOUND_PX = 440  # the list under the search: a treatment, what found it, what it does


class AddBar(QWidget):
    """``chosen`` carries the kind."""

    chosen = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        row = Flow(self, spacing=6)
        self._by_text: dict[str, str] = {}  # what the list under the search says, and the kind
        self.search = search_field("Add a treatment: type what it does")
        self.search.setAccessibleName("Add a treatment by typing")
        self.search.setMinimumWidth(200)
        self._found = QStringListModel(self.search)
        completer = QCompleter(self._found, self.search)
        # Which fit is decided here; the completer shows them all.
        completer.setCompletionMode(QCompleter.CompletionMode.UnfilteredPopupCompletion)
        completer.setMaxVisibleItems(12)
        popup = completer.popup()
        assert popup is not None
        popup.setMinimumWidth(FOUND_PX)
        completer.activated.connect(self._take)
        self.search.setCompleter(completer)
        self.search.textEdited.connect(self._find)
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

    def _find(self, typed: str) -> None:
        """List what the words find, best first, each with the words that found it."""
        found = find_treatments(typed) if typed.strip() else []
        self._by_text = {
            f"{match.of.label}{f' ({match.words})' * bool(match.words)}: {match.of.about}":
            match.of.name for match in found
        }  # fmt: skip
        self._found.setStringList(list(self._by_text))

    def _take(self, text: str) -> None:
        if text in self._by_text:
            # The completer writes the text when this returns.
            QTimer.singleShot(0, self.search.clear)
            self.chosen.emit(self._by_text[text])

    def _take_first(self) -> None:
        """Enter on typed words takes the best of what they find."""
        completer = self.search.completer()
        popup = completer.popup() if completer else None
        if popup is not None and popup.isVisible() and popup.currentIndex().isValid():
            return  # that one is taken
        self._find(self.search.text())
        if self._by_text:
            self._take(next(iter(self._by_text)))
