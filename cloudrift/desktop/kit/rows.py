"""Rows of several buttons beside each other, in little room."""

from collections.abc import Callable, Iterable

from PyQt6.QtWidgets import QPushButton, QWidget

from cloudrift.desktop.kit.layouts import FLUSH, horizontal
from cloudrift.desktop.kit.parts import button


def toggle(text: str, act: Callable[[bool], object], tip: str = "") -> QPushButton:
    """Return a button that stays down."""
    made = QPushButton(text)
    made.setCheckable(True)
    made.setMinimumWidth(10)
    made.setProperty("fit", "narrow")
    made.setToolTip(tip)
    made.setAccessibleName(text)
    made.clicked.connect(act)
    return made


def small(text: str, act: Callable[[], object], tip: str = "") -> QPushButton:
    """Return a button for a row of several."""
    made = button(text, act, tip=tip)
    made.setMinimumWidth(10)
    made.setProperty("fit", "narrow")
    return made


def row(widgets: Iterable[QWidget]) -> QWidget:
    """Return widgets beside each other."""
    holder = QWidget()
    line = horizontal(holder, FLUSH, 4)
    for widget in widgets:
        line.addWidget(widget, 1)
    return holder
