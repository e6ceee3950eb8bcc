"""Rows of several buttons beside each other, in little room."""

from collections.abc import Callable, Iterable

from PyQt6.QtWidgets import QPushButton, QWidget

from cloudrift.desktop.kit.flow import flow
from cloudrift.desktop.kit.parts import button


def toggle(
    text: str, act: Callable[[bool], object], tip: str = "", *, spoken: str = ""
) -> QPushButton:
    """Return a button that stays down; ``spoken`` is what it is called where its text is short."""
    made = QPushButton(text)
    made.setCheckable(True)
    made.setProperty("fit", "narrow")
    made.setToolTip(tip)
    made.setAccessibleName(spoken or text)
    made.clicked.connect(act)
    return made


def small(text: str, act: Callable[[], object], tip: str = "") -> QPushButton:
    """Return a button for a row of several."""
    made = button(text, act, tip=tip)
    made.setProperty("fit", "narrow")
    return made


def row(widgets: Iterable[QWidget]) -> QWidget:
    """Return widgets beside each other, equally wide, in as many lines as they need."""
    return flow(*widgets, even=True)
