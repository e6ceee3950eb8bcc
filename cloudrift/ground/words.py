"""Numbers in words, written one way everywhere: signs, plurals, ordinals, frequencies.

A minus is the sign of typography (−), never the hyphen of names and files: it is put in where a
number is written, so that words around it stay as they are.
"""

import re
from collections.abc import Iterable, Sequence
from typing import Any

import msgspec

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.paths import shown

MINUS = "−"


def number(value: float, spec: str = "g") -> str:
    """Write a number by a format spec (as in ``+.1f``), with a true minus; −0 is 0."""
    text = format(value, spec)
    if text.startswith("-") and not any(c in "123456789" for c in text):
        text = format(0.0 if isinstance(value, float) else 0, spec)
    return text.replace("-", MINUS)


def plural(count: int, thing: str) -> str:
    """Say how many of something there are: ``1 note``, ``2 notes``."""
    return f"{count} {thing}{'s' * (count != 1)}"


def together(words: Sequence[str]) -> str:
    """Write words as one does in a sentence: ``a``, ``a and b``, ``a, b and c``."""
    return " and ".join((", ".join(words[:-1]), words[-1])) if len(words) > 1 else "".join(words)


def either(words: Sequence[str]) -> str:
    """Write words of which one is to be chosen: ``a``, ``a or b``, ``a, b or c``."""
    return " or ".join((", ".join(words[:-1]), words[-1])) if len(words) > 1 else "".join(words)


def ordinal(n: int) -> str:
    """Say which one of a row: ``second``, ``third``, ``4th``, ``21st``."""
    return _FIRST.get(n) or nth(n)


def nth(n: int) -> str:
    """Write which one of a row in figures: ``1st``, ``2nd``, ``16th``."""
    end = "th" if 10 < n % 100 < 14 else {1: "st", 2: "nd", 3: "rd"}.get(n % 10, "th")
    return f"{n}{end}"


MOST_NAME = 200  # letters of what something is called
NAME_TYPED = 100  # of one that is typed: there is room for a number after it


def check_name(what: str, name: str, *, may_be_empty: bool = False) -> None:
    """Raise CloudriftError if something has no name, or one that nobody would read to its end."""
    if not (may_be_empty or name.strip()):
        raise CloudriftError(f"{what} needs a name; type at least one letter")
    if len(name) > MOST_NAME:
        raise CloudriftError(
            f"{what} has a name of {len(name)} characters; the limit is {MOST_NAME}"
        )


def named(of: Any, what: str, field: str = "name", *, may_be_empty: bool = False) -> None:
    """Look at the name that a value has just been made with, as ``check_name`` does.

    What can't be shown in it (it may come from a stranger's file) is replaced there.
    """
    name: str = getattr(of, field)
    if not name.isprintable():
        name = shown(name)
        msgspec.structs.force_setattr(of, field, name)
    check_name(what, name, may_be_empty=may_be_empty)


MOST_BYTES = 120  # of a name that goes into a file's: that has 255, with what is put around it


def for_a_file(text: str) -> str:
    """Return as much of a name as can go into a file's name: MOST_BYTES, whole letters."""
    return text.encode(errors="replace")[:MOST_BYTES].decode(errors="ignore")


def file_slug(name: str, otherwise: str) -> str:
    """Return a name as a file may have it: letters and digits with hyphens between."""
    plain = "".join(c if c.isalnum() else "-" for c in name.lower())
    plain = "-".join(part for part in plain.split("-") if part)
    return for_a_file(plain) or otherwise


def free_name(name: str, taken: Iterable[str]) -> str:
    """Return a name that is not taken yet, in any case of letters: numbered if need be.

    One that has a number already counts on: after ``Notes 2`` comes ``Notes 3``.
    """
    used = {one.casefold() for one in taken}
    if name.casefold() not in used:
        return name
    base, number = name, 1
    if (counted := _COUNTED.fullmatch(name)) is not None:
        base, number = counted[1], int(counted[2])
    while (free := f"{base} {number + 1}").casefold() in used:
        number += 1
    return free


_COUNTED = re.compile(r"(.*\S) ([1-9]\d?)")  # a longer number is a year, or part of a name


def cut_at_word(text: str, most: int) -> str:
    """Return as many whole words of a text as ``most`` letters hold; a longer word is cut."""
    if len(text) <= most:
        return text
    whole = text[:most].rpartition(" ")[0] if text[most] != " " else text[:most]
    return whole.rstrip(" ,;") or text[:most]


def some_of(names: Sequence[str], most: int = 3) -> str:
    """Name some things in a sentence: ``a, b and 4 more``."""
    if len(names) <= most:
        return together(names)
    return f"{', '.join(names[: most - 1])} and {len(names) - most + 1} more"


_FIRST = {1: "first", 2: "second", 3: "third"}
