"""Which keys are held down while something is pressed, dragged or typed."""

from typing import NamedTuple

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QInputEvent

_KEYS = Qt.KeyboardModifier


class Held(NamedTuple):
    """Shift, Ctrl and Alt."""

    shift: bool = False
    ctrl: bool = False
    alt: bool = False


def held(what: QInputEvent | Qt.KeyboardModifier) -> Held:
    """Return which are held in an event, or among modifiers."""
    keys = what if isinstance(what, Qt.KeyboardModifier) else what.modifiers()
    return Held(
        bool(keys & _KEYS.ShiftModifier),
        bool(keys & _KEYS.ControlModifier),
        bool(keys & _KEYS.AltModifier),
    )
