"""Lenses and touches as described settings: what a field shows of them, and what is kept of it.

Limits are those of ``Lens`` and ``Touch``; a share is shown in %.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from cloudrift.ground.settings import Field, Value
from cloudrift.notes import lens as lenses
from cloudrift.notes import touch as touches
from cloudrift.notes.lens import DOUBLES, MAX_VOICES, ORDERS, Lens
from cloudrift.notes.note import HIGHEST, LOWEST
from cloudrift.notes.time import NOTE_VALUES
from cloudrift.theory.key import Key


@dataclass(frozen=True)
class Described:
    """A setting of a lens or a touch: its field, and how a loop keeps what that shows.

    ``words`` are the choices by what is kept; without them a number is kept as it is shown, as a
    ``whole`` one, or as a share of 1 where the field is in %.
    """

    field: Field
    words: Mapping[Any, str] | None = None
    whole: bool = False

    @property
    def name(self) -> str:
        """What it is called in a lens or a touch."""
        return self.field.name

    def shown(self, value: Any) -> Value:
        """Return what the field shows of a value that is kept."""
        if self.words is not None:
            return self.words.get(value, self.field.default)
        if isinstance(value, str):
            return value
        return float(round(value * 100, 1)) if self.field.unit == "%" else float(value)

    def kept(self, value: Value) -> Any:
        """Return what is kept of what the field shows."""
        if self.words is not None:
            return next(kept for kept, word in self.words.items() if word == value)
        if isinstance(value, str):
            return value
        if self.field.unit == "%":
            return value / 100
        return round(value) if self.whole else value


def _number(
    of: Mapping[str, tuple[float, float]],
    name: str,
    label: str,
    default: float,
    unit: str,
    *,
    hint: str = "",
    off_low: bool = False,
) -> Described:
    low, high = of[name]
    times = 100 if unit == "%" else 1
    field = Field(
        name=name,
        label=label,
        default=default,
        unit=unit,
        low=low * times,
        high=high * times,
        off_low=off_low,
        hint=hint,
    )
    return Described(field, whole=unit not in ("%", "ms"))


def _choice(
    name: str, label: str, words: Mapping[Any, str], default: Any, hint: str = ""
) -> Described:
    field = Field(
        name=name, label=label, default=words[default], choices=tuple(words.values()), hint=hint
    )
    return Described(field, words)


def _same(words: tuple[str, ...]) -> dict[str, str]:
    return {word: word for word in words}


# --- touch ----------------------------------------------------------------------------------------

_T = touches.LIMITS
ROLL = _number(_T, "roll_ms", "Roll", 0, "ms", hint="from a chord's first note to its last")
DIRECTION = _choice("direction", "Direction", _same(("up", "down")), "up")
TOP = _choice(
    "top",
    "Rolled notes, from the top",
    {0: "all"} | {n: str(n) for n in range(1, int(_T["top"][1]) + 1)},
    0,
)
UNEVEN = _number(_T, "uneven", "Uneven roll", 0, "%")
DRIFT = _number(_T, "drift_ms", "Timing drift, ±", 0, "ms")
VELOCITY = _number(_T, "velocity", "Velocity", 84, "vel")
SPREAD = _number(_T, "spread", "Velocity spread, ±", 0, "vel")
LENGTH = _number(_T, "length", "Length", 100, "%")
TOUCH = (ROLL, DIRECTION, UNEVEN, DRIFT, VELOCITY, SPREAD, LENGTH)
CHORD_TOUCH = (ROLL, DIRECTION, TOP, UNEVEN, DRIFT, SPREAD, LENGTH)


# --- lens -----------------------------------------------------------------------------------------

STEPS = {ticks: name for name, ticks in NOTE_VALUES.items() if ticks <= 1920}
EIGHTH = NOTE_VALUES["1/8"]
_PLAIN = Key("C", "major")
NOTES = {pitch: _PLAIN.spell_pitch(pitch) for pitch in range(LOWEST, HIGHEST + 1)}
FROM_BAR = {"none": (), "every 2nd": (2, 1), "every 4th": (4, 3), "the last": (0, -1)}
CHOSEN = "chosen ones"
# Bars that a layer plays in: that many of every so many, from which on (from 0).
PLACES_IN = {
    "every bar": (1, 1, 0),
    "every 2nd bar": (1, 2, 1),
    "bars 1, 3, 5 …": (1, 2, 0),
    "every 4th bar": (1, 4, 3),
    "the first half": (-1, 2, 0),
    "the second half": (-1, 2, 1),
}
CHOSEN_PLACES = "chosen places"
_L = lenses.LIMITS
STEP = _choice("step_ticks", "Step", STEPS, EIGHTH)
GATE = _number(_L, "gate", "Gate", 80, "%")
# Whose words stand for something else in loops of another length.
PLACES = Described(
    Field(
        name="where",
        label="Plays in",
        default="every bar",
        choices=(*PLACES_IN, CHOSEN_PLACES),
        hint="drag over the strip above the notes to choose where",
    )
)
LATE = Described(
    Field(
        name="late_bars",
        label="Late bars",
        default="none",
        choices=(*FROM_BAR, CHOSEN),
        hint="bars that start late; double-click the strip above the notes for single bars",
    )
)
VOICES = Described(Field(name="voices", label="From the top", default=MAX_VOICES, unit="voices",
                         low=1, high=MAX_VOICES), whole=True)  # fmt: skip
LENS: dict[str, tuple[Described, ...]] = {
    "voices": (VOICES,),
    "bass": (
        _choice("skip_bass", "Bass", {False: "with the bass", True: "without the bass"}, False),
    ),
    "arpeggio": (
        _choice("order", "Order", _same(ORDERS), "up"),
        STEP,
        _number(_L, "octaves", "Octaves", 1, "oct"),
        GATE,
    ),
    "line": (
        STEP,
        _number(_L, "leaps", "Leaps", 15, "%",
                hint="how often it leaps to a chord tone instead of moving by step"),
        _choice("answers", "Plays",
                {False: "throughout", True: "after the middle of a chord"}, False),
        GATE,
        Described(Field(name="variation", label="Variation", default=1, unit="№", low=1, high=999),
                  whole=True),
    ),
    "more": (
        _number(_L, "scale_steps", "In the scale", 0, "steps"),
        _number(_L, "octave", "Octave", 0, "oct"),
        _choice("low", "Lowest note", NOTES, LOWEST),
        _choice("high", "Highest note", NOTES, HIGHEST),
        _choice("double", "Doubling", _same(DOUBLES), "off"),
        _number(_L, "drop_every", "Leave out 1 of", 0, "notes", off_low=True),
        PLACES,
        LATE,
        _choice("late_ticks", "Late by", STEPS, EIGHTH),
    ),
}  # fmt: skip
LENS_SHOWS = {
    "all": ("bass", "voices", "more"),
    "top": ("voices", "more"),
    "inner": ("more",),
    "bass": ("more",),
    "roots": ("more",),
    "held": ("bass", "voices", "more"),
    "arpeggio": ("bass", "voices", "arpeggio", "more"),
    "line": ("line", "more"),
}


def of_lens(kind: str) -> tuple[Described, ...]:
    """Return what can be set of a lens of a kind, in the order that it is shown."""
    return tuple(one for group in LENS_SHOWS[kind] for one in LENS[group])


def lens_shown(lens: Lens, one: Described, bars: int, bar_ticks: int) -> Value:
    """Return what a field shows of a lens, in a loop of that many bars."""
    if one is LATE:
        return late_choice(lens.late_bars, bars)
    if one is PLACES:
        return places_choice(lens.where, bars, bar_ticks)
    return one.shown(lens.most_voices if one is VOICES else getattr(lens, one.name))


def lens_kept(one: Described, value: Value, bars: int, bar_ticks: int) -> Any:
    """Return what a lens keeps of what a field shows, in a loop of that many bars."""
    if one is LATE:
        return late_bars(str(value), bars)
    if one is PLACES:
        return places_in(str(value), bars, bar_ticks)
    return one.kept(value)


def late_bars(choice: str, bars: int) -> tuple[int, ...]:
    """Return the bars (from 0) that a choice stands for in a loop of that many."""
    pair = FROM_BAR.get(choice, ())
    if not pair:
        return ()
    every, first = pair
    return tuple(range(first, bars, every)) if every else (bars - 1,)


def late_choice(late: tuple[int, ...], bars: int) -> str:
    """Return the choice that stands for some late bars."""
    return next((c for c in FROM_BAR if late_bars(c, bars) == late), CHOSEN)


def places_in(choice: str, bars: int, bar_ticks: int) -> tuple[tuple[int, int], ...]:
    """Return the stretches of ticks that a choice of places stands for; none is everywhere."""
    count, every, first = PLACES_IN[choice]
    if count < 0:  # of the loop, not of bars
        half = bars * bar_ticks // 2
        return ((first * half, (first + 1) * half),)
    if every == 1:
        return ()
    starts = range(first, bars, every)
    return tuple((bar * bar_ticks, (bar + 1) * bar_ticks) for bar in starts)


def places_choice(where: tuple[tuple[int, int], ...], bars: int, bar_ticks: int) -> str:
    """Return the choice that stands for some stretches."""
    return next((c for c in PLACES_IN if places_in(c, bars, bar_ticks) == where), CHOSEN_PLACES)
