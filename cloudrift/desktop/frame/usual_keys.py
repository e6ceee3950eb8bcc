"""The desktop's usual keys: cut, copy, paste, delete, select all, find, full screen.

Pictures and fields know what these keys do in them. What the one that has the keyboard makes
nothing of goes to the stage's picture: they work wherever the keyboard is, and from the menu.
"""

from typing import Any

from PyQt6.QtCore import QEvent, Qt
from PyQt6.QtGui import QKeyEvent, QKeySequence
from PyQt6.QtWidgets import QLineEdit, QPlainTextEdit, QWidget

from cloudrift.desktop.kit.parts import SearchField

EDITING = {"Ctrl+X": "cut", "Ctrl+C": "copy", "Ctrl+V": "paste", "Ctrl+A": "selectAll"}
PICTURES = ("threads", "notes", "lanes", "columns")  # what a stage calls its picture


def press(window: Any, keys: str) -> None:
    """Do what keys, as Qt writes them, do where the keyboard is; else in the stage's picture."""
    focused = window.focusWidget()
    if isinstance(focused, QLineEdit | QPlainTextEdit) and keys in EDITING:
        getattr(focused, EDITING[keys])()
        return
    pressed = QKeySequence(keys)[0]
    event = QKeyEvent(QEvent.Type.KeyPress, pressed.key(), pressed.keyboardModifiers())
    while focused is not None and focused is not window:
        event.accept()
        focused.keyPressEvent(event)
        if event.isAccepted():
            return
        focused = focused.parentWidget()
    in_picture(window, event)


def is_usual(event: QKeyEvent) -> bool:
    """Whether a key is one of those."""
    keys = QKeySequence(event.keyCombination()).toString()
    return keys in EDITING or keys == "Del"


def in_picture(window: Any, event: QKeyEvent) -> None:
    """Let the stage's picture have a key that nothing else has done something with."""
    made = next((p for name in PICTURES if (p := getattr(window.room, name, None))), None)
    picture = getattr(made, "grid", made)
    if isinstance(picture, QWidget) and picture.isVisible() and not picture.hasFocus():
        picture.keyPressEvent(event)


def find(window: Any) -> None:
    """Put the keyboard into the search that is in sight, the pane's first where it is in use."""
    fields = [field for field in window.findChildren(SearchField) if field.isVisible()]
    focused, room = window.focusWidget(), window.room
    near = [f for f in fields if focused and room.isAncestorOf(f) == room.isAncestorOf(focused)]
    field = next(iter(near or fields), None)
    if field is None:
        window.sheets.commands()
        return
    field.setFocus(Qt.FocusReason.ShortcutFocusReason)
    field.selectAll()


def full_screen(window: QWidget) -> None:
    """Fill the screen, or go back to the window as it was."""
    window.setWindowState(window.windowState() ^ Qt.WindowState.WindowFullScreen)
