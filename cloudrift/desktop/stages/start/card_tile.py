"""A style card to begin from, as a picture of a sketch in that style."""

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetrics, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QAbstractButton, QSizePolicy

from cloudrift.desktop.kit.look import SEMI, color, figure_font, text_font
from cloudrift.desktop.kit.rest import Rest
from cloudrift.desktop.kit.still import paint_playhead
from cloudrift.style import Card
from cloudrift.style.pictures import CardPicture

SIZE = QSize(216, 146)  # px, at least
PAD, WORDS_TOP, PICTURE_TOP, FOOT = 13, 30, 66, 26  # px: edge; about; picture; tempo and scales
NAMES = 14  # px above the strata, for the chords' names


class CardTile(QAbstractButton):
    """``rested`` when somebody wants to hear its sketch, ``gone`` when no longer."""

    rested = pyqtSignal()
    gone = pyqtSignal()

    def __init__(self, card: Card, picture: CardPicture) -> None:
        super().__init__()
        self.card, self._picture = card, picture
        self._share = -1.0
        tempo = card.tempo
        self._tempo = f"{tempo.low:g} to {tempo.high:g} BPM"
        self._scales = list(dict.fromkeys(card.key.modes))
        self.setText(card.name)
        self.setCheckable(True)
        self.setAutoExclusive(True)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(f"Style card {card.name}: {card.about}")
        self.setToolTip(f"{card.about} {self._tempo}; {', '.join(self._scales)}")
        self._rest = Rest(self)
        self._rest.rested.connect(self.rested)
        self._rest.left.connect(self.gone)

    def sizeHint(self) -> QSize:
        return SIZE

    def minimumSizeHint(self) -> QSize:
        return SIZE

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if not self._rest.waiting and not self._rest.is_heard:
            self._rest.come()
        super().mouseMoveEvent(event)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        self._rest.stop()
        super().mousePressEvent(event)

    def leaveEvent(self, _event: object) -> None:
        self._rest.go()

    def hideEvent(self, _event: object) -> None:
        self._rest.go()

    def show_place(self, share: float) -> None:
        """Show where the sketch is that is heard; below 0: it is another that is."""
        if share != self._share:
            self._share = share
            self.update()

    # --- painting -----------------------------------------------------------------------------

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        on, warm = self.isChecked(), self.hasFocus() or self.underMouse()
        edge = "focus" if self.hasFocus() else "ink" if on else "ink_soft" if warm else "line"
        painter.setPen(QPen(color(edge), 2 if on or self.hasFocus() else 1))
        painter.setBrush(color("card"))
        painter.drawRoundedRect(box, 5, 5)
        inner = box.adjusted(PAD, 8, -PAD, -7)
        painter.setPen(color("ink"))
        painter.setFont(text_font(14, SEMI))
        painter.drawText(inner, Qt.AlignmentFlag.AlignTop, self.card.name)
        painter.setPen(color("ink_soft"))
        painter.setFont(text_font(11))
        words = QRectF(inner.left(), box.top() + WORDS_TOP, inner.width(), PICTURE_TOP - WORDS_TOP)
        painter.drawText(words, Qt.TextFlag.TextWordWrap, self.card.about)
        picture = QRectF(inner.left(), box.top() + PICTURE_TOP, inner.width(),
                         box.height() - PICTURE_TOP - FOOT)  # fmt: skip
        self._paint_picture(painter, picture)
        self._paint_foot(painter, inner)

    def _paint_foot(self, painter: QPainter, inner: QRectF) -> None:
        painter.setPen(color("ink_soft"))
        painter.setFont(figure_font(10.5))
        painter.drawText(inner, Qt.AlignmentFlag.AlignBottom, self._tempo)
        room = int(inner.width() - painter.fontMetrics().horizontalAdvance(self._tempo) - 10)
        painter.setFont(text_font(11))
        scales = self._scales_in(room, painter.fontMetrics())
        right = Qt.AlignmentFlag.AlignBottom | Qt.AlignmentFlag.AlignRight
        painter.drawText(inner, right, scales)

    def _scales_in(self, room: int, metrics: QFontMetrics) -> str:
        """As many of the scales as there is room for, in px, and how many more there are."""
        for count in range(len(self._scales), 0, -1):
            more = len(self._scales) - count
            words = ", ".join(self._scales[:count]) + (f" and {more} more" if more else "")
            if metrics.horizontalAdvance(words) <= room:
                return words
        return ""

    def _paint_picture(self, painter: QPainter, box: QRectF) -> None:
        """Chord names over the strata of the layers, over the time of the loop."""
        painter.setFont(text_font(10.5, SEMI))
        free = box.left()
        for name, start in self._picture.chords:
            x = box.left() + start * box.width()
            painter.setPen(color("hair"))
            painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
            painter.setPen(color("ink"))
            if x >= free:
                painter.drawText(QPointF(x + 2, box.top() + NAMES - 4), name)
                free = x + painter.fontMetrics().horizontalAdvance(name) + 5
        high, columns = box.height() - NAMES, len(self._picture.strata[0][1]) if (
            self._picture.strata) else 0  # fmt: skip
        floor = [0.0] * columns
        xs = [box.left() + box.width() * (i + 0.5) / columns for i in range(columns)]
        painter.setPen(Qt.PenStyle.NoPen)
        for role, curve in reversed(self._picture.strata):
            roof = [low + value / 255 for low, value in zip(floor, curve, strict=True)]
            shape = [QPointF(x, box.bottom() - high * y) for x, y in zip(xs, roof, strict=True)]
            shape += [
                QPointF(x, box.bottom() - high * y) for x, y in zip(xs[::-1], floor[::-1],
                                                                      strict=True)
            ]  # fmt: skip
            painter.setBrush(color(role, 0.62))
            painter.drawPolygon(QPolygonF(shape))
            floor = roof
        if self._share >= 0:
            x = box.left() + self._share * box.width()
            paint_playhead(painter, x, box.top(), box.bottom())
