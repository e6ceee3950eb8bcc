"""The row that a line begins with, and what joins rows."""

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QResizeEvent
from PyQt6.QtWidgets import QBoxLayout, QFrame, QLabel, QWidget

from cloudrift.desktop.kit.layouts import fill, horizontal, vertical
from cloudrift.desktop.kit.look import SEMI, color
from cloudrift.desktop.kit.parts import Elided, label
from cloudrift.desktop.stages.texture.strip import Strip
from cloudrift.ground.words import number
from cloudrift.render.measure.step_facts import StepFacts

FIELDS_A_LINE, FIELD_WIDTH, WORDS_WIDTH = 3, 94, 118
NARROW_PX = 640  # a row narrower than this has its strip under the fields


MIDDLE_WIDTH = FIELDS_A_LINE * (FIELD_WIDTH + 4)


class LineRow(QFrame):
    """What the bare row and the treatment rows share: words at the left, a strip at the right."""

    def __init__(self, role: str, title: str, under: str) -> None:
        super().__init__()
        self.setObjectName("card")
        self.title = Elided(title, size=14.5, weight=SEMI)
        self.under = Elided(under, size=11, name="soft")
        self.strip = Strip(role, title)
        self.words = vertical(spacing=2)
        fill(self.words, self.title, self.under)
        holder = QWidget()
        holder.setFixedWidth(WORDS_WIDTH)
        holder.setLayout(self.words)
        self.words.setContentsMargins(0, 0, 0, 0)
        self.middle = vertical(spacing=4)
        self.right = vertical(spacing=4)
        self.right.addWidget(self.strip, 1)
        row = horizontal(self, (12, 8, 8, 8), 8)
        self._beside = horizontal(spacing=8)
        fill(self._beside, self.middle, (self.right, 1))
        fill(row, holder, (self._beside, 1))

    def minimumSizeHint(self) -> QSize:
        """As wide as the fields are: the strip goes below them."""
        return QSize(WORDS_WIDTH + MIDDLE_WIDTH + 30, super().minimumSizeHint().height())

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        narrow = self.width() < NARROW_PX
        ways = QBoxLayout.Direction
        self._beside.setDirection(ways.TopToBottom if narrow else ways.LeftToRight)
        super().resizeEvent(event)

    def add_words(self, name: str = "soft", size: float = 11.5) -> QLabel:
        """Add a line of words under the fields and return it."""
        made = label("", size=size, name=name, wrap=True)
        made.setFixedWidth(MIDDLE_WIDTH)
        self.middle.addWidget(made)
        return made


class BareRow(LineRow):
    """The top of the descent: a bare layer, or what comes in from the lines of several."""

    def __init__(self, role: str, words: str, *, bare: bool) -> None:
        super().__init__(
            role,
            "Bare" if bare else "Input",
            "before all treatments" if bare else "before this line",
        )
        self._before = "before all treatments" if bare else "before this line"
        self.setMinimumHeight(92)
        self.words.addStretch(1)
        self.add_words().setText(words)
        self.loudness = self.add_words()
        self.middle.addStretch(1)

    def show_facts(self, facts: StepFacts) -> None:
        """Show the picture and how loud it is."""
        self.strip.show_picture(facts.picture)
        self.loudness.setText(f"{number(facts.lufs, '.1f')} LUFS {self._before}")


class Link(QWidget):
    """The short line from one row to the next: the sound runs down here."""

    def __init__(self, role: str) -> None:
        super().__init__()
        self._role = role
        self.setFixedHeight(7)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(color(self._role, 0.8))
        painter.drawRect(QRectF(QPointF(24, 0), QPointF(28, 7)))
