"""The few words of our own: two sentences and a small picture each, shown where they head a panel.

A small "?" beside such a heading opens them; Help has them all on one page.
"""

import math
from collections.abc import Callable
from itertools import pairwise
from typing import NamedTuple

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPainterPath, QPaintEvent, QPen
from PyQt6.QtWidgets import QPushButton, QWidget

from cloudrift.desktop.kit.layouts import fill
from cloudrift.desktop.kit.look import SEMI, color
from cloudrift.desktop.kit.parts import label, small_button
from cloudrift.desktop.kit.popup import Popup

Paint = Callable[[QPainter, QRectF], None]
PICTURE, POPUP_PX = QSize(236, 64), 268


def _bar(painter: QPainter, role: str, x: float, y: float, wide: float, high: float) -> None:
    painter.fillRect(QRectF(x, y, wide, high), color(role))


def _curve(painter: QPainter, tone: str, points: list[QPointF], width: float = 1.8) -> None:
    painter.setPen(QPen(color(tone), width))
    way = QPainterPath(points[0])
    for before, after in pairwise(points):
        middle = (before.x() + after.x()) / 2
        way.cubicTo(QPointF(middle, before.y()), QPointF(middle, after.y()), after)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawPath(way)


def _thread(painter: QPainter, box: QRectF) -> None:
    half, wide = box.width() / 2, box.width() * 0.38
    for y, to, tone in ((0.15, 0.15, "ink_soft"), (0.45, 0.6, "signal"), (0.85, 0.85, "ink_soft")):
        a, b = box.top() + y * box.height(), box.top() + to * box.height()
        _bar(painter, "keys", box.left(), a - 2, wide, 5)
        _bar(painter, "keys", box.left() + half + 20, b - 2, wide, 5)
        _curve(painter, tone, [QPointF(box.left() + wide, a), QPointF(box.left() + half + 20, b)])


def _lens(painter: QPainter, box: QRectF) -> None:
    for i in range(4):
        y = box.top() + 6 + i * 15
        _bar(painter, "ink_soft", box.left(), y, box.width() * 0.34, 4)
        for n in range(6):
            if (n + i) % 4 == 0:
                _bar(painter, "pluck", box.left() + box.width() * (0.46 + 0.09 * n), y, 14, 4)


def _touch(painter: QPainter, box: QRectF) -> None:
    for i in range(4):
        _bar(painter, "keys", box.left() + 20 + 9 * i, box.bottom() - 8 - 14 * i, 90 - 9 * i, 5)
    painter.setPen(QPen(color("line"), 1))
    painter.drawLine(QPointF(box.left() + 20, box.top()), QPointF(box.left() + 20, box.bottom()))


def _room(painter: QPainter, box: QRectF) -> None:
    for role, top, high in (("bass", 0.72, 0.26), ("pad", 0.42, 0.34), ("pluck", 0.1, 0.4)):
        shade = color(role, 0.5)
        painter.fillRect(
            QRectF(box.left(), box.top() + top * box.height(), box.width(), high * box.height()),
            shade,
        )


def _ride(painter: QPainter, box: QRectF) -> None:
    points = [(0, 0.8), (0.3, 0.75), (0.55, 0.2), (1, 0.5)]
    wide, high = box.width(), box.height()
    places = [QPointF(box.left() + x * wide, box.top() + y * high) for x, y in points]
    _curve(painter, "focus", places)
    painter.setBrush(color("card"))
    for place in places:
        painter.drawEllipse(place, 3.5, 3.5)


def _print(painter: QPainter, box: QRectF) -> None:
    painter.setPen(QPen(color("keys"), 2))
    count = 48
    for i in range(count):
        x = box.left() + box.width() * (i + 0.5) / count
        high = box.height() * 0.45 * abs(math.sin(i * 0.9)) * (1 - (i % 12) / 15)
        painter.drawLine(QPointF(x, box.center().y() - high), QPointF(x, box.center().y() + high))


def _piece(painter: QPainter, box: QRectF) -> None:
    for i, role in enumerate(("keys", "pad", "pluck", "lead")):
        wide = box.width() / 4
        painter.setPen(QPen(color("line"), 1))
        painter.setBrush(color("card"))
        place = QRectF(box.left() + i * wide + 2, box.top() + 4, wide - 4, box.height() - 8)
        painter.drawRoundedRect(place, 4, 4)
        painter.fillRect(place.adjusted(8, 18, -8, -18), color(role))


def _scatter(painter: QPainter, box: QRectF) -> None:
    for i, to in enumerate((0, 3, 2, 1, 4)):
        a, b = (box.left() + box.width() * (n + 0.5) / 5 for n in (i, to))
        _curve(painter, "pad" if i == to else "signal",
               [QPointF(a, box.top() + 4), QPointF(b, box.bottom() - 4)])  # fmt: skip


def _finish(painter: QPainter, box: QRectF) -> None:
    for i in range(3):
        y = box.top() + i * box.height() / 3
        painter.setPen(QPen(color("line"), 1))
        painter.setBrush(color("card"))
        painter.drawRoundedRect(QRectF(box.left(), y + 1, box.width(), box.height() / 3 - 5), 3, 3)
        _bar(painter, "pluck", box.left() + 10, y + 7, (150, 90, 120)[i], 4)


def _mark(painter: QPainter, box: QRectF) -> None:
    middle = box.center().y()
    painter.setPen(QPen(color("line"), 2))
    painter.drawLine(QPointF(box.left(), middle), QPointF(box.right(), middle))
    _bar(painter, "focus_soft", box.left() + box.width() * 0.35, middle - 6, box.width() * 0.3, 12)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(color("signal"))
    painter.drawEllipse(QPointF(box.left() + box.width() * 0.78, middle), 5, 5)


def _seam(painter: QPainter, box: QRectF) -> None:
    half = box.width() / 2
    for i, role in enumerate(("keys", "pad", "pluck")):
        y = box.top() + 6 + i * 19
        _bar(painter, role, box.left(), y, half - 16, 12)
        if i < 2:
            _bar(painter, role, box.left() + half + 16, y, half - 16, 12)
    painter.setPen(QPen(color("signal"), 2))
    painter.setBrush(color("card"))
    painter.drawEllipse(QPointF(box.left() + half, box.center().y()), 9, 9)


def _bed(painter: QPainter, box: QRectF) -> None:
    for row, (role, steps) in enumerate((("bass", "x..x..x."), ("lead", "..x...x."),
                                         ("bell", "x.x.x.xx"))):  # fmt: skip
        bottom = box.top() + (row + 1) * box.height() / 3 - 4
        for i, step in enumerate(steps):
            if step == "x":
                _bar(painter, role, box.left() + i * box.width() / 8, bottom - 12, 4, 12)


class OwnWord(NamedTuple):
    """A word, what it means in two sentences, and a picture of it."""

    word: str
    says: str
    paint: Paint


OWN_WORDS = {
    one.word: one
    for one in (
        OwnWord("thread", "A thread joins a voice of one chord to where it moves in the next. Half "
                "steps are in the signal colour, leaps are dashed.", _thread),
        OwnWord("lens", "A lens is what a layer plays of the chords: all voices, the top, the "
                "bass, an arpeggio. Change a chord, and every layer follows through its "
                "lens.", _lens),
        OwnWord("touch", "Touch is how a part is played: rolled, a little early or late, at "
                "uneven velocities, short or long. The written notes stay as they are.", _touch),
        OwnWord("room", "The room shows which layer sounds at which frequencies, over time. Where "
                "two layers crowd one band it is hatched; drag low and high cuts right "
                "there.", _room),
        OwnWord("ride", "A ride is a change over time that you draw: of a level, a filter, almost "
                "any value. It repeats with the loop, or every few bars.", _ride),
        OwnWord("print", "A print is the loop, or some layers of it, as audio. It keeps its "
                "recipe, so you can open its source loop, change it and print again.", _print),
        OwnWord("piece", "A piece is a slice of a print, with a letter. In the row below it plays "
                "where you put it: elsewhere, reversed, repeated, shifted.", _piece),
        OwnWord("scatter", "Scatter reorders the pieces by rules and a variation number. The same "
                "number gives the same order; nothing changes until you keep it.", _scatter),
        OwnWord("finish", "A finish is a saved treatment line. Rest on one to hear it on this "
                "line, click it to use it.", _finish),
        OwnWord("mark", "A mark is one thing that a style card asks for. The bar is the range it "
                "asks for, the dot is your loop; beside it is a change that would meet it.", _mark),
        OwnWord("seam", "A seam is the change from one section to the next, and what happens "
                "there. Click it to add a riser, a fill, silence or a tempo drop.", _seam),
        OwnWord("bed", "The groove bed is drums and a long bass to try the loop against. It is "
                "exported only if you select it.", _bed),
    )
}  # fmt: skip


class WordPicture(QWidget):
    """The picture of a word."""

    def __init__(self, of: OwnWord) -> None:
        super().__init__()
        self._of = of
        self.setFixedSize(PICTURE)
        self.setAccessibleName(f"Picture of a {of.word}")

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._of.paint(painter, QRectF(self.rect()).adjusted(4, 4, -4, -4))


def why(word: str) -> QPushButton:
    """Return the "?" that opens what a word of ours means."""
    of = OWN_WORDS[word]
    made = small_button("?", lambda: _open(made, of), tip=f"What is a {word}?")
    made.setAccessibleName(f"What is a {word}?")
    return made


def _open(owner: QWidget, of: OwnWord) -> None:
    popup = Popup(owner, POPUP_PX)
    title = label(of.word.capitalize(), size=14, weight=SEMI)
    fill(popup.body, title, label(of.says, size=12, wrap=True), WordPicture(of))
    popup.open()
