"""Words that mean the same on recordings: what one of them finds, the others find, too."""

import functools

from cloudrift.ground.search import TYPED, likeness, synonyms, tokens


@functools.cache
def _groups() -> tuple[str, ...]:
    return synonyms("cloudrift.exchange")["same"]["groups"]


def alike(word: str) -> tuple[str, ...]:
    """Return a word and those that mean the same, as single words; a typing error is looked past.

    >>> "vocal" in alike("vox")
    True
    """
    said = [tokens(group) for group in _groups()]
    best = max((likeness(word, one) for group in said for one in group), default=0.0)
    if len(word) < 3 or best < TYPED:
        return (word,)
    found = {
        one for group in said for same in group if likeness(word, same) == best for one in group
    }
    return (word, *sorted(found - {word}))
