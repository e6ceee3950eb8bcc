"""Rows of several buttons beside each other, in little room."""

from collections.abc import Callable, Iterable

from PyQt6.QtWidgets import QPushButton, QWidget

from cloudrift.desktop.kit.layouts import FLUSH, horizontal
from cloudrift.desktop.kit.parts import button


def toggle(
    text: str,
    act: Callable[[bool], object],
    tip: str = "",
    *,
    fit: str = "narrow",
    spoken: str = "",
) -> QPushButton:
    """Return a button that stays down; ``spoken`` is what it is called where its text is short."""
    made = QPushButton(text)
    made.setCheckable(True)
    if fit == "narrow":
        made.setMinimumWidth(10)
    made.setProperty("fit", fit)
    made.setToolTip(tip)
    made.setAccessibleName(spoken or text)
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
