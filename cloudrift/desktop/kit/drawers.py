"""What drawers have in common: a head, three columns, a table, and hearing in place."""

from collections.abc import Callable, Sequence

from PyQt6.QtCore import QObject
from PyQt6.QtWidgets import QHBoxLayout, QLayout, QTreeWidget, QVBoxLayout, QWidget

from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.parts import button, heading
from cloudrift.desktop.session.hearing.preview import Edit, Preview
from cloudrift.desktop.session.session import Session

GAP_PX = 4


def column(*parts: QWidget | QLayout, gap: int = GAP_PX) -> QVBoxLayout:
    """Return widgets and layouts under each other."""
    made = vertical(margins=FLUSH, spacing=gap)
    for one in parts:
        if isinstance(one, QWidget):
            made.addWidget(one)
        else:
            made.addLayout(one)
    return made


def head(title: str, close: Callable[[], object]) -> QHBoxLayout:
    """Return a drawer's title and what closes it."""
    row = horizontal()
    fill(row, (heading(title), 1), button("Close", close, tip="Close the drawer (Esc)"))
    return row


def beside(
    drawer: QWidget, left: QLayout, middle: QLayout, right: QLayout, widths: tuple[int, int]
) -> None:
    """Lay a drawer out in three columns; the outer ones are that many pixels wide."""
    line = horizontal(drawer, (12, 8, 12, 8), 12)
    for layout, width in ((left, widths[0]), (right, widths[1])):
        holder = QWidget()
        holder.setLayout(layout)
        holder.setFixedWidth(width)
        line.addWidget(holder)
    line.insertLayout(1, middle, 1)


def table(columns: Sequence[str], widths: Sequence[int], name: str) -> QTreeWidget:
    """Return a table without rows; ``name`` says what is in it."""
    made = QTreeWidget()
    made.setColumnCount(len(columns))
    made.setHeaderLabels(list(columns))
    made.setRootIsDecorated(False)
    made.setUniformRowHeights(True)
    made.setAccessibleName(name)
    for i, width in enumerate(widths):
        made.setColumnWidth(i, width)
    return made


class InPlace(Preview):
    """A preview that sets the loop going where it stands, and lets it stand again after."""

    def __init__(self, session: Session, view: QObject) -> None:
        super().__init__(session.hearing.previews, view)
        self._transport = session.transport
        self._started = False  # whether hearing it has set the loop going

    def hear(self, edit: Edit, words: str) -> None:
        """Let an edit be heard, from where the loop is."""
        self.put(edit, words)
        if not self._transport.player.playing:
            self._started = True
            self._transport.set_playing(True)

    def stop(self) -> None:
        """Hear the loop as it is again; it stands if it did."""
        self.end()
        if self._started:
            self._transport.set_playing(False)
        self._started = False

    def settle(self) -> None:
        """It becomes so: what plays goes on playing."""
        self.end()
        self._started = False
