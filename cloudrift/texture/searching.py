"""Treatments and finishes found by words of the trade."""

import functools
from collections.abc import Iterable

from cloudrift.ground.search import Entry, Index, Match, synonyms
from cloudrift.texture.catalogue import KINDS, find_design
from cloudrift.texture.finish import Finish
from cloudrift.texture.kind import Kind


@functools.cache
def _treatments() -> Index[Kind]:
    known = synonyms("cloudrift.texture")
    return Index(
        Entry(
            of=kind,
            names=(kind.label, kind.name),
            family=kind.family,
            text=f"{kind.about} {' '.join(field.label for field in kind.spec)}",
            **known.get(kind.name, {}),
        )
        for kind in KINDS.values()
    )


def find_treatments(words: str) -> list[Match[Kind]]:
    """Return the kinds of treatment that words find, best first; all of them for no words."""
    return _treatments().find(words)


def find_finishes(words: str, among: Iterable[Finish]) -> list[Match[Finish]]:
    """Return which finishes words find, best first: by name, use, purpose, and what is in them."""
    known = synonyms("cloudrift.texture", "finish_synonyms.toml")
    treatments = synonyms("cloudrift.texture")

    def entry(finish: Finish) -> Entry[Finish]:
        inside = [find_design(one.kind, one.version) for one in finish.line if one.on]
        kinds = [kind for kind in inside if kind is not None]
        return Entry(
            of=finish,
            names=(finish.name,),
            does=(*known.get(finish.name, {}).get("does", ()), *finish.tags),
            near=tuple(kind.label for kind in kinds),
            text=" ".join(
                (finish.purpose, *(w for k in kinds for w in treatments[k.name]["does"]))
            ),
        )

    return Index(entry(finish) for finish in among).find(words)
