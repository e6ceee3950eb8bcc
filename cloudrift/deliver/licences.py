"""What a licence, stated in words, lets one do; read for the words that matter to a loop maker."""

import re
from dataclasses import dataclass


@dataclass(frozen=True, kw_only=True)
class Terms:
    """What was read in a licence.

    ``clear``: what is made with it may be handed on royalty-free; None: that can't be read in its
    words. ``credit``: its maker is to be named. ``not_alone``: it may not be handed on by itself.
    ``why`` says, where it is not clear, which words stand in the way.
    """

    clear: bool | None
    credit: bool = False
    not_alone: bool = False
    why: str = ""


AGAINST = (
    (r"non[- ]?commercial|no commercial|not for commercial|\bnc\b", "commercial use is excluded"),
    (r"no derivative|non[- ]?derivative|\bnd\b|unaltered only", "it may not be changed"),
    (r"share[- ]?alike|\bsa\b|copyleft", "whatever is made with it would need the same licence"),
    (
        r"personal|private use|educational|research only|evaluation|trial only|demo only",
        "it is for limited use",
    ),
    (
        r"all rights reserved|not licensed|unlicensed|no licen[cs]e|do not use",
        "all rights are reserved",
    ),
    (
        r"royalt(y|ies) (apply|due|payable|required)|subject to royalt|must be cleared|clearance",
        "it must be cleared or paid for",
    ),
)
FOR = (
    r"royalty[- ]free", r"free for any use", r"free to use", r"public domain", r"\bcc0\b",
    r"\bcc[- ]by\b", r"attribution", r"\bown\b", r"made here", r"made by the program",
    r"\bmy own\b", r"work for hire", r"bought out", r"full buy-?out",
)  # fmt: skip
CREDIT = r"name the maker|attribution|\bcc[- ]by\b|with credit|credit the|must be credited"
NO_CREDIT = r"no credit|without credit|no attribution"
NOT_ALONE = r"not (to be )?(sold|passed on|handed on|distributed|resold) (alone|by itself|as it is)"


def terms_of(licence: str) -> Terms:
    """Read a licence, or a note on where something is from.

    Words that exclude outweigh words that allow. What is empty states nothing, and is not clear.
    """
    words = " ".join(licence.casefold().split())
    if not words:
        return Terms(clear=False, why="no licence is stated")
    not_alone = re.search(NOT_ALONE, words) is not None
    credit = re.search(CREDIT, words) is not None and re.search(NO_CREDIT, words) is None
    for pattern, why in AGAINST:
        if re.search(pattern, words):
            return Terms(clear=False, credit=credit, not_alone=not_alone, why=why)
    if any(re.search(pattern, words) for pattern in FOR):
        return Terms(clear=True, credit=credit, not_alone=not_alone)
    return Terms(
        clear=None,
        credit=credit,
        not_alone=not_alone,
        why="the wording does not say what it allows",
    )
