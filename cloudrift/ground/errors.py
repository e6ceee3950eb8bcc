"""The one root of all errors that a composer may meet."""

import difflib
from collections.abc import Iterable


class CloudriftError(ValueError):
    """Something a composer can understand and mend: what, where, and what to do."""


MOST_NAMES = 8  # that are listed where none is near


def did_you_mean(wrong: str, known: Iterable[str]) -> str:
    """Return ``"; did you mean 'x'?"`` for the nearest known name, or some of the known ones."""
    names = sorted(known)
    near = difflib.get_close_matches(wrong, names, n=1)
    if near:
        return f"; did you mean {near[0]!r}?"
    more = f" and {len(names) - MOST_NAMES} more" if len(names) > MOST_NAMES else ""
    return f"; known are {', '.join(names[:MOST_NAMES])}{more}"


MOST_WORDS = 300  # letters of a message on the screen


def in_a_sentence(text: str, most: int = MOST_WORDS) -> str:
    """Return words on one line, cut with dots where they are longer than anybody reads."""
    plain = " ".join(text.split())
    return plain if len(plain) <= most else plain[: most - 1].rstrip() + "…"
