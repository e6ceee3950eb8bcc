"""A picture that is kept as it was painted: what moves over it at each frame costs only itself."""

from typing import Any

from PyQt6.QtCore import QPointF, QRect, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen, QPixmap
from PyQt6.QtWidgets import QWidget

from cloudrift.desktop.kit.look import color, look


class Still(QWidget):
    """``update()`` repaints the picture; ``update(part)`` only what moves over that part."""

    _kept: QPixmap | None = None
    _kept_for: tuple[QSize, float, str, bool] | None = None

    def update(self, *part: Any) -> None:
        if not part:
            self._kept = None
        super().update(*part)

    def paint_still(self, painter: QPainter) -> None:
        """Paint what stays as it is until ``update()``, the size, theme or focus changes."""

    def paint_moving(self, painter: QPainter) -> None:
        """Paint what may be elsewhere at each frame."""

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        ratio = self.devicePixelRatioF()
        wanted = (self.size(), ratio, look.name, self.hasFocus())
        if self._kept is None or wanted != self._kept_for:
            self._kept, self._kept_for = QPixmap(self.size() * ratio), wanted
            self._kept.setDevicePixelRatio(ratio)
            self._kept.fill(Qt.GlobalColor.transparent)
            inside = QPainter(self._kept)
            inside.setRenderHint(QPainter.RenderHint.Antialiasing)
            self.paint_still(inside)
            inside.end()
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self._kept)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self.paint_moving(painter)


def paint_playhead(painter: QPainter, x: float, top: float, bottom: float) -> None:
    """Paint the line where the sound is, pixels."""
    painter.setPen(QPen(color("signal"), 2))
    painter.drawLine(QPointF(x, top), QPointF(x, bottom))


def playhead_moved(widget: QWidget, before: float, after: float) -> None:
    """Paint the strips again where a playhead was and is (pixels), and nothing else."""
    if int(before) != int(after):
        for x in (int(before), int(after)):
            widget.update(QRect(x - 2, 0, 5, widget.height()))
