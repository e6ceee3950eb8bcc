"""A check as a row: how serious, what was measured and where, and what would put it right."""

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QPushButton, QWidget

from cloudrift.deliver.checks import Checked, Severity
from cloudrift.desktop.kit.layouts import fill, horizontal, vertical
from cloudrift.desktop.kit.look import MEDIUM
from cloudrift.desktop.kit.parts import button, label, set_look
from cloudrift.desktop.kit.trying import Trying
from cloudrift.desktop.session.session import Session
from cloudrift.loop.model.loop import Loop

SIGNS: dict[Severity, tuple[str, str]] = {
    "must": ("must", "signal"),
    "should": ("should", "warn"),
    "fine": ("fine", "good"),
}
SIGN_PX, LABEL_PX, CHANGE_PX = 52, 142, 250


class CheckRow(QWidget):
    """What one check found. Rest on its change to hear it, press to make it.

    What is no edit of the loop is put right elsewhere: ``elsewhere`` goes there, ``there`` says so.
    """

    def __init__(
        self,
        found: Checked,
        session: Session,
        elsewhere: Callable[[], object] | None = None,
        there: str = "",
    ) -> None:
        super().__init__()
        self._session = session
        self.found = found
        self.sign = label("", size=12, weight=MEDIUM)
        self.sign.setFixedWidth(SIGN_PX)
        self.title = label("", size=13, weight=MEDIUM)
        self.title.setFixedWidth(LABEL_PX)
        self.measured = label("", size=12.5, wrap=True)
        self.asked = label("", size=11.5, name="soft", wrap=True)
        self.change = QPushButton()
        self.change.setMaximumWidth(CHANGE_PX)
        self.change.clicked.connect(self._make)
        Trying(self.change, session, self._edit, f"with {found.check.label.lower()} corrected")
        words = vertical(spacing=1)
        fill(words, self.measured, self.asked)
        line = horizontal(self, (2, 5, 2, 5), 8)
        top = Qt.AlignmentFlag.AlignTop
        line.addWidget(self.sign, 0, top)
        line.addWidget(self.title, 0, top)
        line.addLayout(words, 1)
        line.addWidget(self.change, 0, top)
        self.elsewhere = button(there, elsewhere or (lambda: None))
        line.addWidget(self.elsewhere, 0, top)
        self._goes = elsewhere is not None
        self.show_finding(found)

    def show_finding(self, found: Checked) -> None:
        """Show what was found now."""
        self.found = found
        check, finding = found.check, found.finding
        sign, look = SIGNS[found.severity]
        self.sign.setText(sign)
        set_look(self.sign, look)
        self.title.setText(check.label)
        where = f", {finding.where}" if finding.where else ""
        measured = finding.measured + where
        self.measured.setText(measured[:1].upper() + measured[1:])
        self.asked.setText(f"Wanted: {check.about}")
        change = finding.change
        self.elsewhere.setVisible(self._goes and change is None and found.severity != "fine")
        self.change.setVisible(change is not None)
        if change is not None:
            text = change.words[:1].upper() + change.words[1:]
            room = CHANGE_PX - 24
            cut = self.change.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, room)
            self.change.setText(cut.replace("&", "&&"))
            self.change.setToolTip(f"{text}. Rest to hear it, click to apply it")
            self.change.setAccessibleName(f"{check.label}: {text}")
        self.setAccessibleName(f"{check.label}, {sign}: {measured}")

    def _edit(self, loop: Loop) -> Loop:
        change = self.found.finding.change
        return loop if change is None else change.edit(loop)

    def _make(self) -> None:
        change = self.found.finding.change
        if change is not None:
            self._session.apply(f"{self.found.check.label.lower()}: {change.words}", change.edit)
