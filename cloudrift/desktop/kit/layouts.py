"""Laying out: boxes with their margins and spacing said at once, filled in order."""

from typing import TypeVar

from PyQt6.QtWidgets import QBoxLayout, QHBoxLayout, QLayout, QVBoxLayout, QWidget

Margins = tuple[int, int, int, int]  # left, top, right, bottom, in px
Item = QWidget | QLayout | int | tuple[QWidget | QLayout, int]

FLUSH: Margins = (0, 0, 0, 0)
_Box = TypeVar("_Box", bound=QBoxLayout)


def vertical(
    owner: QWidget | None = None, margins: Margins | None = None, spacing: int | None = None
) -> QVBoxLayout:
    """Return a layout from top to bottom, of a widget if one is given; spacing in px."""
    return _set(QVBoxLayout(owner) if owner else QVBoxLayout(), margins, spacing)


def horizontal(
    owner: QWidget | None = None, margins: Margins | None = None, spacing: int | None = None
) -> QHBoxLayout:
    """Return a layout from left to right, of a widget if one is given; spacing in px."""
    return _set(QHBoxLayout(owner) if owner else QHBoxLayout(), margins, spacing)


def _set(box: _Box, margins: Margins | None, spacing: int | None) -> _Box:
    if margins is not None:
        box.setContentsMargins(*margins)
    if spacing is not None:
        box.setSpacing(spacing)
    return box


def fill(box: QBoxLayout, *items: Item) -> None:
    """Add widgets, layouts and stretches to a box in order.

    A number is a stretch; a pair is a widget or layout and how much of the free room it takes.
    """
    for item in items:
        if isinstance(item, int):
            box.addStretch(item)
            continue
        what, stretch = item if isinstance(item, tuple) else (item, 0)
        if isinstance(what, QLayout):
            box.addLayout(what, stretch)
        else:
            box.addWidget(what, stretch)
