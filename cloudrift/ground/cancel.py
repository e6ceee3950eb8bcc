"""Work that may be no longer wanted before it is done, and that says how far it is."""

from collections.abc import Callable

Moved = Callable[[float, str], None]  # hears what share is done (0 to 1), and of what


class Cancelled(Exception):  # noqa: N818 - nothing went wrong
    """The work was no longer wanted."""


def never() -> bool:
    """Say that the work is still wanted."""
    return False


def unheard(_share: float, _words: str) -> None:
    """Hear how far some work is, where nobody asks."""
