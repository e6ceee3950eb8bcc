"""The one root of all errors that a composer may meet."""

import difflib
from collections.abc import Iterable

from cloudrift.ground.paths import shown

MOST_WORDS = 300  # letters of a message on the screen


class CloudriftError(ValueError):
    """Something a composer can understand and mend: what, where, and what to do.

    Its words are one line, at most MOST_WORDS letters: where a file's own words would make it
    longer, the middle goes, for where it is stands first and what to do stands last.
    """

    def __str__(self) -> str:
        said = " ".join(shown(" ".join(super().__str__().split())).split())
        if len(said) <= MOST_WORDS:
            return said
        return f"{said[: MOST_WORDS // 2]} … {said[3 - MOST_WORDS // 2 :]}"


class WriteError(CloudriftError):
    """What was asked for is in order, and could not be written."""


MOST_NAMES = 8  # that are listed where none is near


def did_you_mean(wrong: str, known: Iterable[str]) -> str:
    """Return ``"; did you mean 'x'?"`` for the nearest known name, or some of the known ones."""
    names, wrong = sorted(known), wrong[:60]
    near = difflib.get_close_matches(wrong, names, n=1)
    if near:
        return f"; did you mean {near[0]!r}?"
    more = f" and {len(names) - MOST_NAMES} more" if len(names) > MOST_NAMES else ""
    return f"; known are {', '.join(names[:MOST_NAMES])}{more}"


def in_a_sentence(text: str, most: int = MOST_WORDS) -> str:
    """Return words on one line, cut with dots where they are longer than anybody reads."""
    plain = shown(" ".join(text.split()))
    return plain if len(plain) <= most else plain[: most - 1].rstrip() + "…"
