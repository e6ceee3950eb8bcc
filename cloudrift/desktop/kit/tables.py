"""Tables and lists of what is found."""

from collections.abc import Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QTreeWidget


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


def listing(name: str) -> QTreeWidget:
    """Return a list of one column, whose rows may have several lines."""
    made = table([""], [], name)
    made.setHeaderHidden(True)
    made.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    made.setMinimumHeight(96)
    return made
