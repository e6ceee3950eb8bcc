"""What find harsh has found, and the notch that it offers."""

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QWidget

from cloudrift.desktop.kit.layouts import fill, horizontal
from cloudrift.desktop.kit.parts import button, label, small_button
from cloudrift.texture.kinds.resonances import Harsh


class HarshLine(QWidget):
    """One line of words; ``notch_wanted`` carries what was found."""

    notch_wanted = pyqtSignal(object)  # Harsh

    def __init__(self) -> None:
        super().__init__()
        row = horizontal(self, (0, 0, 8, 0), 8)
        self._found: Harsh | None = None
        self.words = label("", size=12, wrap=True)
        self.notch = button(
            "Add a notch there", self._want, tip="An equaliser at the end of the line"
        )
        fill(row, (self.words, 1), self.notch, small_button("close", self.hide))
        self.hide()

    def show_looking(self) -> None:
        """Say that it is being looked for."""
        self.words.setText("Finding narrow resonances between 1 and 9 kHz…")
        self.notch.hide()
        self.show()

    def show_found(self, found: Harsh | None) -> None:
        """Say what was found."""
        self._found = found
        self.notch.setVisible(found is not None)
        nothing = "No resonance of 6 dB or more between 1 and 9 kHz."
        self.words.setText(found.says if found else nothing)

    def _want(self) -> None:
        if self._found is not None:
            self.notch_wanted.emit(self._found)
        self.hide()
