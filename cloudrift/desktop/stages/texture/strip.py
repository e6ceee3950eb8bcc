"""A strip: the loop's spectrogram as it leaves a row. Press it to hear the loop up to there."""

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from cloudrift.audio.spectrum import HIGH_HZ, LOW_HZ
from cloudrift.desktop.kit.look import color, figure_font, look, text_font
from cloudrift.desktop.kit.still import paint_playhead, playhead_moved
from cloudrift.desktop.kit.time_axis import TimeAxis

LOW_DB, HIGH_DB = -78.0, -20.0  # what is paper, and what is full colour
TICKS = ((100, "100 Hz"), (1000, "1 kHz"), (10_000, "10 kHz"))


class Strip(QWidget):
    """The picture, its frequency axis in Hz, and the playhead."""

    pressed = pyqtSignal()

    def __init__(self, role: str, name: str) -> None:
        super().__init__()
        self._role = role
        self._db: NDArray[np.float32] | None = None
        self._image: QImage | None = None
        self._share = 0.0
        self.heard_to_here = False
        self.below_heard = False
        self.setMinimumSize(160, 72)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setAccessibleName(f"Spectrogram after {name}; click to play the loop up to here")
        self.setToolTip("Click to play the loop up to here; click again for the whole line")

    def sizeHint(self) -> QSize:
        return QSize(480, 76)

    def show_picture(self, db: NDArray[np.float32]) -> None:
        """Show a spectrogram in dBFS, (rows, columns)."""
        self._db, self._image = db, None
        self.update()

    def show_heard(self, here: bool, below: bool) -> None:
        """Mark that the loop is heard down to here, or that this row is not heard now."""
        if (here, below) != (self.heard_to_here, self.below_heard):
            self.heard_to_here, self.below_heard = here, below
            self.update()

    def show_place(self, share: float) -> None:
        """Move the playhead."""
        before, after = self._x(self._share), self._x(share)
        self._share = share
        playhead_moved(self, before, after)

    def _x(self, share: float) -> float:
        return TimeAxis(1, self.width() - 2).at_x(share)

    def _y(self, hz: float) -> float:
        share = np.log(hz / LOW_HZ) / np.log(HIGH_HZ / LOW_HZ)
        return float(1 + (1 - share) * (self.height() - 2))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        self.pressed.emit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.pressed.emit()
        else:
            super().keyPressEvent(event)

    def changeEvent(self, event: QEvent | None) -> None:
        if event is not None and event.type() == QEvent.Type.PaletteChange:
            self._image = None

    def _to_image(self, db: NDArray[np.float32]) -> QImage:
        share = np.clip((db - LOW_DB) / (HIGH_DB - LOW_DB), 0, 1)[..., None] ** 1.7
        paper = np.array(QColor(look.tokens.card).getRgb()[:3], float)
        full = np.array(color(self._role).getRgb()[:3], float)
        deep = full * 0.45 if look.name == "Daybreak" else full + (255 - full) * 0.6
        low = paper + (full - paper) * np.minimum(share * 1.6, 1)
        rgb = low + (deep - low) * np.clip(share * 1.6 - 1, 0, 1)
        data = np.ascontiguousarray(rgb.astype(np.uint8))
        rows, columns = db.shape
        return QImage(
            data.tobytes(), columns, rows, 3 * columns, QImage.Format.Format_RGB888
        ).copy()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        box = QRectF(self.rect())
        painter.fillRect(box, color("card"))
        if self._db is not None:
            if self._image is None:
                self._image = self._to_image(self._db)
            painter.setOpacity(0.35 if self.below_heard else 1.0)
            painter.drawImage(box.adjusted(1, 1, -1, -1), self._image)
            painter.setOpacity(1.0)
        else:
            painter.setPen(color("ink_soft"))
            painter.setFont(text_font(11))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, "rendering…")
        painter.setFont(figure_font(8.5))
        for hz, words in TICKS:
            y = self._y(hz)
            tag = QRectF(6, y - 6, painter.fontMetrics().horizontalAdvance(words) + 4, 12)
            painter.fillRect(tag, color("card", 0.82))
            painter.setPen(color("ink_soft"))
            painter.drawLine(QPointF(1, y), QPointF(5, y))
            painter.drawText(tag, Qt.AlignmentFlag.AlignCenter, words)
        paint_playhead(painter, self._x(self._share), 0, box.height())
        edge = "focus" if self.hasFocus() or self.heard_to_here else "line"
        painter.setPen(QPen(color(edge), 2 if edge == "focus" else 1))
        painter.drawRect(box.adjusted(0.5, 0.5, -1, -1))
        if self.heard_to_here:
            tag = QRectF(box.right() - 118, 4, 112, 17)
            painter.fillRect(tag, color("focus"))
            painter.setPen(color("on_ink"))
            painter.setFont(text_font(11))
            painter.drawText(tag, Qt.AlignmentFlag.AlignCenter, "playing up to here")
