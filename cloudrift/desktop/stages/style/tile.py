"""A sketch as a tile: its chords, its strata, its marks; pressed to be kept."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QAbstractButton, QWidget

from cloudrift.desktop.kit.look import MEDIUM, SEMI, color, text_font
from cloudrift.style.draws import Sketched

WIDE, HIGH = 250, 112


class SketchTile(QAbstractButton):
    """One draw. Checked: it is to be kept."""

    def __init__(self, of: Sketched, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.of = of
        self.setCheckable(True)
        self.setMinimumSize(WIDE, HIGH)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setToolTip("Rest to hear it in the loop's place; click to select it")
        loop = of.loop
        self.setAccessibleName(
            f"Variation {of.variation}: {loop.key.text}, {loop.tempo:g} BPM, {of.chords}, "
            f"{of.met} of {of.asked} marks met"
        )

    def sizeHint(self) -> QSize:
        return QSize(WIDE, HIGH)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        on = self.isChecked()
        edge = "focus" if on or self.hasFocus() else "line"
        painter.setPen(QPen(color(edge), 2 if on or self.hasFocus() else 1))
        painter.setBrush(color("focus", 0.10) if on else color("card"))
        painter.drawRoundedRect(box, 5, 5)
        loop, inner = self.of.loop, box.adjusted(10, 7, -10, -8)
        painter.setPen(color("ink"))
        painter.setFont(text_font(12, SEMI))
        head = f"{'✓ ' if on else ''}{self.of.variation} · {loop.key.text} · {loop.tempo:g} BPM"
        painter.drawText(inner, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, head)
        painter.setFont(text_font(11, MEDIUM))
        painter.setPen(color("good" if self.of.met == self.of.asked else "ink_soft"))
        painter.drawText(
            inner,
            Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop,
            f"{self.of.met} of {self.of.asked}",
        )
        painter.setPen(color("ink_soft"))
        row = QRectF(inner.left(), inner.top() + 18, inner.width(), 16)
        text = painter.fontMetrics().elidedText(
            self.of.chords, Qt.TextElideMode.ElideRight, int(row.width())
        )
        painter.drawText(row, Qt.AlignmentFlag.AlignLeft, text)
        self._paint_strata(
            painter, QRectF(inner.left(), inner.top() + 40, inner.width(), inner.height() - 40)
        )

    def _paint_strata(self, painter: QPainter, box: QRectF) -> None:
        """How much of it each layer is, over its bars."""
        painter.setPen(Qt.PenStyle.NoPen)
        base = np.zeros(1)
        for role, curve in self.of.strata:
            step = max(1, len(curve) // 80)
            heights = curve[::step].astype(float)
            base = np.zeros(len(heights)) if len(base) != len(heights) else base
            xs = box.left() + np.linspace(0, box.width(), len(heights))
            low = box.bottom() - base * box.height()
            high = low - heights * box.height()
            points = [QPointF(x, y) for x, y in zip(xs, high, strict=True)]
            points += [QPointF(x, y) for x, y in zip(xs[::-1], low[::-1], strict=True)]
            painter.setBrush(color(role, 0.85))
            painter.drawPolygon(QPolygonF(points))
            base = base + heights
        painter.setPen(QPen(color("line"), 1))
        bars = self.of.loop.bars
        for bar in range(bars + 1):
            x = box.left() + box.width() * bar / bars
            painter.drawLine(QPointF(x, box.bottom() - 3), QPointF(x, box.bottom()))
