"""The portrait of a treatment: curves over two marked axes, as its settings make them."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from cloudrift.desktop.kit.look import SEMI, color, figure_font, text_font
from cloudrift.texture.picture import Axis, Portrait

BESIDE = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
LEFT, TOP, BOTTOM = 54, 19, 16  # room for marks and title


class PortraitView(QWidget):
    """Shows one portrait; the first curve is drawn last, in the layer's colour."""

    def __init__(self, role: str) -> None:
        super().__init__()
        self._role = role
        self.portrait: Portrait | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(128)
        self.setAccessibleName("Picture of the treatment")

    def sizeHint(self) -> QSize:
        return QSize(420, 128)

    def show_portrait(self, portrait: Portrait | None) -> None:
        """Show a portrait, or nothing."""
        self.portrait = portrait
        self.setVisible(portrait is not None)
        if portrait is not None:
            self.setAccessibleName(f"Picture: {portrait.title}")
            self.setToolTip(f"Computed from the settings: {portrait.title}")
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        if self.portrait is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(LEFT, TOP, self.width() - LEFT - 8, self.height() - TOP - BOTTOM)
        painter.setPen(color("ink_soft"))
        painter.setFont(text_font(11, SEMI))
        painter.drawText(
            QRectF(LEFT, 0, box.width(), TOP), Qt.AlignmentFlag.AlignTop, self.portrait.title
        )
        painter.fillRect(box, color("card"))
        self._paint_axes(painter, box, self.portrait)
        painter.setPen(QPen(color("line"), 1))
        painter.drawRect(box)
        painter.setClipRect(box)
        for i, curve in reversed(list(enumerate(self.portrait.curves))):
            xs = self.portrait.x_axis.share(self.portrait.x)
            ys = self.portrait.y_axis.share(curve)
            ys = np.clip(ys, -2, 3)
            line = QPolygonF(
                [
                    QPointF(box.left() + x * box.width(), box.bottom() - y * box.height())
                    for x, y in zip(xs.tolist(), ys.tolist(), strict=True)
                ]
            )
            if i == 0:
                painter.setPen(QPen(color(self._role), 2))
            else:  # the other side, or how it was: dashed, so that colour is not all that tells
                painter.setPen(QPen(color("ink_soft"), 1.2, Qt.PenStyle.DashLine))
            painter.drawPolyline(line)

    def _paint_axes(self, painter: QPainter, box: QRectF, portrait: Portrait) -> None:
        painter.setFont(figure_font(8.5))
        metrics = painter.fontMetrics()
        for value, words in portrait.x_axis.marks:
            x = box.left() + self._share(portrait.x_axis, value) * box.width()
            painter.setPen(color("hair"))
            painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
            painter.setPen(color("ink_soft"))
            wide = metrics.horizontalAdvance(words)
            left = min(max(x - wide / 2, box.left()), box.right() - wide)
            painter.drawText(QPointF(left, box.bottom() + 12), words)
        last = -100.0
        for value, words in portrait.y_axis.marks:
            y = box.bottom() - self._share(portrait.y_axis, value) * box.height()
            painter.setPen(color("hair"))
            painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
            if abs(y - last) < 10:
                continue
            last = y
            painter.setPen(color("ink_soft"))
            painter.drawText(QRectF(0, y - 7, LEFT - 5, 14), BESIDE, words)

    @staticmethod
    def _share(axis: Axis, value: float) -> float:
        return float(axis.share(np.array([value]))[0])
