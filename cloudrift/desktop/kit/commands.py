"""Commands: what a stage offers to the menus, the command finder and the list of keys."""

from collections.abc import Callable
from typing import Any, NamedTuple

from PyQt6.QtGui import QAction


class Command(NamedTuple):
    """One thing that can be done in a stage, or in the window where no ``stage`` is named.

    ``act`` takes that, which need not be there before it is done. ``key`` is its shortcut, as Qt
    writes it; a key that is only shown stands in ``text`` after a tab. With ``goes`` its stage is
    shown first. ``inside`` names the menu within the stage's own that it stands in.
    """

    text: str
    act: Callable[[Any], object]
    key: str = ""
    goes: bool = False
    inside: str = ""
    stage: str = ""


def name_of(action: QAction) -> str:
    """Return what a command of the menus is called, without its mnemonic and its key."""
    return action.text().replace("&", "").partition("\t")[0]


def keys_of(action: QAction) -> str:
    """Return the keys of a command of the menus, as Qt writes them; empty for none."""
    return action.shortcut().toString() or action.text().partition("\t")[2]
