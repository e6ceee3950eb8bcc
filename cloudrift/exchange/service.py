"""What an exchange offers, how it is searched, and what it must be able to do."""

import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple, Protocol

from cloudrift.exchange.words import alike
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.search import likeness, tokens
from cloudrift.loop.edits.layers.recordings import home_of, times_counted
from cloudrift.loop.model.recorded import RecordingKind
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
    """What is looked for. All words are to be there; with a key, what comes into it within so many
    semitones; with a tempo, what comes to it within that many percent.
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
        """How far in all."""
        return far_off(self.offer.kind, self.semitones, self.pace)


class Service(Protocol):
    """An outside library. Each call may take long, and may raise ExchangeError in words."""

    def search(self, wanted: Wanted, cancelled: Callable[[], bool]) -> list[Found]:
        """Return what is found, the nearest first."""

    def fetch(self, offer_id: str, cancelled: Callable[[], bool], moved: Moved) -> Path:
        """Return a file with a recording, its labels in it. Raises Cancelled when told to stop."""


class Fits:
    """What it takes of recordings to fit what is wanted; asked of thousands, so it remembers."""

    def __init__(self, wanted: Wanted) -> None:
        self._wanted = wanted
        self._words = [alike(word) for word in tokens(wanted.words)]
        self._licence = wanted.licence.casefold()
        self._of_key: dict[Key, int | None] = {}
        self._of_tempo: dict[float, float | None] = {}

    def takes(
        self, kind: str, licence: str, key: Key | None, tempo: float
    ) -> tuple[int, float] | None:
        """Return by how many semitones and at which pace one fits, or None where it does not."""
        wanted = self._wanted
        if (wanted.kind and kind != wanted.kind) or self._licence not in licence.casefold():
            return None
        semitones: int | None = 0
        pace: float | None = 1.0
        if kind != "bed":
            if wanted.key is not None and key is not None:
                if key not in self._of_key:
                    self._of_key[key] = self._semitones(wanted.key, key)
                semitones = self._of_key[key]
            if wanted.tempo and tempo:
                if tempo not in self._of_tempo:
                    self._of_tempo[tempo] = self._pace(tempo)
                pace = self._of_tempo[tempo]
        return None if semitones is None or pace is None else (semitones, pace)

    def found(self, offer: Offer) -> Found | None:
        """Return an offer with what it takes, or None where it is not what is wanted."""
        if self._words:
            said = tokens(" ".join((offer.name, *offer.words, offer.kind)))
            maker = tokens(offer.maker)  # a name: found as it is typed alone
            for same in self._words:
                if not any(likeness(word, one) for word in same for one in said) and not any(
                    one.startswith(same[0]) for one in maker
                ):
                    return None
        takes = self.takes(offer.kind, offer.licence, offer.key, offer.tempo)
        return None if takes is None else Found(offer, *takes)

    def _semitones(self, wanted: Key, key: Key) -> int | None:
        away = (home_of(wanted) - home_of(key) + 6) % 12 - 6
        return away if abs(away) <= self._wanted.within_st else None

    def _pace(self, tempo: float) -> float | None:
        pace = self._wanted.tempo / (tempo * times_counted(tempo, self._wanted.tempo))
        return pace if abs(pace - 1) * 100 <= self._wanted.within_percent else None


def far_off(kind: str, semitones: int, pace: float) -> float:
    """How far in all: a semitone weighs as much as 4 % of tempo; a bed is near to nothing."""
    return BED_FAR if kind == "bed" else abs(semitones) + abs(math.log2(pace)) * 17


def found_among(offers: Iterable[Offer], wanted: Wanted) -> list[Found]:
    """Return the offers that are what is wanted, the nearest first."""
    fits = Fits(wanted)
    found = [one for offer in offers if (one := fits.found(offer)) is not None]
    return sorted(found, key=lambda one: (one.far, one.offer.name))[:MOST_FOUND]
