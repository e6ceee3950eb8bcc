"""What an empty stage shows: what can be begun here, as large tiles with a picture of each."""

from collections.abc import Callable

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QAbstractButton, QSizePolicy, QWidget

from cloudrift.desktop.kit.flow import Flow
from cloudrift.desktop.kit.layouts import fill, vertical
from cloudrift.desktop.kit.look import SEMI, color, text_font
from cloudrift.desktop.kit.parts import label

Picture = Callable[[QPainter, QRectF], None]
TILE = QSize(194, 176)  # px, at least
PAD_PX, WORDS_PX, PICTURE_PX = 13, 24, 76  # of a tile: its edge, its title, its picture


class LeadTile(QAbstractButton):
    """A title, a sentence, and a picture of what comes of it."""

    def __init__(
        self, title: str, words: str, act: Callable[[], object], picture: Picture, tip: str = ""
    ) -> None:
        super().__init__()
        self.setText(title)
        self._words, self._picture = words, picture
        self.setAccessibleName(f"{title}: {words}")
        self.setToolTip(tip)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.clicked.connect(lambda _on=False: act())

    def sizeHint(self) -> QSize:
        return TILE

    def minimumSizeHint(self) -> QSize:
        return TILE

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not self.isEnabled():
            painter.setOpacity(0.55)
        box = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        warm = self.hasFocus() or (self.underMouse() and self.isEnabled())
        painter.setPen(QPen(color("focus" if warm else "line"), 2 if self.hasFocus() else 1))
        painter.setBrush(color("card"))
        painter.drawRoundedRect(box, 5, 5)
        inner = box.adjusted(PAD_PX, 10, -PAD_PX, -PAD_PX)
        painter.setPen(color("ink"))
        painter.setFont(text_font(14, SEMI))
        painter.drawText(inner, Qt.AlignmentFlag.AlignTop, self.text())
        painter.setPen(color("ink_soft"))
        painter.setFont(text_font(11.5))
        under = inner.adjusted(0, WORDS_PX, 0, 0)
        used = painter.boundingRect(under, Qt.TextFlag.TextWordWrap, self._words).height()
        painter.drawText(under, Qt.TextFlag.TextWordWrap, self._words)
        painter.save()
        room = under.height() - used - 6  # as large as the words leave it
        high = min(PICTURE_PX, room)
        self._picture(painter, inner.adjusted(0, inner.height() - high, 0, 0))
        painter.restore()


class Lead(QWidget):
    """A heading, a sentence, and the tiles."""

    def __init__(self, title: str, words: str) -> None:
        super().__init__()
        self.title = label(title, size=18, weight=SEMI, wrap=True)
        self.words = label(words, size=12.5, name="soft", wrap=True)
        self.tiles: list[LeadTile] = []
        holder = QWidget()
        self._tiles = Flow(holder, spacing=8, even=True, columns=4)
        column = vertical(self, (14, 14, 14, 14), 8)
        fill(column, self.title, self.words, holder, 1)

    def add(self, tile: LeadTile) -> LeadTile:
        """Add a tile."""
        self._tiles.addWidget(tile)
        self.tiles.append(tile)
        return tile

    @property
    def first(self) -> QWidget:
        """What the keyboard goes to."""
        return next((one for one in self.tiles if one.isEnabled()), self)
