"""Musical time: ticks, bars, beats, and the exact frames they last."""

from fractions import Fraction

import msgspec

TICKS_PER_QUARTER = 960  # triplets and 1/64 are whole
NOTE_VALUES: dict[str, int] = {
    "1/1": 3840, "1/2": 1920, "1/4": 960, "1/4 triplet": 640, "1/8": 480, "1/8 triplet": 320,
    "1/16": 240, "1/16 triplet": 160, "1/32": 120, "1/4 dotted": 1440, "1/8 dotted": 720,
    "1/16 dotted": 360,
}  # fmt: skip
# Several bars of 4/4, by what they are called.
LONG_VALUES: dict[str, int] = {"8 bars": 8 * 3840, "4 bars": 4 * 3840, "2 bars": 2 * 3840}


class Clock(msgspec.Struct, frozen=True, kw_only=True):
    """Turns ticks into frames for one tempo (quarter notes a minute) and one rate (frames/s)."""

    tempo: Fraction
    rate: int

    @classmethod
    def of(cls, tempo: float, rate: int) -> "Clock":
        """Make a clock; the tempo is taken as the nearest fraction with a denominator to 10 000."""
        return cls(tempo=Fraction(tempo).limit_denominator(10_000), rate=rate)

    def exact_frames(self, ticks: int) -> Fraction:
        """Return how many frames the ticks last, exactly."""
        return Fraction(ticks * 60 * self.rate, TICKS_PER_QUARTER) / self.tempo

    def frames(self, ticks: int) -> int:
        """Return how many frames the ticks last, to the nearest."""
        return round(self.exact_frames(ticks))

    def seconds(self, ticks: int) -> float:
        """Return how long the ticks last."""
        return float(self.exact_frames(ticks)) / self.rate


def bar_ticks(metre: tuple[int, int]) -> int:
    """Return the ticks of a bar of ``(beats, beat unit)``."""
    beats, unit = metre
    return beats * 4 * TICKS_PER_QUARTER // unit


def beat_ticks(metre: tuple[int, int]) -> int:
    """Return the ticks of one beat."""
    return 4 * TICKS_PER_QUARTER // metre[1]


def position_text(tick: int, metre: tuple[int, int]) -> str:
    """Write a place as ``bar.beat``, both counted from 1."""
    bar, rest = divmod(tick, bar_ticks(metre))
    return f"{bar + 1}.{rest // beat_ticks(metre) + 1}"
