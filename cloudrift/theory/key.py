"""Keys: a spelled tonic and a scale."""

import functools
import re

import msgspec

from cloudrift.ground.errors import CloudriftError, did_you_mean
from cloudrift.theory.pitch import (
    FLAT_NAMES,
    LETTERS,
    SHARP_NAMES,
    accidentals,
    name_to_pc,
    pretty,
    spell_as_letter,
)

SCALES: dict[str, tuple[int, ...]] = {
    "major": (0, 2, 4, 5, 7, 9, 11),
    "minor": (0, 2, 3, 5, 7, 8, 10),
    "harmonic minor": (0, 2, 3, 5, 7, 8, 11),
    "melodic minor": (0, 2, 3, 5, 7, 9, 11),
    "ionian": (0, 2, 4, 5, 7, 9, 11),
    "dorian": (0, 2, 3, 5, 7, 9, 10),
    "phrygian": (0, 1, 3, 5, 7, 8, 10),
    "lydian": (0, 2, 4, 6, 7, 9, 11),
    "mixolydian": (0, 2, 4, 5, 7, 9, 10),
    "aeolian": (0, 2, 3, 5, 7, 8, 10),
    "locrian": (0, 1, 3, 5, 6, 8, 10),
    "phrygian dominant": (0, 1, 4, 5, 7, 8, 10),
}
# Which letter above the tonic a note outside the scale takes: the harmonic chromatic scale, with a
# lowered second and a raised fourth and seventh (C♯ in D minor is the third of its dominant).
CHROMATIC_LETTERS = (0, 1, 1, 2, 2, 3, 3, 4, 5, 5, 6, 6)
SHORT_NAMES = {"": "major", "m": "minor", "min": "minor", "maj": "major", "natural minor": "minor"}


class Key(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A key, such as F♯ minor. The tonic is spelled plainly (``F#``, ``Bb``)."""

    tonic: str = "C"
    mode: str = "minor"

    def __post_init__(self) -> None:
        if self.mode not in SCALES:
            raise CloudriftError(
                f"there is no scale called {self.mode!r}{did_you_mean(self.mode, SCALES)}"
            )
        if not re.fullmatch(r"[A-G](#|b)?", self.tonic):
            raise CloudriftError(
                f"there is no note called {self.tonic!r}; a key starts with a letter from A to G, "
                "with ♯ or ♭ if need be"
            )

    @property
    def pc(self) -> int:
        """The pitch class of the tonic."""
        return name_to_pc(self.tonic)

    @property
    def scale(self) -> tuple[int, ...]:
        """The pitch classes of the scale, from the tonic up."""
        return _scale(self.tonic, self.mode)

    @property
    def plain(self) -> str:
        """The name for files and the command line: ``F# minor``."""
        return f"{self.tonic} {self.mode}"

    @property
    def written(self) -> "Key":
        """The key as it is written: itself, or its equal where it takes more than seven signs.

        Nobody writes D♯ major, with its nine sharps: it is E♭ major.
        """
        return _written(self)

    @property
    def text(self) -> str:
        """The name for the screen: ``F♯ minor``."""
        return f"{pretty(self.written.tonic)} {self.mode}"

    @property
    def slug(self) -> str:
        """The name for file names: ``fsharp-minor``."""
        tonic = self.written.tonic.lower()
        letter, sign = tonic[0], {"#": "sharp", "b": "flat", "": ""}[tonic[1:]]
        return f"{letter}{sign}-{self.mode.replace(' ', '-')}"

    def has(self, pitch: int) -> bool:
        """Say whether a MIDI number or pitch class lies in the scale."""
        return pitch % 12 in self.scale

    def spell(self, pc: int) -> str:
        """Spell a pitch class plainly: scale notes by letter, others as in its chromatic scale."""
        return _spellings(self)[pc % 12]

    def spell_pitch(self, pitch: int) -> str:
        """Spell a MIDI number with its octave, for the screen: ``F♯4``."""
        name = self.spell(pitch % 12)
        octave = (pitch - accidentals(name)) // 12 - 1
        return f"{pretty(name)}{octave}"

    def step(self, pitch: int, steps: int) -> int:
        """Move a MIDI number by scale steps; a note outside the scale first goes to the next in."""
        direction = 1 if steps > 0 else -1
        for _ in range(abs(steps)):
            pitch += direction
            while not self.has(pitch):
                pitch += direction
        return pitch

    def shifted(self, semitones: int) -> "Key":
        """Return the key moved by semitones, spelled with the fewest accidentals.

        Where sharps and flats are equally many, the side of this key's own signature is kept.
        """
        if semitones % 12 == 0:
            return self
        pc = (self.pc + semitones) % 12
        names = {SHARP_NAMES[pc], FLAT_NAMES[pc]}
        sharp_side = self.signature >= 0
        keys = [Key(name, self.mode) for name in sorted(names)]
        return min(keys, key=lambda k: (abs(k.signature), (k.signature >= 0) != sharp_side))

    @property
    def signature(self) -> int:
        """How many accidentals its scale takes as written; sharps positive, flats negative."""
        return sum(accidentals(self.spell(pc)) for pc in self.scale)

    @property
    def signature_name(self) -> str:
        """The key signature as MIDI files name it: ``F#m``, ``Bb``, at most 7 accidentals.

        Modes take the signature of their third: what differs is written as accidentals.
        """
        minor = (self.pc + 3) % 12 in self.scale
        plain = Key(self.tonic, "minor" if minor else "major").written
        return f"{plain.tonic}{'m' if minor else ''}"


@functools.cache
def _scale(tonic: str, mode: str) -> tuple[int, ...]:
    return tuple((name_to_pc(tonic) + step) % 12 for step in SCALES[mode])


MOST_SIGNS = 7  # that a key is written with


@functools.cache
def _written(key: Key) -> Key:
    def signs(one: Key) -> int:
        start = LETTERS.index(one.tonic[0])
        return sum(
            abs(accidentals(spell_as_letter(pc, LETTERS[(start + i) % 7])))
            for i, pc in enumerate(one.scale)
        )

    if signs(key) <= MOST_SIGNS:
        return key
    return min((Key(names[key.pc], key.mode) for names in (FLAT_NAMES, SHARP_NAMES)), key=signs)


@functools.cache
def _spellings(key: Key) -> dict[int, str]:
    key = key.written
    start = LETTERS.index(key.tonic[0])
    names = {pc: spell_as_letter(pc, LETTERS[(start + i) % 7]) for i, pc in enumerate(key.scale)}
    for interval, letter in enumerate(CHROMATIC_LETTERS):
        pc = (key.pc + interval) % 12
        names.setdefault(pc, spell_as_letter(pc, LETTERS[(start + letter) % 7]))
    return names


def parse_key(text: str) -> Key:
    """Read a key such as ``F# minor``, ``B♭ major``, ``d phrygian dominant`` or ``Am``.

    Raises CloudriftError that names what is wrong.
    """
    plain = text.strip().replace("♯", "#").replace("♭", "b")
    match = re.match(r"([A-Za-z])([#b]?)\s*(.*)$", plain)
    if not match:
        raise CloudriftError(f"{text!r} is not a key; write e.g. 'F# minor'")
    letter, sign, rest = match.groups()
    if letter.upper() not in LETTERS:
        raise CloudriftError(
            f"{text!r} is not a key: there is no note called {letter!r}; letters go from A to G, "
            "as in 'F# minor'"
        )
    mode = " ".join(rest.lower().split())
    mode = SHORT_NAMES.get(mode, mode)
    if mode not in SCALES:
        raise CloudriftError(
            f"{text!r} is not a key: there is no scale called {mode!r}{did_you_mean(mode, SCALES)}"
        )
    return Key(letter.upper() + sign, mode)
