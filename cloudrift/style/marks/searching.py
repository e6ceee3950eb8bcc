"""Marks found by words of the trade."""

import functools

from cloudrift.ground.search import Entry, Index, Match, synonyms
from cloudrift.style.marks.kind import Kind
from cloudrift.style.marks.met import KINDS


@functools.cache
def _marks() -> Index[Kind]:
    known = synonyms("cloudrift.style.marks")
    return Index(
        Entry(of=kind, names=(kind.label,), family=kind.group, text=kind.about,
              does=known.get(name, {}).get("does", ()))
        for name, kind in KINDS.items()
    )  # fmt: skip


def find_marks(words: str) -> list[Match[Kind]]:
    """Return the kinds of mark that words find, best first; all of them for no words."""
    return _marks().find(words)
