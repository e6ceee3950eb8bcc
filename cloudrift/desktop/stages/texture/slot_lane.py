"""The slots of a step effect as a lane: what each does is drawn, pressed on and dragged along."""

from collections.abc import Mapping, Sequence

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QWheelEvent

from cloudrift.desktop.kit.held import held
from cloudrift.desktop.kit.keyed import Keyed
from cloudrift.desktop.kit.look import MEDIUM, color, text_font
from cloudrift.ground.settings import Field, Value
from cloudrift.texture.kinds.slots import shape_of

HIGH_PX, WORDS_PX, POINTS = 46, 17, 48


class SlotLane(Keyed):
    """Fields of the same choices beside each other. ``edited`` carries a field's name and value."""

    edited = pyqtSignal(str, object)
    settled = pyqtSignal()

    def __init__(self, fields: Sequence[Field], role: str, width: int) -> None:
        super().__init__()
        self._fields, self._role = tuple(fields), role
        self._values = [str(field.default) for field in fields]
        self.at = 0
        self._along = ""  # what is dragged over further slots
        self.setFixedSize(width, HIGH_PX + WORDS_PX)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setToolTip(
            "Click a slot for its next value, Shift-click for the previous one, and drag along to "
            "set others alike. Keys: arrows"
        )
        self._name_for_readers()

    def show_values(self, values: Mapping[str, Value]) -> None:
        """Show what each slot does."""
        self._values = [str(values[field.name]) for field in self._fields]
        self._name_for_readers()
        self.update()

    def _name_for_readers(self) -> None:
        self.setAccessibleName(f"{self._fields[self.at].label}: {self._values[self.at]}")

    def box(self, at: int) -> QRectF:
        """Return where a slot lies."""
        wide = self.width() / len(self._fields)
        return QRectF(at * wide, 0, wide, HIGH_PX).adjusted(1, 1, -1, -1)

    def _step(self, by: int) -> None:
        """Let the chosen slot do what comes next among the choices, round and round."""
        choices = self._fields[self.at].choices
        now = choices.index(self._values[self.at])
        self._put(self.at, choices[(now + by) % len(choices)])

    def _put(self, at: int, value: str) -> None:
        if self._values[at] != value:
            self._values[at] = value
            self.edited.emit(self._fields[at].name, value)
        self._name_for_readers()
        self.update()

    def _slot_at(self, x: float) -> int:
        return min(max(int(x / self.width() * len(self._fields)), 0), len(self._fields) - 1)

    # --- hands --------------------------------------------------------------------------------

    def sizeHint(self) -> QSize:
        return self.size()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if event.button() == Qt.MouseButton.LeftButton:
            self.at = self._slot_at(event.position().x())
            self._step(-1 if held(event).shift else 1)
            self._along = self._values[self.at]

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        at = self._slot_at(event.position().x())
        if self._along and at != self.at:
            self.at = at
            self._put(at, self._along)

    def mouseReleaseEvent(self, _event: QMouseEvent | None) -> None:
        self._along = ""
        self.settled.emit()

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        assert event is not None
        if not self.hasFocus():
            event.ignore()  # the page scrolls
            return
        self._step(-1 if event.angleDelta().y() > 0 else 1)
        self.settled.emit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        key = Qt.Key(event.key())
        if any(held(event)) or key not in KEYS:
            super().keyPressEvent(event)
            return
        along, by = KEYS[key]
        self.at = min(max(self.at + along, 0), len(self._fields) - 1)
        if by:
            self._step(by)
            self.settled.emit()
        self._name_for_readers()
        self.update()

    def owns(self, event: QKeyEvent) -> bool:
        """Arrows choose and change slots here, whatever they do elsewhere."""
        return Qt.Key(event.key()) in KEYS

    # --- painting -----------------------------------------------------------------------------

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for at, value in enumerate(self._values):
            box = self.box(at)
            chosen = self.hasFocus() and at == self.at
            painter.setPen(QPen(color("focus" if chosen else "line"), 2 if chosen else 1))
            painter.setBrush(color("card"))
            painter.drawRoundedRect(box, 4, 4)
            self._paint_shape(painter, box.adjusted(4, 5, -4, -5), value)
        painter.setPen(color("ink_soft"))
        painter.setFont(text_font(11, MEDIUM))
        where = QRectF(2, HIGH_PX, self.width() - 4, WORDS_PX)
        words = f"{self._fields[self.at].label}: {self._values[self.at]}"
        painter.drawText(where, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom, words)

    def _paint_shape(self, painter: QPainter, box: QRectF, value: str) -> None:
        """What becomes of a blow that dies away, over the slot."""
        level, high = shape_of(value, POINTS)
        middle = box.center().y()
        xs = box.left() + np.arange(POINTS) / (POINTS - 1) * box.width()
        half = np.maximum(level * high * box.height() / 2, 0.6)
        above = [QPointF(x, middle - y) for x, y in zip(xs, half, strict=True)]
        below = [QPointF(x, middle + y) for x, y in zip(xs, half, strict=True)]
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(color(self._role, 0.9))
        painter.drawPolygon(QPolygonF([*above, *reversed(below)]))


KEYS = {
    Qt.Key.Key_Left: (-1, 0),
    Qt.Key.Key_Right: (1, 0),
    Qt.Key.Key_Up: (0, -1),
    Qt.Key.Key_Down: (0, 1),
}
