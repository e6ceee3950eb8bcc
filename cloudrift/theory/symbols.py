"""Writing chords by hand: degrees (``iv7``, ``bII``, ``4``), names (``Dm9``, ``G13/B``), rows.

The inverse of ``naming``: whatever that writes is read here as the same notes.
"""

import re
from dataclasses import dataclass
from fractions import Fraction

from cloudrift.ground.errors import CloudriftError
from cloudrift.theory.chord import chord_tones, stacked
from cloudrift.theory.key import SCALES, Key
from cloudrift.theory.naming import NUMERALS
from cloudrift.theory.pitch import LETTERS, name_to_pc

MAX_CHORDS = 128  # far more than a loop holds; a pasted page is no progression
FIFTHS = {"b5": 6, "#5": 8, "-5": 6, "+5": 8}
TENSIONS = {"b9": 1, "9": 2, "#9": 3, "11": 5, "#11": 6, "b13": 8, "13": 9, "7": 11, "b7": 10,
            "b3": 3, "3": 4, "5": 7, "6": 9, "4": 5, "2": 2, "b6": 8}  # fmt: skip
EXTENSIONS = {"7": (), "9": (2,), "11": (2, 5), "13": (2, 9)}
_QUALITY = re.compile(
    r"(maj|Maj|major|M(?![a-z])|Δ|minor|min|m(?!aj)|-|dim|°|o(?![a-z])|aug|\+|ø)?"
)
_NUMBER = re.compile(r"(6/9|69|13|11|9|7|6|5(?!\d))?")
_TAIL = re.compile(
    r"\s*(?:(?P<sus>sus[24]?)|(?P<brackets>\([^()]*\))|(?P<add>add[#b]?\d+)"
    r"|(?P<no>no ?[35])|(?P<alt>[#b+-](?:13|11|9|5))|(?P<alone>alone))"
)


@dataclass(frozen=True, kw_only=True)
class WrittenChord:
    """A chord as somebody wrote it: pitch classes root first, a bass where one was asked for.

    ``bars`` is how long it lasts where bar lines say so.
    """

    tones: tuple[int, ...]
    bass: int | None = None
    bars: Fraction | None = None
    text: str = ""


def _plain(text: str) -> str:
    return text.strip().replace("♯", "#").replace("♭", "b").replace("−", "-")


def parse_suffix(suffix: str, *, minor: bool = False) -> tuple[int, ...] | None:
    """Return the intervals that a suffix such as ``m7b5`` or ``sus4`` means; None for nonsense.

    ``minor`` sets the third that a suffix without a word for it has (a lower-case numeral).
    """
    match = _QUALITY.match(suffix)
    assert match is not None
    quality, rest = match[1] or "", suffix[match.end() :]
    # m(maj7) and °(maj9): the seventh is said in brackets.
    big = re.match(r"\((?:maj|Maj|M)(7|9|11|13)\)|(?:maj|Maj|M)(7|9|11|13)", rest)
    number, major_seventh = "", quality in ("maj", "Maj", "M", "major", "Δ")
    if big:
        number, major_seventh, rest = big[1] or big[2], True, rest[big.end() :]
    else:
        found = _NUMBER.match(rest)
        assert found is not None
        number, rest = found[1] or "", rest[found.end() :]
    if quality == "Δ" and not number:
        number = "7"
    tones = _body(quality, number, major_seventh, minor)
    return _tail(tones, rest)


def _body(quality: str, number: str, major_seventh: bool, minor: bool) -> dict[str, int]:
    """The third, fifth, seventh and what is stacked on them, by the part each plays."""
    low_third = quality in ("m", "min", "minor", "-", "dim", "°", "o", "ø") or (
        minor and quality in ("", "maj", "Maj", "M", "Δ")
    )
    diminished = quality in ("dim", "°", "o")
    tones = {"root": 0, "third": 3 if low_third else 4}
    tones["fifth"] = 6 if diminished or quality == "ø" else 8 if quality in ("aug", "+") else 7
    if number in EXTENSIONS or quality == "ø":
        seventh = 11 if major_seventh else 9 if diminished and number == "7" else 10
        tones["seventh"] = seventh
        for interval in EXTENSIONS.get(number, ()):
            tones[f"tension {interval}"] = interval
    elif number in ("6", "6/9", "69"):
        tones["sixth"] = 9
        if number != "6":
            tones["tension 2"] = 2
    elif number == "5":
        del tones["third"]
    return tones


def _tail(tones: dict[str, int], rest: str) -> tuple[int, ...] | None:
    while rest.strip():
        match = _TAIL.match(rest)
        if not match:
            return None
        rest = rest[match.end() :]
        kind = match.lastgroup
        word = match[0].strip()
        if kind == "brackets":
            words = [w for w in re.split(r"[,\s]+(?![35]\b)", word[1:-1]) if w]
        else:
            words = [word]
        if not all(_apply(tones, one) for one in words):
            return None
    return tuple(dict.fromkeys(tones.values()))


def _apply(tones: dict[str, int], word: str) -> bool:
    """Change the tones as one word says; False for a word that says nothing."""
    if word.startswith("sus"):
        tones["third"] = 2 if word == "sus2" else 5
        # C9sus4 has its ninth; in C7sus2 the second stands for the third and is no tension.
        return True
    if word in FIFTHS:
        tones["fifth"] = FIFTHS[word]
    elif word == "alone":
        for part in ("third", "fifth"):
            tones.pop(part, None)
    elif word.startswith("no"):
        missing = {"3": "third", "5": "fifth"}.get(word[2:].strip())
        if missing is None:
            return False
        tones.pop(missing, None)
    else:
        name = word.removeprefix("add")
        if name not in TENSIONS:
            return False
        if name in ("b9", "#9") and not word.startswith("add"):
            tones.pop("tension 2", None)  # C13b9 has no ninth beside the lowered one
            tones.pop("tension 1" if name == "#9" and "tension 1" not in tones else "", None)
        tones[f"tension {TENSIONS[name]}"] = TENSIONS[name]
    return True


def parse_chord(text: str) -> WrittenChord:
    """Read a chord name such as ``F#m7``, ``Bbmaj9``, ``C6/9`` or ``D/F#``.

    Raises CloudriftError that says what is wrong with it.
    """
    plain = _plain(text)
    match = re.fullmatch(r"([A-G])([#b]?)(.*?)(?:/([A-G][#b]?))?", plain)
    intervals = parse_suffix(match[3].strip()) if match else None
    if not match or intervals is None:
        raise CloudriftError(f"{text!r} is not a chord; write e.g. 'Dm9', 'F#7' or 'C/E'")
    root = name_to_pc(match[1] + match[2])
    bass = name_to_pc(match[4]) if match[4] else None
    pcs = frozenset((root + i) % 12 for i in intervals)
    return WrittenChord(tones=stacked(root, pcs), bass=bass, text=text)


def parse_degree(token: str, key: Key) -> tuple[int, ...]:
    """Read a degree such as ``i``, ``VI7``, ``bII``, ``V7``, ``ii°``, ``iv9``, ``Isus4`` or ``4``.

    A plain number is the key's own triad there. A numeral is the key's own chord where its case
    agrees with the key; otherwise the third is set to what the case says, the fifth is perfect
    and a seventh minor (``V7`` in minor). What is stacked on a seventh is what its number says,
    also where the scale has another note there: ``ii9`` is a minor ninth chord in dorian too, and
    a thirteenth has no eleventh. ``V7/iv`` is the dominant of the fourth degree.
    """
    plain = _plain(token)
    if re.fullmatch(r"[1-7]", plain):
        return chord_tones(key, int(plain))
    of = re.fullmatch(r"(.+)/([#b]?[IViv]+)", plain)
    if of:
        return parse_degree(of[1], Key(key.shifted(_home(of[2], key, token)).tonic, "major"))
    match = re.fullmatch(r"([#b]?)([IViv]+)(.*)", plain)
    if not match or not _is_numeral(match[2]):
        raise _no_degree(token)
    sign, numeral, suffix = match.groups()
    degree = NUMERALS.index(numeral.upper()) + 1
    root = _root(sign, degree, key)
    own = chord_tones(key, degree, count=3 if suffix == "" else 4)
    agrees = not sign and ((own[1] - own[0]) % 12 == 4) == numeral.isupper()
    if agrees and suffix in ("", *EXTENSIONS):
        more = ((root + i) % 12 for i in EXTENSIONS.get(suffix, ()))
        return stacked(root, frozenset((*own, *more)))
    minor = numeral.islower()
    if suffix == "7" and sign == "b" and not minor:
        suffix = "maj7"  # a lowered second is a major seventh chord
    intervals = parse_suffix(suffix, minor=minor)
    if intervals is None:
        raise _no_degree(token)
    return stacked(root, frozenset((root + i) % 12 for i in intervals))


def _no_degree(token: str) -> CloudriftError:
    return CloudriftError(f"{token!r} is not a degree; write e.g. 'i', 'VI7', 'bII' or 'V7'")


def _is_numeral(text: str) -> bool:
    return text.upper() in NUMERALS and (text.isupper() or text.islower())


def _root(sign: str, degree: int, key: Key) -> int:
    # A lowered second is lowered from the major second, whatever the scale's own second is.
    if sign == "b":
        return (key.pc + SCALES["major"][degree - 1] - 1) % 12
    return (key.scale[degree - 1] + (sign == "#")) % 12


def _home(numeral: str, key: Key, token: str) -> int:
    match = re.fullmatch(r"([#b]?)([IViv]+)", numeral)
    if not match or not _is_numeral(match[2]):
        raise _no_degree(token)
    root = _root(match[1], NUMERALS.index(match[2].upper()) + 1, key)
    return (root - key.pc) % 12


def parse_progression(text: str, key: Key) -> tuple[WrittenChord, ...]:
    """Read a row of chords: degrees, numbers or names, also mixed, as in ``i VI iv7 V7``.

    Spaces, commas and dashes between two chords part them. With bar lines (``Dm9 G13 | Cmaj7``)
    the chords of a bar share it; ``%`` says the chord before once more. Raises CloudriftError that
    names every word that is no chord.
    """
    plain = re.sub(r"\s*,\s*|\s+[-–—]\s+", " ", text.strip())
    if not plain.strip("| "):
        raise CloudriftError("no chords there; type some, e.g. 'i VI iv7 V7'")
    bars = [bar.split() for bar in plain.strip("|").split("|")] if "|" in plain else []
    words = [word for bar in bars for word in bar] if bars else plain.split()
    if len(words) > MAX_CHORDS:
        raise CloudriftError(f"{len(words)} chords are more than a loop can have ({MAX_CHORDS})")
    shares: list[Fraction | None] = [None] * len(words)
    if bars:
        if not all(bars):
            raise CloudriftError("a bar between two bar lines is empty; write % to repeat a chord")
        shares = [Fraction(1, len(bar)) for bar in bars for _ in bar]
    out: list[WrittenChord] = []
    wrong: list[str] = []
    for word, share in zip(words, shares, strict=True):
        if word == "%" and out:
            chord: WrittenChord | None = out[-1]
        else:
            chord = _one(word, key)
        if chord is None:
            wrong.append(word)
        else:
            out.append(
                WrittenChord(tones=chord.tones, bass=chord.bass, bars=share, text=chord.text)
            )
    if wrong:
        raise CloudriftError(
            f"{', '.join(repr(w) for w in wrong)} {'is' if len(wrong) == 1 else 'are'} no chord; "
            "write degrees as in 'i VI7 bII', numbers as in '4 2 3', or names as in 'Dm9 G13'"
        )
    return tuple(out)


def _one(word: str, key: Key) -> WrittenChord | None:
    try:
        if _plain(word)[:1] in LETTERS:
            return parse_chord(word)
        return WrittenChord(tones=parse_degree(word, key), text=word)
    except CloudriftError:
        return None
