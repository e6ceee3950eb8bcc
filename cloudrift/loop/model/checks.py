"""Checks that values of the document make of themselves, and what they say."""

from collections.abc import Iterable

from cloudrift.ground.errors import CloudriftError


def within(where: str, value: float, low: float, high: float, unit: str = "") -> None:
    """Raise CloudriftError where a value leaves its range."""
    if not low <= value <= high:
        raise CloudriftError(
            f"{where} is {value:g}{unit}, but must lie between {low:g} and {high:g}{unit}"
        )


def unique(where: str, ids: Iterable[str]) -> None:
    """Raise CloudriftError where an id is there twice."""
    seen: set[str] = set()
    for one in ids:
        if one in seen:
            raise CloudriftError(f"{where}: the id {one!r} is there twice")
        seen.add(one)
