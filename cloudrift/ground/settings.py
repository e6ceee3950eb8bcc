"""Described settings: names, units, ranges and defaults, said once for files, fields and sound.

A sound or a treatment describes its settings as a ``SettingsSpec``. A document keeps only what
differs from the defaults, as a sorted tuple of pairs, so that it is hashable and small.
"""

import contextlib
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Literal

import msgspec

from cloudrift.ground.errors import CloudriftError, did_you_mean
from cloudrift.ground.words import nth, number

Value = float | str
Settings = tuple[tuple[str, Value], ...]


_TYPED = re.compile(r"([+-]?\d*\.?\d+)\s*(\S*)")


class Field(msgspec.Struct, frozen=True, kw_only=True):
    """One setting. A number has a unit and a range; a choice has the words to choose from."""

    name: str
    label: str
    default: Value
    unit: str = ""
    low: float = 0.0
    high: float = 1.0
    step: float = 1.0
    log: bool = False  # frequencies and times are felt in ratios
    off_low: bool = False  # the lowest value reads as "off"
    off_high: bool = False
    choices: tuple[str, ...] = ()
    hint: str = ""
    part: str = ""  # the heading that it stands under, where there are many
    follows: Literal["", "tempo", "key"] = ""  # what it follows where a line is laid again
    rides: bool = True  # whether it may change over the loop
    ride_step: float = 1 / 20  # of its scale: how fine its way is cut where it does

    def checked(self, value: object, where: str) -> Value:
        """Return the value if it is allowed; raise CloudriftError naming place and range."""
        if self.choices:
            if value not in self.choices:
                raise CloudriftError(
                    f"{where}: {self.name} is {value!r}, but must be one of "
                    f"{', '.join(self.choices)}"
                )
            return str(value)
        if isinstance(value, bool) or not isinstance(value, int | float):
            raise CloudriftError(f"{where}: {self.name} must be a number, not {value!r}")
        if not self.low <= value <= self.high:
            raise CloudriftError(
                f"{where}: {self.name} is {value:g}{self._unit}, but must lie between "
                f"{self.low:g} and {self.high:g}{self._unit}"
            )
        return float(value)

    @property
    def _unit(self) -> str:
        return f" {self.unit}" if self.unit else ""

    def to_share(self, value: float) -> float:
        """Map a value to 0..1 along the field's own scale; 0 where its ends are one."""
        if self.high == self.low:
            return 0.0
        if self.log:
            low, high = max(self.low, 1e-6), self.high
            return _log_share(max(value, low), low, high)
        return (value - self.low) / (self.high - self.low)

    def from_share(self, share: float) -> float:
        """Map 0..1 back to a value on the field's step."""
        share = min(max(share, 0.0), 1.0)
        if self.log:
            low, high = max(self.low, 1e-6), self.high
            value = low * (high / low) ** share
        else:
            value = self.low + share * (self.high - self.low)
        return self.clipped(round(value / self.step) * self.step)

    def clipped(self, value: float) -> float:
        """Bring a number into the range."""
        return float(min(max(value, self.low), self.high))

    def text(self, value: Value) -> str:
        """Write a value with its unit, as a composer reads it."""
        if isinstance(value, str):
            return value
        if (self.off_low and value <= self.low) or (self.off_high and value >= self.high):
            return "off"
        return self._number_text(value)

    def read(self, text: str) -> Value | None:
        """Read what is typed: ``380``, ``1.2 kHz``, ``4 s``, ``off``, or how a choice begins.

        It is brought into the range; None for what is no value. What ``text`` writes is read back.
        """
        plain = text.strip().lower()
        if self.choices:
            begun = [c for c in self.choices if plain and c.lower().startswith(plain)]
            return min(
                begun, key=lambda c: (c.lower() != plain, self.choices.index(c)), default=None
            )
        plain = plain.removeprefix("№").lstrip().replace("−", "-").replace(",", ".")
        if plain == "off" and (self.off_low or self.off_high):
            return self.low if self.off_low else self.high
        found = _TYPED.match(plain)
        if found is None:
            return None
        value, unit = float(found[1]), found[2]
        thousands = (unit.startswith("k") and self.unit == "Hz") or (
            unit == "s" and self.unit == "ms"
        )
        return self.clipped(value * 1000 if thousands else value)

    def _number_text(self, value: float) -> str:
        if self.unit == "Hz" and value >= 1000:
            return hz_text(value)
        if self.unit == "ms" and value >= 1000:
            return f"{value / 1000:.3g} s"
        if self.unit.startswith("th"):  # every so manyth of something
            return f"{nth(round(value))}{self.unit[2:]}"
        if self.unit == "№":
            return f"№ {value:.0f}"
        decimals = 0 if self.step >= 1 else 1 if self.step >= 0.1 else 2
        sign = "+" if self.low < 0 < value and self.unit in ("st", "dB", "cents", "%") else ""
        return f"{sign}{number(value, f'.{decimals}f')}{self._unit}"


def percent(
    name: str, label: str, default: float, hint: str = "", *, low: float = 0, high: float = 100
) -> Field:
    """Return a setting in percent."""
    return Field(name=name, label=label, default=default, unit="%", low=low, high=high, hint=hint)


def hz_text(hz: float) -> str:
    """Write a frequency with its unit, to three figures."""
    return f"{hz / 1000:.3g} kHz" if hz >= 1000 else f"{hz:.0f} Hz"


def _log_share(value: float, low: float, high: float) -> float:
    import math  # noqa: PLC0415 - one use, kept beside it

    return math.log(value / low) / math.log(high / low)


@dataclass(frozen=True)
class SettingsSpec:
    """All settings of one kind of sound or treatment, in the order they are shown."""

    fields: tuple[Field, ...]
    _by_name: dict[str, Field] = field(init=False, repr=False, compare=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "_by_name", {f.name: f for f in self.fields})

    def __iter__(self) -> Iterator[Field]:
        return iter(self.fields)

    def __getitem__(self, name: str) -> Field:
        return self._by_name[name]

    def check(self, settings: Mapping[str, object] | Settings, where: str) -> Settings:
        """Return the settings that differ from the defaults, sorted; raise on a bad one."""
        pairs = settings.items() if isinstance(settings, Mapping) else settings
        kept: dict[str, Value] = {}
        for name, value in pairs:
            if name not in self._by_name:
                raise CloudriftError(
                    f"{where}: there is no setting called "
                    f"{name!r}{did_you_mean(name, self._by_name)}"
                )
            checked = self._by_name[name].checked(value, where)
            if checked != self._by_name[name].default:
                kept[name] = checked
        return tuple(sorted(kept.items()))

    def what_is_left(self, settings: Settings) -> Settings:
        """Return those of some settings that it has, with values that it allows."""
        kept: Settings = ()
        for name, value in settings:
            with contextlib.suppress(CloudriftError):
                kept = (*kept, *self.check(((name, value),), ""))
        return tuple(sorted(kept))

    def full(self, settings: Settings) -> "ResolvedSettings":
        """Return every setting by name, defaults filled in."""
        return ResolvedSettings({f.name: f.default for f in self.fields} | dict(settings))


class ResolvedSettings(dict[str, Value]):
    """All settings of one thing, with typed look-ups."""

    def number(self, name: str) -> float:
        """Return a number; a choice under that name is a programming error."""
        value = self[name]
        assert not isinstance(value, str), name
        return value

    def word(self, name: str) -> str:
        """Return a choice."""
        return str(self[name])
