"""Cards beside each other, and what is changed in one."""

from collections.abc import Mapping
from dataclasses import dataclass

from msgspec.structs import replace

from cloudrift.style.card import Grammar
from cloudrift.style.marks import KINDS, Asked, Kind
from cloudrift.style.marks.kind import is_range


@dataclass(frozen=True, kw_only=True)
class Difference:
    """What two cards ask of a kind; None where one leaves it open. ``apart`` is 0 to 1."""

    kind: Kind
    one: Asked | None
    other: Asked | None
    apart: float


def differences(one: Mapping[str, Asked], other: Mapping[str, Asked]) -> list[Difference]:
    """Return what two cards ask otherwise, what differs most first.

    Ranges are as far apart as the share of both together that they do not share; what only one
    asks comes after all that both do.
    """
    out = []
    for name, kind in KINDS.items():
        a, b = one.get(name), other.get(name)
        if a == b:
            continue
        apart = 0.0 if a is None or b is None else _apart(kind, a, b)
        out.append(Difference(kind=kind, one=a, other=b, apart=apart))
    return sorted(out, key=lambda x: (x.one is None or x.other is None, -x.apart))


def _apart(kind: Kind, one: Asked, other: Asked) -> float:
    if not (is_range(one) and is_range(other)):
        both, any_ = {*one} & {*other}, {*one} | {*other}
        return 1 - len(both) / len(any_)
    low, high = (kind.share(float(end)) for end in one)
    low2, high2 = (kind.share(float(end)) for end in other)
    shared = max(0.0, min(high, high2) - max(low, low2))
    together = max(high, high2) - min(low, low2)
    return 1 - shared / together if together > 0 else 0.0


def swapped_arrow(grammar: Grammar, first: str, then: str) -> Grammar:
    """Let a degree follow another, or no longer; the last that may follow stays."""
    behind = grammar.next[first]
    if then not in behind:
        behind = (*behind, then)
    elif len(behind) > 1:
        behind = tuple(one for one in behind if one != then)
    return replace(grammar, next={**grammar.next, first: behind})
