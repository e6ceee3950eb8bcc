"""The grid that hands go by in time: a note value, half of it, or none; the same in every stage."""

from collections.abc import Callable

from PyQt6.QtCore import QSignalBlocker, Qt
from PyQt6.QtWidgets import QCheckBox, QWidget

from cloudrift.desktop.kit.choice_box import ChoiceBox
from cloudrift.desktop.kit.held import held
from cloudrift.desktop.kit.layouts import FLUSH, horizontal
from cloudrift.desktop.kit.parts import label
from cloudrift.notes.time import NOTE_VALUES

CHOICES = (
    "1/1", "1/2", "1/4", "1/4 triplet", "1/8", "1/8 triplet", "1/16", "1/16 triplet", "1/32",
)  # fmt: skip
FREE_TICKS = 30  # a key press without a grid: 1/128


class Grid:
    """What is in force. ``changed`` functions are called when that is another."""

    def __init__(self, value: str = "1/8") -> None:
        self.value = value
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
        """The distance of its lines in ticks, halves taken into account; also where it is off."""
        return NOTE_VALUES[self.value] // (2 if self.half else 1)

    @property
    def step(self) -> int:
        """How far a key press goes, in ticks: a line of the grid, or a little where it is off."""
        return FREE_TICKS if self.free else self.ticks

    @property
    def text(self) -> str:
        """What is in force, in words."""
        if self.free:
            return "off: steps of 1/128"
        return f"half of {self.value}" if self.half else self.value

    def snap(self, tick: float, *, half: bool = False, free: bool = False) -> int:
        """Return the nearest place of the grid; ``half`` and ``free`` are asked for by a hand."""
        if free or self.free:
            return round(tick)
        step = self.ticks // (2 if half and not self.half else 1)
        return round(tick / step) * step


def asks_half(keys: Qt.KeyboardModifier) -> bool:
    """Whether a hand that drags in time asks for half of the grid: with Shift."""
    return held(keys).shift


def asks_free(keys: Qt.KeyboardModifier) -> bool:
    """Whether a hand that drags in time leaves the grid: with Alt."""
    return held(keys).alt


class GridChoice(QWidget):
    """The choice of a grid: value, half, free."""

    def __init__(self, grid: Grid) -> None:
        super().__init__()
        self._grid = grid
        self.value = ChoiceBox("Grid", CHOICES)
        self.value.setToolTip("The step of drags and keys in time")
        self.value.setFixedWidth(96)
        self.half = QCheckBox("half")
        self.half.setToolTip("Half the grid; Shift while dragging does the same")
        self.free = QCheckBox("free")
        self.free.setToolTip("No grid; Alt while dragging does the same. Keys then move by 1/128")
        line = horizontal(self, FLUSH, 6)
        line.addWidget(label("Grid", size=11.5, name="soft"))
        for one in (self.value, self.half, self.free):
            line.addWidget(one)
        self.value.textActivated.connect(lambda text: grid.put(value=text))
        self.half.toggled.connect(lambda on: grid.put(half=on))
        self.free.toggled.connect(lambda on: grid.put(free=on))
        grid.changed.append(self._show)
        self._show()

    def _show(self) -> None:
        with QSignalBlocker(self.half), QSignalBlocker(self.free):
            self.half.setChecked(self._grid.half)
            self.free.setChecked(self._grid.free)
        self.value.setCurrentText(self._grid.value)
