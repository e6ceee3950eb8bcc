"""Who made a loop, and under which licence it is handed on."""

from typing import Literal, get_args

import msgspec
from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import NAME_TYPED, named
from cloudrift.loop.model.checks import unique, within

Did = Literal["wrote", "played", "sang", "recorded", "mixed"]
ALL_DID: tuple[Did, ...] = get_args(Did)
ROYALTY_FREE = "royalty-free"
MOST_PEOPLE, MOST_CONFIRMED = 32, 512
WHOLE = 100.0  # what shares add up to, in %


class Person(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Somebody who worked on a loop: what they did, and their share of it in %."""

    name: str
    did: tuple[Did, ...] = ("wrote",)
    share: float = 0.0

    def __post_init__(self) -> None:
        named(self, "a person")
        within(f"share of {self.name}", self.share, 0, WHOLE, " %")
        if unknown := [one for one in self.did if one not in ALL_DID]:
            raise CloudriftError(
                f"{self.name}: {unknown[0]!r} is not a role on a loop; roles are "
                f"{', '.join(ALL_DID)}"
            )


class Credits(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """People, the maker who hands the loop on, and its licence.

    ``confirmed`` names sources (``deliver.rights``) that the composer has looked into: their
    licence, which the program cannot read, lets the loop be handed on under its own.
    """

    people: tuple[Person, ...] = ()
    maker: str = ""
    licence: str = ROYALTY_FREE
    confirmed: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        named(self, "a maker", "maker", may_be_empty=True)
        named(self, "a licence", "licence", may_be_empty=True)
        unique("people", (one.name for one in self.people))
        within("number of people", len(self.people), 0, MOST_PEOPLE)
        within("number of confirmed sources", len(self.confirmed), 0, MOST_CONFIRMED)

    @property
    def shares(self) -> float:
        """What all shares add up to, in %."""
        return sum(one.share for one in self.people)


def read_person(text: str) -> Person:
    """Read ``NAME:DID,…:SHARE``; what was done and the share may be left out.

    Raises CloudriftError that says what of it can't be read.
    """
    name, did, share = (*(part.strip() for part in text.split(":", 2)), "", "")[:3]
    does = tuple(dict.fromkeys(word.strip() for word in did.split(",") if word.strip()))
    try:
        number = float(share.removesuffix("%")) if share else 0.0
    except ValueError:
        raise CloudriftError(
            f"{text[:80]!r}: the share {share[:40]!r} is not a percentage"
        ) from None
    return Person(name=name, did=does or ("wrote",), share=number)  # type: ignore[arg-type]


def with_person(credits: Credits, person: Person) -> Credits:
    """Add somebody, or put them in the place of the one of that name."""
    if all(one.name != person.name for one in credits.people):
        return replace(credits, people=(*credits.people, person))
    return replace(
        credits, people=tuple(person if one.name == person.name else one for one in credits.people)
    )


def without_person(credits: Credits, name: str) -> Credits:
    """Take somebody out."""
    return replace(credits, people=tuple(one for one in credits.people if one.name != name))


def renamed(credits: Credits, old: str, new: str) -> Credits:
    """Call somebody otherwise; raise CloudriftError where another one is called so."""
    new = new.strip()[:NAME_TYPED]
    return replace(
        credits,
        people=tuple(replace(one, name=new) if one.name == old else one for one in credits.people),
    )


def shared_evenly(credits: Credits) -> Credits:
    """Give all the same share: hundredths of a percent, the first has what is left."""
    count = len(credits.people)
    if not count:
        return credits
    each = int(WHOLE * 100 / count) / 100
    first = round(WHOLE - each * (count - 1), 2)
    return replace(
        credits,
        people=tuple(
            replace(one, share=each if at else first) for at, one in enumerate(credits.people)
        ),
    )


def confirmed(credits: Credits, source: str, *, on: bool) -> Credits:
    """Say that a source was looked into, or that it was not."""
    rest = tuple(one for one in credits.confirmed if one != source)
    return replace(credits, confirmed=(*rest, source) if on else rest)
