"""What an exchange offers, how it is searched, and what it must be able to do."""

import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple, Protocol

from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.recorded import RecordingKind
from cloudrift.loop.recordings import home_of, times_counted
from cloudrift.theory.key import Key

Moved = Callable[[float, str], object]  # how far (0 to 1), and what is done
MOST_FOUND = 200
BED_FAR = 1.0


class ExchangeError(CloudriftError):
    """The exchange does not answer, or refuses; it may be tried again."""


@dataclass(frozen=True, kw_only=True)
class Offer:
    """A recording as an exchange labels it; what it says may be wrong."""

    id: str
    name: str
    maker: str
    licence: str
    kind: RecordingKind
    words: tuple[str, ...]
    key: Key | None
    tempo: float  # BPM, 0 for none
    bars: int  # 0 where they are not said
    seconds: float = 0.0  # likewise


@dataclass(frozen=True, kw_only=True)
class Wanted:
    """What is looked for. Words are all to be there; with a key, what comes into it within so many
    semitones; with a tempo, what comes to it within so many percent.
    """

    words: str = ""
    kind: str = ""
    key: Key | None = None
    within_st: int = 4
    tempo: float = 0.0
    within_percent: float = 12.0
    licence: str = ""


class Found(NamedTuple):
    """An offer, and how far it is from what is wanted: semitones, and its pace (1: as it is)."""

    offer: Offer
    semitones: int
    pace: float

    @property
    def far(self) -> float:
        """How far in all: a semitone weighs as much as 4 % of tempo; a bed is near to nothing."""
        if self.offer.kind == "bed":
            return BED_FAR
        return abs(self.semitones) + abs(math.log2(self.pace)) * 17


class Service(Protocol):
    """An outside library. Each call may take long, and may raise ExchangeError in words."""

    def search(self, wanted: Wanted, cancelled: Callable[[], bool]) -> list[Found]:
        """Return what is found, the nearest first."""

    def fetch(self, offer_id: str, cancelled: Callable[[], bool], moved: Moved) -> Path:
        """Return a file with a recording, its labels in it. Raises Cancelled when told to stop."""


def found_among(offers: Iterable[Offer], wanted: Wanted) -> list[Found]:
    """Return the offers that are what is wanted, the nearest first."""
    found = [one for offer in offers if (one := _match(offer, wanted)) is not None]
    return sorted(found, key=lambda one: (one.far, one.offer.name))[:MOST_FOUND]


def _match(offer: Offer, wanted: Wanted) -> Found | None:
    if wanted.words:
        text = " ".join((offer.name, *offer.words, offer.maker, offer.kind)).casefold()
        if not all(word in text for word in wanted.words.casefold().split()):
            return None
    if wanted.kind and offer.kind != wanted.kind:
        return None
    if wanted.licence and wanted.licence.casefold() not in offer.licence.casefold():
        return None
    semitones, pace = 0, 1.0
    if wanted.key is not None and offer.key is not None and offer.kind != "bed":
        semitones = (home_of(wanted.key) - home_of(offer.key) + 6) % 12 - 6
        if abs(semitones) > wanted.within_st:
            return None
    if wanted.tempo and offer.tempo and offer.kind != "bed":
        pace = wanted.tempo / (offer.tempo * times_counted(offer.tempo, wanted.tempo))
        if abs(pace - 1) * 100 > wanted.within_percent:
            return None
    return Found(offer, semitones, pace)
