"""The history: every moment of the loop, gone back to, or held against another by ear."""

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QCloseEvent
from PyQt6.QtWidgets import QDialog, QListWidget, QListWidgetItem, QWidget

from cloudrift.desktop.kit.layouts import fill, horizontal, vertical
from cloudrift.desktop.kit.parts import button, label
from cloudrift.desktop.session.hearing.preview import Preview
from cloudrift.desktop.session.session import Session

HINT = (
    "Select a step, then go there; or play it as “then” against the loop as it is (B switches, "
    "loudness matched); or play it as “now”, to compare any two."
)


class HistorySheet(QDialog):
    """Stands beside the window; the loop goes on."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self._session = session
        self._preview = Preview(session.hearing.previews, self)
        self.setWindowTitle("History")
        self.resize(400, 480)
        self.list = QListWidget()
        self.list.setAccessibleName("Steps, newest first")
        self.list.itemActivated.connect(lambda _item: self.go())
        self.says = label("", size=11.5, wrap=True)
        hint = label(HINT, size=11.5, name="soft", wrap=True)
        column = vertical(self)
        fill(column, hint, (self.list, 1), self.says)
        row = horizontal()
        for text, act, tip in (
            ("Go there", self.go, "Enter; later steps stay in the history"),
            ("Play as then", self.as_then, "One side of the compare switch"),
            ("Play as now", self.as_now, "The other side, without changing the loop"),
            ("Stop comparing", self.detach, "Back to bare and treated"),
        ):
            made = button(text, act, tip=tip)
            made.setAutoDefault(False)
            row.addWidget(made)
        column.addLayout(row)
        session.changed.connect(self._fill)
        session.opened.connect(self.close)
        self._fill()

    def _fill(self, *_: object) -> None:
        history, at = self._session.document.history, self.chosen
        self.list.clear()
        for number, moment in reversed(list(enumerate(history.moments))):
            mark = " · now" if number == history.at else ""
            item = QListWidgetItem(f"{number}  {moment.label}{mark}")
            item.setData(Qt.ItemDataRole.UserRole, number)
            self.list.addItem(item)
        rows = self.list.count()
        shown = history.at if at is None else min(at, rows - 1)
        self.list.setCurrentRow(rows - 1 - shown)
        self._tell()

    @property
    def chosen(self) -> int | None:
        """Which moment is chosen, counted from the first."""
        item = self.list.currentItem()
        return None if item is None else int(item.data(Qt.ItemDataRole.UserRole))

    def go(self) -> None:
        """Go to the chosen moment."""
        if self.chosen is not None:
            self._preview.end()
            self._session.document.go_to(self.chosen)

    def as_then(self) -> None:
        """Hear the chosen moment on the one side."""
        if self.chosen is not None:
            self._session.hearing.compare_with(self._session.document.history.moments[self.chosen])
            self._tell()

    def as_now(self) -> None:
        """Hear the chosen moment on the other side."""
        if self.chosen is not None:
            moment = self._session.document.history.moments[self.chosen]
            self._preview.put(moment.loop, f"heard: {moment.label}")
            self._tell()

    def detach(self) -> None:
        """Hear the loop as it is, bare against treated."""
        self._preview.end()
        self._session.hearing.compare_with(None)
        self._tell()

    def _tell(self) -> None:
        session = self._session
        parts = []
        if session.hearing.then is not None:
            parts.append(f"then: {session.hearing.then.label}")
        if session.hearing.previewing:
            parts.append(f"now: {session.hearing.preview_words.removeprefix('heard: ')}")
        self.says.setText(" · ".join(parts) or "comparing bare and treated")

    def closeEvent(self, event: QCloseEvent | None) -> None:
        self.detach()
        self._session.changed.disconnect(self._fill)
        self._session.opened.disconnect(self.close)
        super().closeEvent(event)
