"""A range as two fields beside each other: from so much to so much."""

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QWidget

from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.layouts import FLUSH, horizontal
from cloudrift.desktop.kit.parts import label
from cloudrift.ground.settings import Field
from cloudrift.ground.words import number

NAME_PX, FIELD_PX = 190, 150


def field_of(name: str, unit: str, low: float, high: float, step: float, *, log: bool) -> Field:
    """Return how one end of a range is set."""
    return Field(
        name="end", label=name, default=low, unit=unit, low=low, high=high, step=step, log=log
    )


class RangeField(QWidget):
    """``edited`` carries both ends when one has settled; the lower is never above the higher."""

    edited = pyqtSignal(float, float)

    def __init__(
        self, name: str, unit: str, low: float, high: float, decimals: int = 0, *, log: bool = False
    ) -> None:
        super().__init__()
        step = 10.0**-decimals
        log = log and low > 0
        self.low = FieldWidget(field_of("from", unit, low, high, step, log=log), low)
        self.high = FieldWidget(field_of("to", unit, low, high, step, log=log), high)
        row = horizontal(self, FLUSH, 6)
        says = label(name, size=12)
        says.setFixedWidth(NAME_PX)
        row.addWidget(says)
        for one, what in ((self.low, "from"), (self.high, "to")):
            one.setFixedWidth(FIELD_PX)
            one.setAccessibleName(f"{name}, {what}")
            one.settled.connect(self._settled)
            row.addWidget(one)
        row.addStretch(1)
        self._name, self._unit, self._decimals = name, unit, decimals

    def show_range(self, low: float, high: float) -> None:
        """Show both ends."""
        self.low.set_value(low)
        self.high.set_value(high)
        text = f"{number(low, f'.{self._decimals}f')} to {number(high, f'.{self._decimals}f')}"
        self.setAccessibleName(f"{self._name}: {text} {self._unit}")

    def _settled(self) -> None:
        low, high = float(self.low.value), float(self.high.value)
        moved = self.sender()
        if low > high:  # the one that is moved takes the other along
            low, high = (low, low) if moved is self.low else (high, high)
        self.edited.emit(round(low, self._decimals), round(high, self._decimals))
