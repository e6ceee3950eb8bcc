"""Commands: what a stage offers to the menus, the command finder and the list of keys."""

from collections.abc import Callable
from typing import Any, NamedTuple


class Command(NamedTuple):
    """One thing that can be done in a stage, or in the window where no ``stage`` is named.

    ``act`` takes that, which need not be there before it is done. ``key`` is its shortcut, as Qt
    writes it. With ``goes`` its stage is shown first. ``inside`` names the menu within the stage's
    own that it stands in.
    """

    text: str
    act: Callable[[Any], object]
    key: str = ""
    goes: bool = False
    inside: str = ""
    stage: str = ""
