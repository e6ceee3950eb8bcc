"""What the inspector's pages share."""

from collections.abc import Callable, Iterable

from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from cloudrift.desktop.chords.moves import Moves
from cloudrift.desktop.parts import button
from cloudrift.loop.model import Chord

NARROW = "QPushButton { padding: 3px 2px; }"


class Page(QWidget):
    """A page about the chord in front. Its changes are for all selected chords."""

    def __init__(self, moves: Moves) -> None:
        super().__init__()
        self.moves = moves
        self.session = moves.session
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(5)

    def show_chord(self, chord: Chord) -> None:
        """Show a chord."""
        raise NotImplementedError

    def refresh(self) -> None:
        """Show the chord in front again, also where an edit was refused."""
        chord_id = self.session.selection.chord_id
        if chord_id:
            self.show_chord(self.session.loop.chord(chord_id))

    def put(self, *widgets: QWidget) -> None:
        """Put widgets one under another."""
        for widget in widgets:
            self.column.addWidget(widget)

    def finish(self) -> None:
        """Leave what room there is at the foot of the page."""
        self.column.addStretch(1)


def toggle(text: str, act: Callable[[bool], object], tip: str = "") -> QPushButton:
    """Return a button that stays down."""
    made = QPushButton(text)
    made.setCheckable(True)
    made.setMinimumWidth(10)
    made.setStyleSheet(NARROW)
    made.setToolTip(tip)
    made.setAccessibleName(text)
    made.clicked.connect(act)
    return made


def small(text: str, act: Callable[[], object], tip: str = "") -> QPushButton:
    """Return a button for a row of several."""
    made = button(text, act, tip=tip)
    made.setMinimumWidth(10)
    made.setStyleSheet(NARROW)
    return made


def row(widgets: Iterable[QWidget]) -> QWidget:
    """Return widgets beside each other."""
    holder = QWidget()
    line = QHBoxLayout(holder)
    line.setContentsMargins(0, 0, 0, 0)
    line.setSpacing(4)
    for widget in widgets:
        line.addWidget(widget, 1)
    return holder
