"""Reading back: the names that a set of voices can have, the plainest first.

Every note of the set is tried as the root, its intervals are spelled into a suffix, and the
spelling is weighed: what it takes to say it (altered, added and missing notes, a bass that is not
the root) against how common it is. A triad or seventh over a foreign bass is tried as well.
"""

import functools
from dataclasses import dataclass

from cloudrift.ground.errors import CloudriftError
from cloudrift.theory.key import Key
from cloudrift.theory.pitch import (
    FLAT_NAMES,
    LETTERS,
    SHARP_NAMES,
    accidentals,
    pretty,
    spell_as_letter,
)

NUMERALS = ("I", "II", "III", "IV", "V", "VI", "VII")
# Which letter above the root an interval takes when it is in the bass.
BASS_STEPS = (0, 1, 1, 2, 2, 3, 4, 4, 5, 5, 6, 6)
PLAIN_NAMES = {"F##": "G", "C##": "D", "G##": "A", "D##": "E", "A##": "B",
               "Bbb": "A", "Ebb": "D", "Abb": "G", "Dbb": "C", "Gbb": "F"}  # fmt: skip

# What each thing costs to say. The size of a step between two readings, not its unit, matters.
HINT_BONUS = 1.2  # more than an inversion: whoever wrote the chord decides among fair readings
INVERSION, TENSION_IN_BASS, FOREIGN_BASS = 0.9, 1.0, 1.25
NO_FIFTH, NO_THIRD, SUS_NO_FIFTH, SIXTH_NO_FIFTH = 0.6, 1.3, 1.2, 0.6
ADDED, ALTERED, IMPLAUSIBLE = 0.7, 0.5, 3.0
CONTRIVED = 1.0  # where another reading is a stack of thirds: more than standing on another note
MINOR_OVER_MAJOR = 0.3
ALTERNATIVE_WITHIN, SLASH_WITHIN, ALTERNATIVE_MOST = 1.2, 0.75, 1.8
MAX_ALTERNATIVES = 3
MANY_SIGNS = 6  # of a key: white keys are notes with signs in it


# Chords that are whole as they are named: stacks of thirds, with all their notes.
STACKS = frozenset(
    ("", "m", "°", "+", "7", "maj7", "m7", "m7b5", "°7", "m(maj7)", "9", "maj9", "m9", "m(maj9)",
     "add9", "m(add9)", "7b9", "7#9")
)  # fmt: skip
# Names that are as usual as those, for the same notes: these stay as they are.
USUAL = STACKS | frozenset(
    (
        "6",
        "m6",
        "6/9",
        "m6/9",
        "sus2",
        "sus4",
        "7sus4",
        "9sus4",
        "13sus4",
        "11",
        "m11",
        "13",
        "maj13",
        "m13",
        "maj7#11",
        "7#5",
        "7b5",
        "5",
        " alone",
    )
)


@dataclass(frozen=True)
class ChordReading:
    """How a set of voices reads: root and bass as pitch classes, plain name and degree.

    ``alternatives`` are other names that fit about as well, the better ones first.
    """

    root: int
    bass: int
    name: str
    degree: str
    alternatives: tuple[str, ...] = ()

    @property
    def text(self) -> str:
        """The name for the screen, with ♯ and ♭."""
        return pretty(self.name)

    @property
    def degree_text(self) -> str:
        """The degree for the screen."""
        return pretty(self.degree)


@dataclass(frozen=True)
class _Spelling:
    """A suffix and what it costs. ``tensions`` are the intervals beyond the seventh."""

    suffix: str
    cost: float
    tensions: frozenset[int] = frozenset()
    is_plain: bool = False  # a complete triad or seventh chord


def read_chord(voices: tuple[int, ...], key: Key, *, root_hint: int | None = None) -> ChordReading:
    """Name a chord from its voices.

    Parameters
    ----------
    voices : MIDI numbers, in any order, at least one.
    key : spells the names and counts the degree.
    root_hint : the pitch class that whoever wrote the chord meant as its root; it decides
        between readings that fit about equally well (A C E G is Am7 or C6).
    """
    if not voices:
        raise CloudriftError("a chord without voices has no name; add a voice first")
    return _read(frozenset(v % 12 for v in voices), min(voices) % 12, key, root_hint)


@functools.lru_cache(maxsize=4096)
def _read(pcs: frozenset[int], bass: int, key: Key, hint: int | None) -> ChordReading:
    found = [_rooted(pcs, root, bass) for root in sorted(pcs)]
    found += _over_foreign_bass(pcs, bass)
    distance = {pc: (pc - bass) % 12 for pc in pcs}
    stacked = any(its.suffix in STACKS for _, its, _, slash in found if not slash)

    def order(one: tuple[int, _Spelling, float, bool]) -> tuple[float, int]:
        root, its, cost, slash = one
        # A stack of thirds on another note of its own is what it is, however its notes could be
        # added to something else.
        cost += CONTRIVED * (stacked and its.suffix not in USUAL)
        cost += MINOR_OVER_MAJOR * (slash and its.suffix.startswith("m") and distance[root] == 8)
        return cost - HINT_BONUS * (root == hint), distance[root]

    found.sort(key=order)
    root, spelling, _, _ = found[0]
    plainest = min(cost for _, _, cost, _ in found)

    def name(root: int, spelling: _Spelling) -> str:
        slash = f"/{_bass_name(key, root, spelling.suffix, bass)}" if bass != root else ""
        return root_name(key, root, spelling.suffix) + spelling.suffix + slash

    chosen = name(root, spelling)
    others: list[str] = []
    for other, its, cost, slash in found[1:]:
        near = cost <= plainest + (SLASH_WITHIN if slash else ALTERNATIVE_WITHIN)
        if near and cost <= ALTERNATIVE_MOST:
            text = name(other, its)
            if text != chosen and text not in others:
                others.append(text)
    return ChordReading(
        root,
        bass,
        chosen,
        degree_name(key, root, spelling.suffix),
        tuple(others[:MAX_ALTERNATIVES]),
    )


def _rooted(pcs: frozenset[int], root: int, bass: int) -> tuple[int, _Spelling, float, bool]:
    spelling = spell_intervals(frozenset((pc - root) % 12 for pc in pcs))
    cost = spelling.cost
    if bass != root:
        tension = (bass - root) % 12 in spelling.tensions
        cost += TENSION_IN_BASS if tension else INVERSION
    return root, spelling, cost, False


def _over_foreign_bass(pcs: frozenset[int], bass: int) -> list[tuple[int, _Spelling, float, bool]]:
    upper = pcs - {bass}
    if len(upper) < 3:
        return []
    found = []
    for root in upper:
        spelling = spell_intervals(frozenset((pc - root) % 12 for pc in upper))
        if spelling.is_plain:
            found.append((root, spelling, spelling.cost + FOREIGN_BASS, True))
    return found


@functools.lru_cache(maxsize=4096)
def spell_intervals(intervals: frozenset[int]) -> _Spelling:
    """Spell intervals above a root (semitones, 0 among them) into what stands behind its name."""
    if intervals == {0}:
        return _Spelling(" alone", 0.0)
    third = 4 if 4 in intervals else 3 if 3 in intervals else 0
    left = set(intervals) - {0, third}
    fifth = _fifth(third, left)
    left.discard(fifth)
    if third == 3 and fifth == 6 and 9 in left and not left & {10, 11}:
        left.discard(9)
        return _finished("°7", 0.3, left, fifth, third)
    seventh = 10 if 10 in left else 11 if 11 in left else 0
    left.discard(seventh)
    if not third and left & {2, 5}:
        return _suspended(left, fifth, seventh)
    if seventh:
        return _with_seventh(third, fifth, seventh, left)
    return _without_seventh(third, fifth, left)


def _fifth(third: int, left: set[int]) -> int:
    """Which interval serves as the fifth; 0 if none does."""
    if 7 in left:
        return 7
    if 6 in left and third:
        return 6
    return 8 if 8 in left and third == 4 else 0


def _suspended(left: set[int], fifth: int, seventh: int) -> _Spelling:
    four = 5 in left
    left.discard(5 if four else 2)
    kind = "sus4" if four else "sus2"
    cost = (0.45 if four else 0.5) + (0.15 if seventh == 10 else 1.0 if seventh else 0.0)
    number = {10: "7", 11: "maj7", 0: ""}[seventh]
    tensions: set[int] = set()
    if seventh and four and 2 in left:
        left.discard(2)
        tensions.add(2)
        number, cost = number.replace("7", "9"), cost + 0.15
        if 9 in left:
            left.discard(9)
            tensions.add(9)
            number, cost = number.replace("9", "13"), cost + 0.15
    elif not seventh and 9 in left:
        left.discard(9)
        number, cost = "6", cost + 0.7
    if fifth != 7:
        cost += NO_FIFTH if {2, 9} & tensions else SUS_NO_FIFTH  # C over D is D9sus4 often enough
    items = _added(left) + ([] if fifth else ["no 5"])
    cost += (ADDED + 0.2) * len(left)
    plain = not items and not tensions and not seventh
    return _Spelling(number + kind + _brackets(items), cost, frozenset(left | tensions), plain)


def _with_seventh(third: int, fifth: int, seventh: int, left: set[int]) -> _Spelling:
    number, left, tensions = _extended(left)
    cost = 0.1 + {"7": 0.0, "9": 0.15, "11": 0.3, "13": 0.35}[number]
    altered = _altered(third, left, natural_ninth=2 in tensions)
    left -= {i for i, _ in altered}
    cost += ALTERED * len(altered)
    marks = "".join(mark for _, mark in altered)
    if third == 3:
        base, extra = _minor_seventh(fifth, seventh, number)
    elif third == 4:
        base = ("maj" if seventh == 11 else "") + number
        base += {6: "b5", 8: "#5"}.get(fifth, "")
        extra = {6: 0.8, 8: 0.6}.get(fifth, 0.0)
    else:
        base, extra = ("maj" if seventh == 11 else "") + number, NO_THIRD
    suffix, items = base + marks, _added(left)
    if not third:
        items.append("no 3")
    if not fifth:
        items.append("no 5")
        extra += NO_FIFTH
    extra += sum(IMPLAUSIBLE if i == 11 else ADDED for i in left)
    plain = not items and not altered and number == "7"
    tensions |= {i for i, _ in altered} | left
    return _Spelling(suffix + _brackets(items), cost + extra, frozenset(tensions), plain)


def _minor_seventh(fifth: int, seventh: int, number: str) -> tuple[str, float]:
    if fifth == 6:
        return (f"m{number}b5", 0.2) if seventh == 10 else (f"°(maj{number})", 1.4)
    return (f"m{number}", 0.0) if seventh == 10 else (f"m(maj{number})", 0.4)


def _extended(left: set[int]) -> tuple[str, set[int], set[int]]:
    """How high the stack goes above a seventh; 9 and 11 may be missing below a thirteenth."""
    ninth = left & {1, 2, 3}
    if 9 in left and ninth:
        taken = {9} | (left & {2, 5})
        return "13", left - taken, taken
    if 5 in left and ninth:
        taken = {5} | (left & {2})
        return "11", left - taken, taken
    if 2 in left:
        return "9", left - {2}, {2}
    return "7", set(left), set()


def _altered(third: int, left: set[int], *, natural_ninth: bool) -> list[tuple[int, str]]:
    """Altered tensions in the order they are written; beside a ninth, a lowered one is added."""
    marks = [(1, "b9")] if 1 in left and not natural_ninth else []
    if 3 in left and third == 4 and not natural_ninth:
        marks.append((3, "#9"))
    if 6 in left:
        marks.append((6, "#11"))
    if 8 in left:
        marks.append((8, "b13"))
    return marks


def _without_seventh(third: int, fifth: int, left: set[int]) -> _Spelling:
    if not third:
        if fifth == 7 and not left:
            return _Spelling("5", 0.3)
        sixth = 9 in left
        left.discard(9)
        items = [*_added(left), "no 3"] + ([] if fifth else ["no 5"])
        cost = NO_THIRD + (ADDED + 0.4) * len(left) + 0.35 * sixth + NO_FIFTH * (not fifth)
        return _Spelling(("6" if sixth else "") + _brackets(items), cost, frozenset(left))
    minor = "m" if third == 3 else ""
    if 9 in left and fifth in (0, 7):
        left.discard(9)
        nine = 2 in left
        left.discard(2)
        cost = 0.35 + 0.05 * (third == 3) + 0.15 * nine + SIXTH_NO_FIFTH * (not fifth)
        return _finished(
            minor + ("6/9" if nine else "6"),
            cost,
            left,
            fifth,
            third,
            frozenset({2} if nine else ()),
        )
    if fifth == 6:
        base, cost = ("°", 0.4) if third == 3 else ("(b5)", 2.0)
    elif fifth == 8:
        base, cost = "+", 0.4
    else:
        base, cost = minor, 0.0
    if third == 3 and not fifth and 8 in left:
        cost += IMPLAUSIBLE
    return _finished(base, cost, left, fifth, third)


def _finished(
    base: str,
    cost: float,
    left: set[int],
    fifth: int,
    third: int,
    tensions: frozenset[int] = frozenset(),
) -> _Spelling:
    """Add what is left to a chord without a written seventh, and say what is missing."""
    items = _added(left, major=third == 4)
    cost += sum(ADDED + 0.2 * (i not in (2, 5)) + 0.4 * (i in (1, 8)) for i in left)
    if not fifth:
        items.append("no 5")
        cost += NO_FIFTH
    plain = not items and base in ("", "m", "°", "+", "°7")
    tail = items[0] if base == "" and len(items) == 1 and fifth else _brackets(items)
    return _Spelling(base + tail, cost, frozenset(left) | tensions, plain)


ADDED_NAMES = {1: "b9", 2: "9", 3: "#9", 5: "11", 6: "#11", 8: "b13", 9: "13", 10: "b7", 11: "7"}


def _added(left: set[int], *, major: bool = False) -> list[str]:
    return [f"add{ADDED_NAMES[i]}" for i in sorted(left, key=lambda i: (i in (8, 9, 10, 11), i))]


def _brackets(items: list[str]) -> str:
    return f"({', '.join(items)})" if items else ""


def root_name(key: Key, pc: int, suffix: str = "") -> str:
    """Spell a root as in the key; outside the scale, so that the chord has few accidentals.

    The third step above A minor's tonic is the root of E♭ major, but of D♯ diminished, which
    leads to E.
    """
    spelled = key.spell(pc)
    if pc in key.scale or suffix.startswith("°"):
        return spelled
    if abs(key.signature) >= MANY_SIGNS and abs(accidentals(spelled)) == 1:
        return spelled  # beside C♭ its neighbour is F♭, not E
    third = 3 if _is_minor(suffix) else 4

    side = (key.signature > 0) - (key.signature < 0)

    def effort(name: str) -> float:
        letter = LETTERS.index(name[0])
        above = [(third, 2), (7, 4)]
        tones = [spell_as_letter((pc + i) % 12, LETTERS[(letter + s) % 7]) for i, s in above]
        # One accidental more is no price for staying on the key's own side.
        return sum(abs(accidentals(tone)) for tone in (name, *tones)) - 0.9 * side * accidentals(
            name
        )

    names = (spelled, SHARP_NAMES[pc], FLAT_NAMES[pc])
    return min(names, key=effort)


def _bass_name(key: Key, root: int, suffix: str, bass: int) -> str:
    """Spell the bass as the part that it plays in the chord: C♯7 stands on E♯, not on F."""
    interval = (bass - root) % 12
    steps = BASS_STEPS[interval]
    if interval == 9 and suffix.startswith("°7"):
        steps = 6
    if interval == 8 and suffix.startswith("+"):
        return key.spell(bass)  # its raised fifth is as often another's root
    home = root_name(key, root, suffix)
    letter = LETTERS[(LETTERS.index(home[0]) + steps) % 7]
    spelled = spell_as_letter(bass, letter)
    return spelled if abs(accidentals(spelled)) < 2 else PLAIN_NAMES.get(spelled, key.spell(bass))


def _is_minor(suffix: str) -> bool:
    return (suffix.startswith("m") and not suffix.startswith("maj")) or suffix.startswith("°")


def degree_name(key: Key, root: int, suffix: str) -> str:
    """Write a root as a Roman numeral of the key: lower case for minor and diminished."""
    key = key.written
    spelled = root_name(key, root, suffix)
    if spelled[0] == key.tonic[0] and root != key.pc:
        spelled = key.spell(root)  # no degree is a lowered or raised first
    steps = (LETTERS.index(spelled[0]) - LETTERS.index(key.tonic[0])) % 7
    home = key.spell(key.scale[steps])
    shift = accidentals(spelled) - accidentals(home)
    numeral = NUMERALS[steps]
    if _is_minor(suffix):
        numeral = numeral.lower()
        suffix = suffix[1:] if suffix.startswith("m") else suffix
    return ("#" * shift if shift > 0 else "b" * -shift) + numeral + suffix
