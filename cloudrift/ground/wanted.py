"""Work that may be no longer wanted before it is done."""


class Cancelled(Exception):  # noqa: N818 - nothing went wrong
    """The work was no longer wanted."""


def never() -> bool:
    """Say that the work is still wanted."""
    return False
