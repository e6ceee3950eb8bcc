"""The grid that chords are dragged on: a note value, half of it, or none."""

from collections.abc import Callable

from cloudrift.notes.time import NOTE_VALUES

CHOICES = ("1/1", "1/2", "1/4", "1/8", "1/16", "1/32")


class Grid:
    """One for the whole stage. ``changed`` functions are called when another value is chosen."""

    def __init__(self) -> None:
        self.value = "1/8"
        self.half = False
        self.free = False
        self.changed: list[Callable[[], None]] = []

    def put(
        self, *, value: str | None = None, half: bool | None = None, free: bool | None = None
    ) -> None:
        """Choose another value, half steps, or none."""
        self.value = self.value if value is None else value
        self.half = self.half if half is None else half
        self.free = self.free if free is None else free
        for tell in self.changed:
            tell()

    @property
    def ticks(self) -> int:
        """The step in ticks, halves taken into account."""
        return NOTE_VALUES[self.value] // (2 if self.half else 1)

    @property
    def text(self) -> str:
        """What is in force, in words."""
        if self.free:
            return "free"
        return f"half of {self.value}" if self.half else self.value

    def snap(self, tick: float, *, half: bool = False, free: bool = False) -> int:
        """Return the nearest place of the grid; ``half`` and ``free`` are asked for by a hand."""
        if free or self.free:
            return round(tick)
        step = self.ticks // (2 if half and not self.half else 1)
        return round(tick / step) * step
