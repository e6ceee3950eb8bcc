"""Chords: built from degrees, and read back from any set of voices."""

import re
from dataclasses import dataclass

from cloudrift.ground.errors import CloudriftError
from cloudrift.theory.key import SCALES, Key
from cloudrift.theory.pitch import LETTERS, accidentals, pretty

NUMERALS = ("I", "II", "III", "IV", "V", "VI", "VII")

# Intervals above the root in semitones -> what is written behind the root's name.
# Ordered from plain to rich: where two shapes fit, the plainer name wins.
QUALITIES: dict[tuple[int, ...], str] = {
    (0, 4, 7): "", (0, 3, 7): "m", (0, 3, 6): "°", (0, 4, 8): "+",
    (0, 2, 7): "sus2", (0, 5, 7): "sus4", (0, 7): "5",
    (0, 4, 7, 11): "maj7", (0, 4, 7, 10): "7", (0, 3, 7, 10): "m7",
    (0, 3, 7, 11): "m(maj7)", (0, 3, 6, 10): "m7b5", (0, 3, 6, 9): "°7",
    (0, 4, 8, 11): "maj7#5", (0, 4, 8, 10): "7#5", (0, 4, 6, 10): "7b5", (0, 4, 6, 11): "maj7b5",
    (0, 4, 7, 9): "6", (0, 3, 7, 9): "m6", (0, 5, 7, 10): "7sus4", (0, 4): "(no 5)",
    (0, 3): "m(no 5)", (0, 4, 11): "maj7(no 5)", (0, 4, 10): "7(no 5)", (0, 3, 10): "m7(no 5)",
}  # fmt: skip
PLAIN_ROOTS = {"B#": "C", "E#": "F", "Cb": "B", "Fb": "E"}
ADDED_NAMES = {1: "b9", 2: "9", 3: "#9", 4: "3", 5: "11", 6: "#11", 7: "5", 8: "b13", 9: "13",
               10: "b7", 11: "7"}  # fmt: skip


@dataclass(frozen=True)
class ChordReading:
    """How a set of voices reads: root and bass as pitch classes, plain name and degree."""

    root: int
    bass: int
    name: str
    degree: str

    @property
    def text(self) -> str:
        """The name for the screen, with ♯ and ♭."""
        return pretty(self.name)

    @property
    def degree_text(self) -> str:
        """The degree for the screen."""
        return pretty(self.degree)


def read_chord(voices: tuple[int, ...], key: Key, *, root_hint: int | None = None) -> ChordReading:
    """Name a chord from its voices.

    Parameters
    ----------
    voices : MIDI numbers, in any order, at least one.
    key : spells the names and counts the degree.
    root_hint : the pitch class that whoever wrote the chord meant as its root; it decides
        between readings that fit equally well (A C E G is Am7 or C6).
    """
    if not voices:
        raise CloudriftError("a chord without voices has no name; add a voice first")
    bass = min(voices) % 12
    pcs = frozenset(v % 12 for v in voices)
    roots = [r for r in (root_hint, bass) if r is not None and r in pcs]
    roots += [pc for pc in sorted(pcs) if pc not in roots]
    exact = {r: s for r in roots if (s := QUALITIES.get(_shape(pcs, r))) is not None}
    root = roots[0]
    if root not in exact:
        complete = [r for r in roots if "no 5" not in exact.get(r, "no 5")]
        root = complete[0] if complete else root
    suffix = exact[root] if root in exact else _suffix_with_added(pcs, root)
    name = root_name(key, root) + suffix
    if bass != root:
        name += f"/{root_name(key, bass)}"
    return ChordReading(root, bass, name, degree_name(key, root, suffix))


def root_name(key: Key, pc: int) -> str:
    """Spell a root as in the key, but C outside the scale as C and not as B♯."""
    spelled = key.spell(pc)
    return spelled if pc in key.scale else PLAIN_ROOTS.get(spelled, spelled)


def _shape(pcs: frozenset[int], root: int) -> tuple[int, ...]:
    return tuple(sorted((pc - root) % 12 for pc in pcs))


def _suffix_with_added(pcs: frozenset[int], root: int) -> str:
    """Name the largest known shape inside, and write the other notes as added ones."""
    shape = set(_shape(pcs, root))
    inside = [(len(q), -i, q) for i, q in enumerate(QUALITIES) if set(q) <= shape and 0 in q]
    if not inside:
        return f"(add {', '.join(ADDED_NAMES[i] for i in sorted(shape - {0}))})" * (len(shape) > 1)
    quality = max(inside)[2]
    added = [ADDED_NAMES[i] for i in sorted(shape - set(quality))]
    return QUALITIES[quality] + f"(add {', '.join(added)})"


def degree_name(key: Key, root: int, suffix: str) -> str:
    """Write a root as a Roman numeral of the key: lower case for minor and diminished."""
    spelled = root_name(key, root)
    steps = (LETTERS.index(spelled[0]) - LETTERS.index(key.tonic[0])) % 7
    home = key.spell(key.scale[steps])
    shift = accidentals(spelled) - accidentals(home)
    numeral = NUMERALS[steps]
    minor = (suffix.startswith("m") and not suffix.startswith("maj")) or suffix.startswith("°")
    if minor:
        numeral = numeral.lower()
        suffix = suffix[1:] if suffix.startswith("m") else suffix
    return ("#" * shift if shift > 0 else "b" * -shift) + numeral + suffix


def chord_tones(key: Key, degree: int, *, seventh: bool = False) -> tuple[int, ...]:
    """Stack every other note of the scale on a degree (1-7): 3 or 4 pitch classes, root first."""
    if not 1 <= degree <= 7:
        raise CloudriftError(f"degree {degree} does not exist; degrees go from 1 to 7")
    scale = key.scale
    return tuple(scale[(degree - 1 + 2 * i) % 7] for i in range(4 if seventh else 3))


def parse_degree(token: str, key: Key) -> tuple[int, ...]:
    """Read a degree such as ``i``, ``VI7``, ``bII``, ``V7`` or ``ii°`` into pitch classes.

    The chord is the key's own where the numeral's case agrees with it; otherwise the third is
    set to what the case says, the fifth is perfect and a seventh minor (``V7`` in minor).
    """
    plain = token.replace("♯", "#").replace("♭", "b")
    match = re.fullmatch(r"([#b]?)([IViv]+)(°|\+)?(7)?", plain)
    if (
        not match
        or match[2].upper() not in NUMERALS
        or not (match[2].isupper() or match[2].islower())
    ):
        raise CloudriftError(f"{token!r} is no degree; write one as in 'i', 'VI7', 'bII' or 'V7'")
    sign, numeral, mark, seventh = match.groups()
    degree = NUMERALS.index(numeral.upper()) + 1
    own = chord_tones(key, degree, seventh=bool(seventh))
    third, fifth = (own[1] - own[0]) % 12, (own[2] - own[0]) % 12
    if not sign and (third == 4) == numeral.isupper() and not mark:
        return own
    # A lowered second is lowered from the major second, whatever the scale's own second is.
    root = (key.pc + SCALES["major"][degree - 1] - 1) % 12 if sign == "b" else own[0]
    root = (root + 1) % 12 if sign == "#" else root
    third = 4 if numeral.isupper() else 3
    fifth = {"°": 6, "+": 8}.get(mark or "", 7)
    intervals = [0, third, fifth]
    if seventh:
        intervals.append(9 if mark == "°" else 11 if sign == "b" and third == 4 else 10)
    return tuple((root + i) % 12 for i in intervals)
