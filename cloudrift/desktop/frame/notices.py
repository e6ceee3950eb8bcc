"""Notices: what went well or wrong, said over the foot of the stage; the last ones kept."""

from collections import deque
from datetime import datetime
from typing import NamedTuple

from PyQt6.QtCore import QEvent, QObject, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QDialog, QLabel, QWidget

from cloudrift.desktop.kit.layouts import fill, vertical
from cloudrift.desktop.kit.parts import close_line, label, scrolling, set_look
from cloudrift.desktop.session.timers import single_shot
from cloudrift.ground.errors import in_a_sentence

LEAST_MS, READING_MS = 5000, 65  # how long one stays; and for each letter of it
MARGIN_PX, MOST_PX = 14, 720
KEPT = 10


class Said(NamedTuple):
    """A notice that was given."""

    words: str
    good: bool
    at: datetime


class Notice(QLabel):
    """Lies over the foot of a view and moves nothing; a press takes it away.

    Its words are its name too, so that a screen reader says them.
    """

    opened = pyqtSignal()

    def __init__(self, over: QWidget) -> None:
        super().__init__("", over)
        self._over = over
        self.said: deque[Said] = deque(maxlen=KEPT)
        self.setTextFormat(Qt.TextFormat.PlainText)  # names in it are a stranger's words
        self.setWordWrap(True)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setToolTip("Click to dismiss; View, Last notices shows it again")
        self.hide()
        self._clock = single_shot(self, self.hide)
        over.installEventFilter(self)

    def say(self, words: str, *, good: bool = False) -> None:
        """Say what went wrong, or what went well and is worth a word."""
        words = in_a_sentence(words)
        if not (self.said and self.isVisible() and self.said[-1].words == words):
            self.said.append(Said(words, good, datetime.now()))
        set_look(self, "saidWell" if good else "said")
        self.setText(words)
        self.setAccessibleName(words)
        self._place()
        self.show()
        self.raise_()
        self._clock.start(max(LEAST_MS, READING_MS * len(words)))

    def _place(self) -> None:
        room = self._over.rect()
        wide = min(MOST_PX, room.width() - 2 * MARGIN_PX)
        line = self.fontMetrics().horizontalAdvance(self.text()) + 34
        wide = min(wide, line)
        high = self.heightForWidth(wide)
        self.setGeometry((room.width() - wide) // 2, room.height() - high - MARGIN_PX, wide, high)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        self._clock.stop()
        self.hide()

    def eventFilter(self, _watched: QObject | None, event: QEvent | None) -> bool:
        if event is not None and event.type() == QEvent.Type.Resize and self.isVisible():
            self._place()
        return False


class NoticesSheet(QDialog):
    """The last notices, the newest first."""

    def __init__(self, said: deque[Said], parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Last notices")
        self.resize(520, 360)
        inside = QWidget()
        lines = vertical(inside, spacing=8)
        for one in reversed(said):
            words = f"{one.at:%H:%M}  {one.words}"
            lines.addWidget(label(words, name="" if one.good else "signal", wrap=True))
        if not said:
            lines.addWidget(label("No notices yet.", name="soft"))
        lines.addStretch(1)
        column = vertical(self)
        fill(column, (scrolling(inside), 1), close_line(self))
