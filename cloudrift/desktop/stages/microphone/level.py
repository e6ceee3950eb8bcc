"""The level of the microphone: a bar in dBFS, the highest it went, and whether it was cut off."""

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from cloudrift.audio.buffers import QUIET_DB, to_db
from cloudrift.desktop.kit.look import color, figure_font
from cloudrift.ground.words import number

LOW_DB, HOT_DB = -60.0, -6.0
TICKS_DB = (-60.0, -48.0, -36.0, -24.0, -12.0, -6.0, 0.0)
FALL_DB = 0.8  # each time that it is shown


class Level(QWidget):
    """Shows a level; a press forgets the highest."""

    def __init__(self) -> None:
        super().__init__()
        self.level_db = self.highest_db = QUIET_DB
        self.cut_off = 0
        self.setFixedHeight(34)
        self.setMinimumWidth(120)
        self.setToolTip("Input level and its peak; click to reset")
        self._name_for_readers()

    def show_level(self, peak: float, cut_off: int) -> None:
        """Show a peak (0-1), and at how many places more it was cut off."""
        level = to_db(peak)
        self.level_db = max(level, self.level_db - FALL_DB)
        self.cut_off += cut_off
        if level > self.highest_db or cut_off:
            self.highest_db = max(self.highest_db, level)
            self._name_for_readers()
        self.update()

    def forget(self) -> None:
        """Begin again."""
        self.level_db = self.highest_db = QUIET_DB
        self.cut_off = 0
        self._name_for_readers()
        self.update()

    @property
    def words(self) -> str:
        """The highest, in words."""
        if self.cut_off:
            return "clipped: turn it down"
        if self.highest_db <= QUIET_DB:
            return "no signal yet"
        return f"peak {number(self.highest_db, '.1f')} dBFS"

    def _name_for_readers(self) -> None:
        self.setAccessibleName(f"Level of the microphone: {self.words}")

    def mousePressEvent(self, _event: QMouseEvent | None) -> None:
        self.forget()

    def _x(self, db: float) -> float:
        share = (min(max(db, LOW_DB), 0.0) - LOW_DB) / -LOW_DB
        return 4 + share * (self.width() - 8)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        left, right = self._x(LOW_DB), self._x(0.0)
        painter.fillRect(QRectF(left, 14, right - left, 7), color("hair"))
        hot = self.level_db > HOT_DB
        bar = QRectF(left, 14, self._x(self.level_db) - left, 7)
        painter.fillRect(bar, color("signal" if hot else "good"))
        if self.highest_db > LOW_DB:
            painter.setPen(QPen(color("signal" if self.cut_off else "ink"), 2))
            highest = round(self._x(self.highest_db))
            painter.drawLine(highest, 12, highest, 22)
        painter.setFont(figure_font(8.5))
        painter.setPen(color("ink_soft"))
        for db in TICKS_DB:
            x = self._x(db)
            painter.drawLine(round(x), 21, round(x), 24)
            box = QRectF(x - 14, 23, 28, 11)
            align = Qt.AlignmentFlag.AlignHCenter
            if db == LOW_DB:
                box, align = QRectF(left, 23, 40, 11), Qt.AlignmentFlag.AlignLeft
            elif db == 0:
                box, align = QRectF(right - 40, 23, 40, 11), Qt.AlignmentFlag.AlignRight
            text = number(db, ".0f") + (" dBFS" if db == LOW_DB else "")
            painter.drawText(box, align, text)
        painter.setPen(color("signal" if self.cut_off else "ink_soft"))
        painter.setFont(figure_font(9.5))
        painter.drawText(QRectF(left, 0, right - left, 13), Qt.AlignmentFlag.AlignRight, self.words)
