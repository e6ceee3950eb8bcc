"""The page of checks: what must and should be fixed first, what is fine below."""

from PyQt6.QtCore import QEvent, pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QWidget

from cloudrift.deliver.checks import SEVERITIES, Checked
from cloudrift.desktop.kit.layouts import FLUSH, fill, vertical
from cloudrift.desktop.kit.look import SEMI
from cloudrift.desktop.kit.parts import Inspector, clear, label, panel, scrolling
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.checking import Checking
from cloudrift.desktop.stages.deliver.check_row import CheckRow
from cloudrift.ground.words import plural


class ChecksPage(QWidget):
    """Rows of checks, kept as they are while what they found changes.

    ``rights_wanted`` when what is open is on the rights sheet.
    """

    rights_wanted = pyqtSignal()

    def __init__(self, session: Session, checking: Checking) -> None:
        super().__init__()
        self._session, self._checking = session, checking
        self.rows: dict[str, CheckRow] = {}
        self.title = label("Checks", size=14, weight=SEMI)
        self.says = label("", size=12, name="soft", wrap=True)
        self.all = QCheckBox("Show passed checks")
        self.all.toggled.connect(lambda _on: self._show())
        self.inspector = Inspector()
        self.inspector.title.setText("Checks")
        self.inspector.under.setText(
            "Each check measures the files as they would be exported, again after every edit."
        )
        self.counts = label("", size=12.5, wrap=True)
        fill(self.inspector.body, self.counts, self.all, 1)
        middle = panel()
        column = vertical(middle, (14, 12, 6, 10))
        fill(column, self.title, self.says)
        holder = QWidget()
        self._list = vertical(holder, (0, 6, 8, 0), 0)
        column.addWidget(scrolling(holder), 1)
        outer = vertical(self, FLUSH)
        outer.addWidget(middle)
        checking.changed.connect(self._show)
        self._show()

    def _show(self) -> None:
        checking = self._checking
        found = sorted(checking.found, key=lambda one: SEVERITIES.index(one.severity))
        shown = [one for one in found if self.all.isChecked() or one.severity != "fine"]
        fine = len(found) - sum(one.severity != "fine" for one in found)
        self.title.setText("Checks" if not found else checking.words.capitalize())
        state = "looking…" if checking.busy or not found else ""
        self.says.setText(
            checking.problem
            or state
            or f"{plural(fine, 'check')} passed; measured on the files as they would be exported"
        )
        counts = [(level, sum(one.severity == level for one in found)) for level in SEVERITIES]
        self.counts.setText("\n".join(f"{count} {level}" for level, count in counts if count))
        names = [one.check.name for one in shown]
        if names != list(self.rows):
            clear(self._list)
            self.rows = {one.check.name: self._row(one) for one in shown}
            for row in self.rows.values():
                self._list.addWidget(row)
            if found and not shown:
                self._list.addWidget(label("Ready to deliver.", size=13, name="good"))
            self._list.addStretch(1)
            return
        for one in shown:
            self.rows[one.check.name].show_finding(one)

    def _row(self, found: Checked) -> CheckRow:
        if found.check.name == "rights":
            return CheckRow(found, self._session, self.rights_wanted.emit, "Open the rights sheet")
        return CheckRow(found, self._session)

    def showEvent(self, event: QEvent | None) -> None:
        self._checking.watch(on=True)

    def hideEvent(self, event: QEvent | None) -> None:
        self._checking.watch(on=False)
