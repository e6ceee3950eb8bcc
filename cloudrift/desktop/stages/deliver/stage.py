"""The Deliver stage: files to write, checks before that, whose it all is."""

from PyQt6.QtCore import QEvent
from PyQt6.QtWidgets import QStackedWidget, QVBoxLayout, QWidget

from cloudrift.deliver.rights import rights_of
from cloudrift.desktop.kit.parts import ChoiceRow, WhileShown
from cloudrift.desktop.session.checking import Checking
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.tasks import Tasks
from cloudrift.desktop.stages.deliver.checks_page import ChecksPage
from cloudrift.desktop.stages.deliver.demo_page import DemoPage
from cloudrift.desktop.stages.deliver.files_page import FilesPage
from cloudrift.desktop.stages.deliver.kit_page import KitPage
from cloudrift.desktop.stages.deliver.rights_page import RightsPage

FILES, CHECKS, DEMO, RIGHTS, KIT = range(5)
PAGES = ((FILES, "Files"), (CHECKS, "Checks"), (DEMO, "Demo file"), (RIGHTS, "Rights"),
         (KIT, "Kit"))  # fmt: skip


class DeliverStage(QWidget):
    """Pages, one at a time; their buttons say what is open."""

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__()
        self._session = session
        self.checking = Checking(session, tasks)
        self.files = FilesPage(session, tasks)
        self.checks = ChecksPage(session, self.checking)
        self.demo = DemoPage(session, tasks)
        self.rights = RightsPage(session)
        self.kit = KitPage(session, tasks)
        self.page = ChoiceRow(PAGES, columns=len(PAGES), name="Deliver")
        self.page.setMaximumWidth(860)
        self.stack = QStackedWidget()
        for one in (self.files, self.checks, self.demo, self.rights, self.kit):
            self.stack.addWidget(one)
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 6, 8, 6)
        column.setSpacing(6)
        column.addWidget(self.page)
        column.addWidget(self.stack, 1)
        self.page.chosen.connect(self.show_page)
        self.checking.changed.connect(self._show_words)
        refresh = WhileShown(self, self._show_words)
        session.changed.connect(refresh)
        session.opened.connect(refresh)
        self.files.asked.connect(self._ask)
        self.demo.files_wanted.connect(self._write_demo)
        self.checks.rights_wanted.connect(lambda: self.show_page(RIGHTS))
        self.show_page(FILES)
        self._show_words()
        self._ask()

    def _write_demo(self) -> None:
        self.files.parts["demo"].setChecked(True)
        self.show_page(FILES)

    def show_page(self, page: int) -> None:
        """Show one of the pages."""
        self.stack.setCurrentIndex(page)
        self.page.show_choice(page)

    def _ask(self) -> None:
        """What is to be written has a loudness and perhaps a tail: the checks know of it."""
        order = self.files.order
        if order is not None:
            self.checking.ask(target_lufs=order.target_lufs,
                              with_tail=order.once or order.asks("pass", "long"))  # fmt: skip

    def _show_words(self) -> None:
        words = self.checking.words
        self.page.button(CHECKS).setText(f"Checks: {words}" if words else "Checks")
        count = len(rights_of(self._session.document.history.now).open)
        self.page.button(RIGHTS).setText(f"Rights: {count} open" if count else "Rights: complete")

    def showEvent(self, event: QEvent | None) -> None:
        self.checking.hurry(on=True)

    def hideEvent(self, event: QEvent | None) -> None:
        self.checking.hurry(on=False)

    def focus_first(self) -> None:
        """Put the keyboard where the work is."""
        self.files.write.setFocus()

    def show_place(self, share: float) -> None:
        """Nothing moves in this stage but the ribbon."""
