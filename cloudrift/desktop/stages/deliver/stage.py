"""The Deliver stage: files to write, checks before that, a demo file, whose it all is, a kit."""

from functools import cached_property
from typing import TypeVar

from PyQt6.QtCore import QEvent, pyqtSignal
from PyQt6.QtWidgets import QWidget

from cloudrift.deliver.rights import rights_of
from cloudrift.desktop.kit.commands import Command
from cloudrift.desktop.kit.layouts import FLUSH, fill, vertical
from cloudrift.desktop.kit.parts import ChoiceRow, Pages, WhileShown
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.checking import Checking
from cloudrift.desktop.session.work.tasks import Tasks
from cloudrift.desktop.stages.deliver.checks_page import ChecksPage
from cloudrift.desktop.stages.deliver.demo_page import DemoPage
from cloudrift.desktop.stages.deliver.files_page import FilesPage
from cloudrift.desktop.stages.deliver.kit_page import KitPage
from cloudrift.desktop.stages.deliver.rights_page import RightsPage

FILES, CHECKS, DEMO, RIGHTS, KIT = range(5)
PAGES = (
    (FILES, "Files"),
    (CHECKS, "Checks"),
    (DEMO, "Demo file"),
    (RIGHTS, "Rights"),
    (KIT, "Kit"),
)
NAMES = ("files", "checks", "demo", "rights", "kit")


_Page = TypeVar("_Page", FilesPage, ChecksPage, DemoPage, RightsPage, KitPage)


class DeliverStage(QWidget):
    """Pages, one at a time, each put up when it is first wanted; their buttons say what is open.

    ``open_wanted`` carries a loop file of a kit that is to be opened.
    """

    open_wanted = pyqtSignal(object)  # Path

    def __init__(self, session: Session, tasks: Tasks, checking: Checking) -> None:
        super().__init__()
        self._session, self._tasks = session, tasks
        self.checking = checking
        self.page = ChoiceRow(PAGES, columns=len(PAGES), name="Deliver")
        self.stack, self.inspector = Pages(len(PAGES)), Pages(len(PAGES))
        column = vertical(self, FLUSH, 6)
        fill(column, self.page, (self.stack, 1))
        self.page.chosen.connect(self.show_page)
        self.page.show_choice(FILES)
        self.checking.changed.connect(self._show_words)
        WhileShown(self, self._show_words, session.changed, session.opened)

    # --- pages --------------------------------------------------------------------------------

    @cached_property
    def files(self) -> FilesPage:
        """What is written, and how."""
        made = FilesPage(self._session, self._tasks)
        made.asked.connect(self._ask)
        return self._put(FILES, made)

    @cached_property
    def checks(self) -> ChecksPage:
        """What is to fix."""
        made = ChecksPage(self._session, self.checking)
        made.rights_wanted.connect(lambda: self.show_page(RIGHTS))
        return self._put(CHECKS, made)

    @cached_property
    def demo(self) -> DemoPage:
        """The demo file."""
        made = DemoPage(self._session, self._tasks)
        made.files_wanted.connect(self._write_demo)
        return self._put(DEMO, made)

    @cached_property
    def rights(self) -> RightsPage:
        """Who made it, and what went in."""
        return self._put(RIGHTS, RightsPage(self._session))

    @cached_property
    def kit(self) -> KitPage:
        """A folder of loops."""
        made = KitPage(self._session, self._tasks)
        made.open_wanted.connect(self.open_wanted)
        return self._put(KIT, made)

    def _put(self, at: int, page: _Page) -> _Page:
        self.inspector.put(at, page.inspector)
        return self.stack.put(at, page)

    def show_page(self, page: int) -> None:
        """Show one of the pages, and what stands beside it."""
        getattr(self, NAMES[page])
        self.stack.setCurrentIndex(page)
        self.inspector.setCurrentIndex(page)
        self.page.show_choice(page)

    def _write(self) -> None:
        self.show_page(FILES)
        self.files.write.click()

    def _write_demo(self) -> None:
        self.files.parts["demo"].setChecked(True)
        self.show_page(FILES)

    def _ask(self) -> None:
        """What is to be written has a loudness and perhaps a tail: the checks know of it."""
        order = self.files.order
        if order is not None:
            self.checking.ask(
                target_lufs=order.target_lufs, with_tail=order.once or order.asks("pass", "long")
            )

    def _show_words(self) -> None:
        words = self.checking.words
        self.page.button(CHECKS).setText(f"Checks: {words}" if words else "Checks")
        count = len(rights_of(self._session.document.history.now).open)
        self.page.button(RIGHTS).setText(f"Rights: {count} open" if count else "Rights: complete")

    # --- being seen ---------------------------------------------------------------------------

    def showEvent(self, event: QEvent | None) -> None:
        self.show_page(self.stack.currentIndex())
        self._show_words()
        self.checking.hurry(on=True)

    def hideEvent(self, event: QEvent | None) -> None:
        self.checking.hurry(on=False)
        if "files" in self.__dict__:
            self.files.list.leave()

    @staticmethod
    def commands() -> tuple[Command, ...]:
        """What the menu offers."""
        here = DeliverStage
        return (
            Command("&Export the files", here._write, goes=True),
            Command("&Choose what to export", lambda it: it.show_page(FILES), goes=True),
            Command("Problems to &fix", lambda it: it.show_page(CHECKS), goes=True),
            Command("The &demo file", lambda it: it.show_page(DEMO), goes=True),
            Command("&Rights sheet", lambda it: it.show_page(RIGHTS), goes=True),
            Command("&Kit of loops", lambda it: it.show_page(KIT), goes=True),
        )

    def focus_first(self) -> None:
        """Put the keyboard where the work is."""
        self.files.write.setFocus()

    def show_place(self, share: float) -> None:
        """Nothing moves in this stage but the ribbon."""
