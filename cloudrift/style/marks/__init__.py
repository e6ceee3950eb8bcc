"""Marks: what a style asks of a loop as numbers and words, each measured, with its evidence.

Here are the kinds of mark, the view that they look at a loop through, and what is met of what is
asked. What asks them (a card) is none of this package's business.
"""

from cloudrift.style.marks.catalogue import KINDS
from cloudrift.style.marks.kind import GROUPS, Asked, Change, Found, Kind
from cloudrift.style.marks.met import Mark, change_for, checked, look, met_of
from cloudrift.style.marks.view import View

__all__ = [
    "GROUPS", "KINDS", "Asked", "Change", "Found", "Kind", "Mark", "View", "change_for", "checked",
    "look", "met_of",
]  # fmt: skip
