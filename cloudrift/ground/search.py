"""Search as the trade speaks: words in any order, stems, synonyms, one typing error.

What an entry is called and does ranks before what it is near to, and that before what its text
mentions. Synonyms are data: a TOML file beside each list (``synonyms``).
"""

import functools
import re
import tomllib
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from importlib import resources
from typing import Any, Generic, TypeVar

_Of = TypeVar("_Of")

NAME, DOES, FAMILY, NEAR, TEXT = 10.0, 9.0, 6.0, 4.5, 2.0  # what a word is worth where it is found
LATER = 0.04  # less for each synonym that stands before it
EQUAL, STEM, BEGINS, TYPED = 1.0, 0.95, 0.8, 0.6  # how well a word is matched
LEAST_TYPED = 5  # letters of a word that may have a typing error
ALL_IN_ONE = 0.6  # of a phrase's worth, on top, where all words are in it
# Words that may be missing: they say nothing of what is looked for.
FILLER = frozenset(
    ("a", "an", "the", "to", "of", "for", "in", "on", "at", "my", "it", "its", "is", "make", "with",
     "and", "or", "sound", "sounds", "like", "more", "get", "add", "effect", "effects")
)  # fmt: skip


@dataclass(frozen=True)
class Entry(Generic[_Of]):
    """Something in a list, and the words that find it; ``names`` are what it is called."""

    of: _Of
    names: tuple[str, ...]
    does: tuple[str, ...] = ()
    near: tuple[str, ...] = ()
    family: str = ""
    text: str = ""


@dataclass(frozen=True)
class Match(Generic[_Of]):
    """Something that was found, and the words that found it where its name does not say them."""

    of: _Of
    words: str = ""


def tokens(text: str) -> tuple[str, ...]:
    """Return the words of a text in small letters, without signs."""
    return tuple(re.findall(r"[^\W_]+", text.casefold()))


def get_ready() -> None:
    """Load what stems words and compares them: it takes a tenth of a second once."""
    stem("compressors")
    likeness("compresser", "compressor")


@functools.lru_cache(maxsize=8192)
def stem(word: str) -> str:
    """Return an English word without its endings (Snowball)."""
    import snowballstemmer  # noqa: PLC0415

    return str(snowballstemmer.stemmer("english").stemWord(word))


@functools.lru_cache(maxsize=65536)
def likeness(typed: str, word: str) -> float:
    """Return how well a typed word matches another: 1 for equal, 0 for not at all."""
    if typed == word:
        return EQUAL
    if len(typed) > 1 and word.startswith(typed):
        return BEGINS
    if len(typed) > 2 and typed[:3] == word[:3] and stem(typed) == stem(word):
        return STEM
    if len(typed) >= LEAST_TYPED and abs(len(typed) - len(word)) < 2:
        from rapidfuzz.distance import OSA  # noqa: PLC0415

        if OSA.distance(typed, word, score_cutoff=1) <= 1:
            return TYPED
    return 0.0


@dataclass(frozen=True)
class _Phrase:
    """Some words of an entry, and what they are worth; ``said``: not to be shown as a match.

    ``words`` may also have them joined; ``count`` is how many there are in ``text``.
    """

    text: str
    words: tuple[str, ...]
    count: int
    worth: float
    said: bool

    def best(self, typed: str) -> float:
        return max((likeness(typed, word) for word in self.words), default=0.0)


def _phrases(entry: Entry[Any]) -> list[_Phrase]:
    found = []
    for texts, worth, said in (
        (entry.names, NAME, True),
        (entry.does, DOES, False),
        ((entry.family,), FAMILY, True),
        (entry.near, NEAR, False),
        ((entry.text,), TEXT, True),
    ):
        for at, text in enumerate(texts):
            words = tokens(text)
            joined = ("".join(words),) if 1 < len(words) < 4 else ()  # "low pass" finds "lowpass"
            if words:
                less = LATER * at if worth in (DOES, NEAR) else 0.0
                found.append(_Phrase(text, words + joined, len(words), worth - less, said))
    return found


class Index(Generic[_Of]):
    """A list that is searched."""

    def __init__(self, entries: Iterable[Entry[_Of]]) -> None:
        self._entries = [(entry, _phrases(entry)) for entry in entries]

    def find(self, typed: str) -> list[Match[_Of]]:
        """Return what all words find, best first, then as listed; everything for no words."""
        words = tokens(typed)
        if not words:
            return [Match(entry.of) for entry, _ in self._entries]
        needed = [word for word in words if word not in FILLER] or list(words)
        scored = []
        for at, (entry, phrases) in enumerate(self._entries):
            score, said = _score(needed, words, phrases)
            if score:
                scored.append((-score, at, Match(entry.of, said)))
        return [match for _score_, _at, match in sorted(scored, key=lambda one: one[:2])]


def _score(
    needed: Sequence[str], words: Sequence[str], phrases: Sequence[_Phrase]
) -> tuple[float, str]:
    """Return how well words find an entry (0: one of them does not), and by which phrase."""
    total, best, said = 0.0, 0.0, ""
    likes = {word: [phrase.best(word) for phrase in phrases] for word in words}
    for word in words[:-1]:  # two letters begin a word only while it is being typed
        if len(word) < 3:
            likes[word] = [like if like == EQUAL else 0.0 for like in likes[word]]
    for word in needed:
        found = max(like * p.worth for like, p in zip(likes[word], phrases, strict=True))
        if not found:
            return 0.0, ""
        total += found / len(needed)
    extra = 0.0
    for at, phrase in enumerate(phrases):
        like = [likes[word][at] for word in needed]
        together = all(like)
        share = min(1.0, len(needed) / phrase.count)
        worth = phrase.worth * sum(like) / len(needed)
        if together:
            extra = max(extra, ALL_IN_ONE * worth * share)
        filler = sum(likes[w][at] for w in words if w in FILLER) * 0.01
        told = worth * (0.5 + share * together) + filler
        if told > best:
            best, said = told, "" if phrase.said else phrase.text
    return total + extra, said


@functools.cache
def synonyms(package: str, name: str = "synonyms.toml") -> dict[str, dict[str, tuple[str, ...]]]:
    """Return the synonyms that a package ships: for each entry ``does`` and ``near``."""
    raw = tomllib.loads((resources.files(package) / name).read_text("utf-8"))
    return {key: {part: tuple(words) for part, words in one.items()} for key, one in raw.items()}
