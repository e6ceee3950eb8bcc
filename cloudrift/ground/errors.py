"""The one root of all errors that a composer may meet."""

import difflib
from collections.abc import Iterable


class CloudriftError(ValueError):
    """Something a composer can understand and mend: what, where, and what to do."""


def did_you_mean(wrong: str, known: Iterable[str]) -> str:
    """Return ``"; did you mean 'x'?"`` for the nearest known name, or a list of the known ones."""
    names = sorted(known)
    near = difflib.get_close_matches(wrong, names, n=1)
    return f"; did you mean {near[0]!r}?" if near else f"; known are {', '.join(names)}"
