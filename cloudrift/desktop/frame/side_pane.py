"""The side pane at the right: the inspector of the stage, or what has been opened in its place."""

from PyQt6.QtCore import QSize, pyqtSignal
from PyQt6.QtWidgets import QWidget

from cloudrift.desktop.frame.rail import INSPECTOR
from cloudrift.desktop.kit.layouts import FLUSH, fill, vertical
from cloudrift.desktop.kit.parts import Pages, ScrollingPage, put_away

LEAST_PX, USUAL_PX, MOST_PX = 260, 290, 420


class SidePane(QWidget):
    """One thing at a time over its full height; under an inspector there may be a line more.

    ``changed`` carries the name of what is shown.
    """

    changed = pyqtSignal(str)

    def __init__(self, foot: QWidget) -> None:
        super().__init__()
        self.setMaximumWidth(MOST_PX)
        self._pages = Pages()
        self._nothing = QWidget()
        self._pages.addWidget(self._nothing)
        self._inspectors: dict[object, QWidget] = {}
        self._stage: object = None
        self._foot = foot
        self.tools: dict[str, QWidget] = {}
        self.shows = INSPECTOR
        self.wanted_px = USUAL_PX  # how wide it is at first
        column = vertical(self, FLUSH, 4)
        fill(column, (self._pages, 1), foot)

    def sizeHint(self) -> QSize:
        return QSize(self.wanted_px, 600)

    def minimumSizeHint(self) -> QSize:
        return QSize(LEAST_PX, 80)

    def put_inspector(self, stage: object, inspector: QWidget) -> None:
        """Have a stage's inspector at hand."""
        self._inspectors[stage] = page = ScrollingPage(inspector)
        self._pages.addWidget(page)
        if stage == self._stage:
            self._turn()

    def put_tool(self, name: str, tool: QWidget) -> None:
        """Have at hand what can be opened in the inspector's place."""
        self.tools[name] = page = ScrollingPage(tool)
        self._pages.addWidget(page)

    def show_stage(self, stage: object) -> None:
        """Show the inspector of another stage, unless a tool stands in its place."""
        self._stage = stage
        self._turn()

    def open(self, name: str) -> None:
        """Show a tool, or the inspector again."""
        if name != self.shows:
            before = self._pages.currentWidget()
            if before is not None:
                put_away(before)  # its keyboard goes to nobody by itself
            self.shows = name
        self._turn()
        self.changed.emit(name)

    def _turn(self) -> None:
        inspector = self._inspectors.get(self._stage, self._nothing)
        shown = self.tools.get(self.shows, inspector)
        self._pages.setCurrentWidget(shown)
        self._foot.setVisible(self.shows == INSPECTOR and bool(self._foot.property("said")))
        self.updateGeometry()

    def show_foot(self, *, on: bool) -> None:
        """Show the line under the inspector, or not."""
        self._foot.setProperty("said", on)
        self._foot.setVisible(on and self.shows == INSPECTOR)
