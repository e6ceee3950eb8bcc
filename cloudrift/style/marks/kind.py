"""A kind of mark: something that a style may ask of a loop, how it is measured, what meets it."""

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import number
from cloudrift.loop.model.loop import Loop
from cloudrift.style.marks.view import View
from cloudrift.theory.pitch import pretty

Group = Literal[
    "Setting", "Chords", "Layers", "Playing", "Bass", "Texture", "Sound", "Flip", "Groove", "Form"
]
GROUPS: tuple[Group, ...] = (
    "Setting", "Chords", "Layers", "Playing", "Bass", "Texture", "Sound", "Flip", "Groove", "Form",
)  # fmt: skip
COUNTED = (
    "bars", "chords", "delays", "drives", "events", "lanes", "layers", "onsets", "pairs",
    "sections", "treatments",
)  # fmt: skip  # units that have a singular
# What is asked: from so much to so much, or one of some words, the likelier first.
Asked = tuple[float, float] | tuple[str, ...]


@dataclass(frozen=True, kw_only=True)
class Found:
    """What was measured, and the evidence in words: which bars, chords or layers."""

    value: float | str
    where: str = ""


@dataclass(frozen=True, kw_only=True)
class Change:
    """An edit that would meet a mark, in few words."""

    words: str
    edit: Callable[[Loop], Loop]


@dataclass(frozen=True, kw_only=True)
class Kind:
    """A kind of mark.

    Parameters
    ----------
    about : how it is measured, in a sentence.
    unit, low, high, decimals, log : of its axis; ``low`` and ``high`` are its ends.
    words : what may be asked, where it is no number.
    measure : what is found in a loop; None where there is nothing to measure it on.
    change : an edit that would meet what is asked; None where there is no simple one.
    needs_sound : it is measured on the rendered sound.
    needs_bed : it is about the groove bed: a loop that has none is not asked.
    needs_form : it is about the arrangement: where there is none, it is not asked.
    """

    name: str
    label: str
    group: Group
    about: str
    measure: Callable[[View], Found | None]
    unit: str = ""
    low: float = 0.0
    high: float = 100.0
    decimals: int = 0
    log: bool = False
    words: tuple[str, ...] = ()
    change: Callable[[View, tuple[float, float]], Change | None] | None = None
    change_word: Callable[[View, tuple[str, ...]], Change | None] | None = None
    needs_sound: bool = False
    needs_bed: bool = False
    needs_form: bool = False

    def share(self, value: float) -> float:
        """Return where on its axis a value lies, 0 to 1."""
        low, high = self.low, self.high
        if self.log:
            low, high, value = math.log(low), math.log(high), math.log(max(value, 1e-6))
        return min(max((value - low) / (high - low), 0.0), 1.0)

    def text(self, value: float | str) -> str:
        """Write a value with its unit."""
        if isinstance(value, str):
            return pretty(value)
        written = number(value, f".{self.decimals}f")
        one = self.unit in COUNTED and float(value) == 1
        return f"{written} {self.unit.removesuffix('s') if one else self.unit}".strip()

    def asks(self, asked: Asked) -> str:
        """Write what is asked."""
        if not is_range(asked):
            return ", ".join(pretty(str(word)) for word in asked)
        low, high = (number(float(end), f".{self.decimals}f") for end in asked)
        if low == high:
            return self.text(float(asked[0]))
        return f"{low} to {high} {self.unit}".strip()

    def met(self, value: float | str, asked: Asked) -> bool:
        """Whether a value is what is asked; as near as it is written counts."""
        if isinstance(value, str):
            return value in asked
        if not is_range(asked):
            return False
        value = min(max(value, self.low), self.high)  # what lies beyond the axis is at its end
        near = 0.5 * 10**-self.decimals * (1 + 1e-9)
        return float(asked[0]) - near <= value <= float(asked[1]) + near

    def check(self, asked: object, where: str) -> Asked:
        """Return what is asked, checked; raise CloudriftError that says what may be."""
        if self.words:
            return self._checked_words(asked, where)
        if (
            not isinstance(asked, tuple)
            or len(asked) != 2
            or any(isinstance(end, (str, bool)) for end in asked)
        ):
            raise CloudriftError(f"{where}: {self.name} must be a range, [lowest, highest]")
        low, high = float(asked[0]), float(asked[1])
        if not low <= high:  # nor where one is no number
            raise CloudriftError(
                f"{where}: {self.name} asks {low:g} to {high:g}; write the smaller first"
            )
        if low > self.high or high < self.low:
            raise CloudriftError(
                f"{where}: {self.name} asks {low:g} to {high:g} {self.unit}, but the limits are "
                f"{self.low:g} to {self.high:g}"
            )
        return low, high

    def _checked_words(self, asked: object, where: str) -> tuple[str, ...]:
        if not isinstance(asked, tuple) or not asked:
            raise CloudriftError(f"{where}: {self.name} must be words, the likeliest first")
        for word in asked:
            if word not in self.words:
                raise CloudriftError(
                    f"{where}: {self.name} asks {word!r}, but may ask {', '.join(self.words)}"
                )
        return tuple(str(word) for word in asked)


def is_range(asked: Asked) -> bool:
    """Whether what is asked is a range rather than words."""
    return len(asked) == 2 and not isinstance(asked[0], str)


def to_range(value: float, asked: tuple[float, float], inside: float = 0.15) -> float:
    """Return the nearest value that is asked, a little inside of the range's end."""
    low, high = asked
    edge = inside * (high - low)
    return min(max(value, low + edge), high - edge) if low <= high else value
