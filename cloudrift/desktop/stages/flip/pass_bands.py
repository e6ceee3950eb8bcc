"""Who plays in which pass: each layer a band that goes on through the passes that it plays in."""

from collections.abc import Sequence

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen

from cloudrift.desktop.kit.held import held
from cloudrift.desktop.kit.keyed import Keyed
from cloudrift.desktop.kit.look import MEDIUM, SEMI, color, text_font

NAMES_PX, TOP_PX, ROW_PX, LEAST_PX = 150.0, 26.0, 30.0, 84.0


class PassBands(Keyed):
    """``outs`` are those left out of each pass, by row. ``swapped`` carries pass and row."""

    swapped = pyqtSignal(int, int)
    chosen = pyqtSignal(int)

    def __init__(self, rows: Sequence[tuple[str, str]]) -> None:
        """``rows`` are a name and the colour that it has."""
        super().__init__()
        self._rows = tuple(rows)
        self._names: tuple[str, ...] = ("All",)
        self._outs: tuple[frozenset[int], ...] = (frozenset(),)
        self.pass_at = self.row_at = 0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setToolTip("Click to turn a layer off or on in a pass; with keys, arrows and Space")

    def show_passes(self, names: Sequence[str], outs: Sequence[frozenset[int]]) -> None:
        """Show passes: what they are called, and the rows that are left out of each."""
        self._names, self._outs = tuple(names), tuple(outs)
        self.pass_at = min(self.pass_at, len(names) - 1)
        self.setMinimumSize(self.sizeHint())
        self.updateGeometry()
        self._name_for_readers()
        self.update()

    def choose(self, pass_at: int, row_at: int) -> None:
        """Choose a pass, and a layer in it."""
        before = self.pass_at
        self.pass_at = min(max(pass_at, 0), len(self._names) - 1)
        self.row_at = min(max(row_at, 0), len(self._rows) - 1)
        self._name_for_readers()
        self.update()
        if before != self.pass_at:
            self.chosen.emit(self.pass_at)

    def _name_for_readers(self) -> None:
        out = self.row_at in self._outs[self.pass_at]
        says = "off" if out else "plays"
        self.setAccessibleName(
            f"Pass {self.pass_at + 1}, {self._names[self.pass_at]}: "
            f"{self._rows[self.row_at][0]} {says}"
        )

    def box(self, pass_at: int, row_at: int) -> QRectF:
        """Return where a layer lies in a pass."""
        wide = (self.width() - NAMES_PX) / len(self._names)
        return QRectF(NAMES_PX + pass_at * wide, TOP_PX + row_at * ROW_PX, wide, ROW_PX)

    def sizeHint(self) -> QSize:
        wide = NAMES_PX + LEAST_PX * min(len(self._names), 8)
        return QSize(int(wide), int(TOP_PX + ROW_PX * len(self._rows) + 4))

    # --- hands --------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        place = event.position()
        wide = (self.width() - NAMES_PX) / len(self._names)
        if place.x() < NAMES_PX or event.button() != Qt.MouseButton.LeftButton:
            return
        row = int((place.y() - TOP_PX) // ROW_PX)
        self.choose(int((place.x() - NAMES_PX) // wide), max(row, 0))
        if 0 <= row < len(self._rows):
            self.swapped.emit(self.pass_at, self.row_at)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        steps = {
            Qt.Key.Key_Left: (-1, 0),
            Qt.Key.Key_Right: (1, 0),
            Qt.Key.Key_Up: (0, -1),
            Qt.Key.Key_Down: (0, 1),
        }
        step = steps.get(Qt.Key(event.key()))
        if step and not any(held(event)):
            self.choose(self.pass_at + step[0], self.row_at + step[1])
        elif event.key() == Qt.Key.Key_Space:
            self.swapped.emit(self.pass_at, self.row_at)
        else:
            super().keyPressEvent(event)

    def owns(self, event: QKeyEvent) -> bool:
        """Space leaves a layer out here, whatever it does elsewhere."""
        return event.key() == Qt.Key.Key_Space

    # --- painting -----------------------------------------------------------------------------

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        for i, name in enumerate(self._names):
            self._paint_pass(painter, i, name)
        for row, (name, tint) in enumerate(self._rows):
            first = self.box(0, row)
            painter.setFont(text_font(12, MEDIUM))
            painter.setPen(color("ink"))
            text = painter.fontMetrics().elidedText(
                name, Qt.TextElideMode.ElideRight, int(NAMES_PX - 12)
            )
            painter.drawText(QRectF(2, first.top(), NAMES_PX - 8, ROW_PX), left, text)
            for i, out in enumerate(self._outs):
                self._paint_band(painter, i, row, tint, out=row in out)
        if self.hasFocus():
            painter.setPen(QPen(color("focus"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(
                self.box(self.pass_at, self.row_at).adjusted(2, 2, -2, -2), 4, 4
            )

    def _paint_pass(self, painter: QPainter, at: int, name: str) -> None:
        box = self.box(at, 0)
        chosen = at == self.pass_at
        if chosen:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(color("focus", 0.10))
            painter.drawRect(QRectF(box.left(), 0, box.width(), self.height()))
        painter.setPen(QPen(color("hair"), 1))
        painter.drawLine(box.topLeft(), QRectF(box.left(), 0, 1, self.height()).bottomLeft())
        painter.setFont(text_font(11.5, SEMI if chosen else MEDIUM))
        painter.setPen(color("ink"))
        inner = QRectF(box.left() + 6, 2, box.width() - 8, TOP_PX - 6)
        text = painter.fontMetrics().elidedText(
            f"{at + 1} {name}", Qt.TextElideMode.ElideRight, int(inner.width())
        )
        painter.drawText(inner, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, text)

    def _paint_band(self, painter: QPainter, at: int, row: int, tint: str, *, out: bool) -> None:
        box = self.box(at, row)
        if out:
            painter.setPen(QPen(color("ink_soft"), 1, Qt.PenStyle.DotLine))
            middle = box.center().y()
            painter.drawLine(
                QRectF(box.left() + 3, middle, 1, 1).topLeft(),
                QRectF(box.right() - 3, middle, 1, 1).topLeft(),
            )
            return
        # It goes on into the next pass where it plays there, too.
        before = at > 0 and row not in self._outs[at - 1]
        behind = at + 1 < len(self._outs) and row not in self._outs[at + 1]
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(color(tint, 0.9))
        painter.drawRect(box.adjusted(0 if before else 3, 7, 0 if behind else -3, -7))
