"""A box of choices that is content with little width; what is cut is in its tip."""

from collections.abc import Iterable

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QPaintEvent
from PyQt6.QtWidgets import QComboBox, QStyle, QStyleOptionComboBox, QStylePainter

LETTERS = 5  # that it is at least to show


class ChoiceBox(QComboBox):
    """``name`` is for screen readers."""

    def __init__(self, name: str = "", items: Iterable[str] = ()) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.setMinimumContentsLength(LETTERS)
        self.addItems(list(items))

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """As Qt does, but with dots where the words are cut."""
        painter, option = QStylePainter(self), QStyleOptionComboBox()
        self.initStyleOption(option)
        style = self.style()
        assert style is not None
        room = style.subControlRect(
            QStyle.ComplexControl.CC_ComboBox, option, QStyle.SubControl.SC_ComboBoxEditField, self
        )
        option.currentText = self.fontMetrics().elidedText(
            option.currentText, Qt.TextElideMode.ElideRight, room.width() - 2
        )
        painter.drawComplexControl(QStyle.ComplexControl.CC_ComboBox, option)
        painter.drawControl(QStyle.ControlElement.CE_ComboBoxLabel, option)
