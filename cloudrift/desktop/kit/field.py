"""The field: a named value with its unit and a fill line under it.

Drag it, scroll it, type into it, nudge it with the arrow keys (Shift is fine), double-click for
the default. Reachable by Tab and named for screen readers.
"""

import functools
import math

from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QContextMenuEvent,
    QFocusEvent,
    QFontMetricsF,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
    QWheelEvent,
)
from PyQt6.QtWidgets import QLineEdit, QMenu, QSizePolicy, QWidget

from cloudrift.desktop.kit.held import held
from cloudrift.desktop.kit.look import MEDIUM, SEMI, color, figure_font, text_font
from cloudrift.ground.settings import Field, Value

DRAG_PX = 200  # a drag of this many pixels runs through the whole range
FINE = 0.1
SMALLEST_PX = 10.0  # of the words of a choice
NUDGES = 50  # arrow keys take a fiftieth of the range, Shift a step


@functools.cache
def _least_px(label: str, texts: tuple[str, ...], *, stacked: bool, words: bool) -> int:
    """How wide a field has to be for its name and any of these values."""
    name = QFontMetricsF(text_font(11.5)).horizontalAdvance(label)
    font = text_font(SMALLEST_PX, SEMI) if words else figure_font(12, MEDIUM)
    value = max(QFontMetricsF(font).horizontalAdvance(text) for text in texts)
    return math.ceil(16 + (max(name, value) if stacked else name + 8 + value))


class FieldWidget(QWidget):
    """A field for one setting. ``edited`` carries the value while it moves, ``settled`` its end."""

    edited = pyqtSignal(object)  # float or str
    settled = pyqtSignal()
    ride_wanted = pyqtSignal(bool)  # to ride over the loop, or to stand again

    def __init__(
        self,
        spec: Field,
        value: Value,
        *,
        accent: str = "focus",
        stacked: bool = False,
        parent: QWidget | None = None,
    ) -> None:
        super().__init__(parent)
        self.spec = spec
        self._value = value
        self._accent = accent
        self._stacked = stacked
        self._drag: tuple[float, float] | None = None
        self._moved = False
        self._editor: QLineEdit | None = None
        self._ride: tuple[float, ...] | None = None
        self._may_ride = False
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setCursor(
            Qt.CursorShape.PointingHandCursor if spec.choices else Qt.CursorShape.SizeHorCursor
        )
        self._name_for_readers()

    @property
    def value(self) -> Value:
        """The value shown."""
        return self._value

    def set_value(self, value: Value) -> None:
        """Show a value without saying that it was edited."""
        if value != self._value:
            self._value = value
            self._name_for_readers()
            self.update()

    def let_ride(self, shares: tuple[float, ...] | None) -> None:
        """Allow it to ride, and show how it does: places on its scale over the loop, or None."""
        self._may_ride = self.spec.rides and not self.spec.choices
        self._ride = shares
        self._name_for_readers()
        self.update()

    @property
    def rides(self) -> bool:
        """Whether its value changes over the loop."""
        return self._ride is not None

    @property
    def _text(self) -> str:
        return "rides" if self.rides else self.spec.text(self._value)

    def _name_for_readers(self) -> None:
        self.setAccessibleName(self.spec.label)
        self.setAccessibleDescription(self._text)
        usual = self.spec.text(self.spec.default)
        about = f" · {self.spec.hint}" if self.spec.hint else ""
        ride = (
            ""
            if not self._may_ride
            else " · R: " + ("remove the ride" if self.rides else "draw a ride over the loop")
        )
        self.setToolTip(f"{self.spec.label}{about} · double-click for {usual}{ride}")

    def _put(self, value: Value) -> None:
        if not isinstance(value, str):
            value = self.spec.clipped(value)
        if value != self._value:
            self._value = value
            self._name_for_readers()
            self.update()
            self.edited.emit(value)

    # --- numbers ------------------------------------------------------------------------------

    def _number(self) -> float:
        assert not isinstance(self._value, str)
        return self._value

    def nudge(self, steps: float, *, fine: bool) -> None:
        """Move by nudges (or by single steps when fine); choices go round."""
        if self.spec.choices:
            at = self.spec.choices.index(str(self._value))
            turned = (at + (1 if steps > 0 else -1)) % len(self.spec.choices)
            self._put(self.spec.choices[turned])
        elif fine:
            self._put(
                round((self._number() + steps * self.spec.step) / self.spec.step) * self.spec.step
            )
        else:
            share = self.spec.to_share(self._number()) + steps / NUDGES
            value = self.spec.from_share(share)
            if value == self._number():  # the range has fewer steps than nudges
                value = self._number() + (self.spec.step if steps > 0 else -self.spec.step)
            self._put(value)
        self.settled.emit()

    def type_text(self, text: str) -> None:
        """Take a typed value such as ``380``, ``1.2 kHz``, ``4 s`` or ``off``; nonsense is left."""
        value = self.spec.read(text)
        if value is not None:
            self._put(value)
        self.settled.emit()

    # --- painting -----------------------------------------------------------------------------

    def sizeHint(self) -> QSize:
        return QSize(92, 42) if self._stacked else QSize(200, 27)

    def minimumSizeHint(self) -> QSize:
        """Room for its name and its longest value."""
        spec = self.spec
        texts = spec.choices or tuple(
            spec.text(value) for value in (spec.low, spec.low + spec.step, spec.high, spec.default)
        )
        wide = _least_px(spec.label, texts, stacked=self._stacked, words=bool(spec.choices))
        return QSize(wide, self.sizeHint().height())

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        painter.setPen(
            QPen(color("focus" if self.hasFocus() else "line"), 2 if self.hasFocus() else 1)
        )
        painter.setBrush(color("card" if self.isEnabled() else "paper"))
        painter.drawRoundedRect(box, 4, 4)
        self._paint_words(painter, box)
        self._paint_fill(painter, box)

    def _paint_words(self, painter: QPainter, box: QRectF) -> None:
        inner = box.adjusted(7, 3, -7, -4)
        painter.setPen(color("ink_soft"))
        painter.setFont(text_font(11.5))
        left = Qt.AlignmentFlag.AlignLeft
        right = Qt.AlignmentFlag.AlignRight
        middle = Qt.AlignmentFlag.AlignVCenter
        if self._stacked:
            painter.drawText(inner, left | Qt.AlignmentFlag.AlignTop, self.spec.label)
        else:
            painter.drawText(inner, left | middle, self.spec.label)
        painter.setPen(color("ink" if self.isEnabled() else "ink_soft"))
        if self.spec.choices:
            self._fit(painter, inner.width())
        else:
            painter.setFont(figure_font(12, MEDIUM))
        text = painter.fontMetrics().elidedText(
            self._text, Qt.TextElideMode.ElideRight, int(inner.width())
        )
        where = right | (Qt.AlignmentFlag.AlignBottom if self._stacked else middle)
        painter.drawText(inner, where, text)

    def _fit(self, painter: QPainter, width: float) -> None:
        """Choose the largest size at which a choice has room beside or under its name."""
        if not self._stacked:
            width -= painter.fontMetrics().horizontalAdvance(self.spec.label) + 8
        for size in (12.0, 11.0, SMALLEST_PX):
            painter.setFont(text_font(size, SEMI))
            if painter.fontMetrics().horizontalAdvance(self._text) <= width:
                return

    def _paint_fill(self, painter: QPainter, box: QRectF) -> None:
        if self.spec.choices:
            return
        if self._ride is not None:
            self._paint_ride(painter, box, self._ride)
            return
        share = self.spec.to_share(self._number())
        both_ways = self.spec.low == -self.spec.high
        zero = self.spec.to_share(0.0) if both_ways else 0.0
        left, width = box.left() + 2, box.width() - 4
        painter.setPen(QPen(color(self._accent if self.isEnabled() else "line"), 2.4))
        y = box.bottom() - 1.4
        painter.drawLine(QPointF(left + width * zero, y), QPointF(left + width * share, y))
        if zero > 0:
            painter.setPen(QPen(color("ink_soft"), 1))
            painter.drawLine(
                QPointF(left + width * zero, y - 2), QPointF(left + width * zero, y + 1)
            )

    def _paint_ride(self, painter: QPainter, box: QRectF, shares: tuple[float, ...]) -> None:
        """The way of a value that rides, small, where the fill line else is."""
        left, width, low = box.left() + 5, box.width() * 0.42, box.bottom() - 5
        if not self._stacked:  # between the name and the word
            name = QFontMetricsF(text_font(11.5)).horizontalAdvance(self.spec.label)
            left, width = box.left() + name + 15, box.width() - name - 66
        painter.setPen(QPen(color(self._accent), 1.6))
        last = len(shares) - 1
        painter.drawPolyline(
            QPolygonF(
                [
                    QPointF(left + width * i / last, low - 13 * share)
                    for i, share in enumerate(shares)
                ]
            )
        )

    # --- hands --------------------------------------------------------------------------------

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        if not self._may_ride or event is None:
            return
        menu = QMenu(self)
        action = menu.addAction("Remove the ride" if self.rides else "Draw a ride over the loop")
        assert action is not None
        action.triggered.connect(lambda _c: self.ride_wanted.emit(not self.rides))
        menu.popup(event.globalPos())

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if event.button() != Qt.MouseButton.LeftButton:
            return
        if self.spec.choices:
            self._open_choices()
            return
        if self.rides:
            return  # its lane is where it is drawn
        self._drag = (event.position().x(), self.spec.to_share(self._number()))
        self._moved = False

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self._drag is None:
            return
        pixels = event.position().x() - self._drag[0]
        if abs(pixels) > 2:
            self._moved = True
        if self._moved:
            fine = FINE if held(event).shift else 1.0
            self._put(self.spec.from_share(self._drag[1] + pixels / DRAG_PX * fine))

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if self._drag is not None:
            self._drag = None
            if self._moved:
                self.settled.emit()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        if self.rides:
            return
        self._put(self.spec.default)
        self.settled.emit()

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        assert event is not None
        if not self.hasFocus() or self.rides:
            event.ignore()  # the list under it scrolls; a field is scrolled once it is chosen
            return
        fine = held(event).shift
        delta = event.angleDelta().y() or event.angleDelta().x()
        if delta:
            self.nudge(1 if delta > 0 else -1, fine=fine)
        event.accept()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        fine = held(event).shift
        key = event.key()
        if key == Qt.Key.Key_R and self._may_ride and not event.modifiers():
            self.ride_wanted.emit(not self.rides)
        elif self.rides:
            super().keyPressEvent(event)
        elif key in (Qt.Key.Key_Right, Qt.Key.Key_Up):
            self.nudge(1, fine=fine)
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Down):
            self.nudge(-1, fine=fine)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            if self.spec.choices:
                self._open_choices()
            else:
                self._open_editor(self.spec.text(self._value).replace("−", "-"))
        elif not self.spec.choices and event.text() and event.text() in "0123456789.-+":
            self._open_editor(event.text(), select=False)
        elif key == Qt.Key.Key_Backspace:
            self._put(self.spec.default)
            self.settled.emit()
        else:
            super().keyPressEvent(event)

    def _open_choices(self) -> None:
        menu = QMenu(self)
        for choice in self.spec.choices:
            action = menu.addAction(choice)
            assert action is not None
            action.triggered.connect(lambda _checked, c=choice: self._choose(c))
        menu.popup(self.mapToGlobal(self.rect().bottomLeft()))

    def _choose(self, choice: str) -> None:
        self._put(choice)
        self.settled.emit()

    def _open_editor(self, text: str, *, select: bool = True) -> None:
        editor = QLineEdit(text, self)
        editor.setAccessibleName(self.spec.label)
        editor.setGeometry(self.rect())
        editor.setFont(figure_font(12))
        editor.editingFinished.connect(self._close_editor)
        editor.installEventFilter(self)
        self._editor = editor
        editor.show()
        editor.setFocus()
        if select:
            editor.selectAll()

    def _close_editor(self, *, take: bool = True) -> None:
        editor, self._editor = self._editor, None
        if editor is None:
            return
        if take:
            self.type_text(editor.text())
        had_focus = editor.hasFocus()
        editor.deleteLater()
        if had_focus:
            self.setFocus()

    def eventFilter(self, watched: object, event: QEvent | None) -> bool:
        if (
            watched is self._editor
            and isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.KeyPress
            and event.key() == Qt.Key.Key_Escape
        ):
            self._close_editor(take=False)
            return True
        return False

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        self.update()

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        self.update()
