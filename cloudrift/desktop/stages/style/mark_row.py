"""A mark as a row: what is asked is a bar on an axis, the loop is a dot."""

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QPushButton, QWidget

from cloudrift.desktop.kit.layouts import fill, horizontal
from cloudrift.desktop.kit.look import MEDIUM, color, figure_font, text_font
from cloudrift.desktop.kit.trying import Trying
from cloudrift.desktop.session.session import Session
from cloudrift.loop.model.loop import Loop
from cloudrift.style.marks import Change, Mark
from cloudrift.style.marks.kind import is_range

HIGH = 29
LABEL, VALUE, AXIS, WHERE = (34.0, 180.0), (214.0, 108.0), (338.0, 268.0), 624.0  # x, width in px
CHANGE_PX = 178


class MarkRow(QWidget):
    """One kind of mark; with what would meet it, where it is missed and there is such an edit."""

    def __init__(self, mark: Mark, session: Session) -> None:
        super().__init__()
        self._session = session
        self.mark = mark
        self._change: Change | None = None
        self.setFixedHeight(HIGH)
        self.button = QPushButton()
        self.button.setFixedWidth(CHANGE_PX)
        self.button.setProperty("fit", "small")
        self.button.clicked.connect(self._make)
        Trying(self.button, session, self._edit, f"with {mark.kind.label.lower()} met")
        line = horizontal(self, (0, 2, 8, 2))
        fill(line, 1, self.button)
        self.show_mark(mark, None)

    def show_mark(self, mark: Mark, change: Change | None) -> None:
        """Show what was found, and what would meet it."""
        self.mark, self._change = mark, change
        self.button.setVisible(change is not None)
        if change is not None:
            metrics = self.button.fontMetrics()
            words = metrics.elidedText(change.words, Qt.TextElideMode.ElideRight, CHANGE_PX - 22)
            self.button.setText(words.replace("&", "&&"))
            self.button.setToolTip(f"{change.words}. Rest to hear it")
            self.button.setAccessibleName(f"{mark.kind.label}: {change.words}")
        asked = "not asked for" if mark.asked is None else f"asks for {mark.kind.asks(mark.asked)}"
        state = (
            "rendering…"
            if mark.waits
            else "met"
            if mark.met
            else ("missed" if mark.missed else "left open")
        )
        where = f": {mark.found.where}" if mark.found and mark.found.where else ""
        self.setAccessibleName(f"{mark.kind.label}, {mark.found_text}, {asked}, {state}{where}")
        self.setToolTip(f"{mark.kind.label}: {mark.kind.about}. {asked.capitalize()}")
        self.update()

    def _edit(self, loop: Loop) -> Loop:
        return loop if self._change is None else self._change.edit(loop)

    def _make(self) -> None:
        if self._change is not None:
            self._session.apply(f"mark: {self._change.words}", self._change.edit)

    # --- painting -----------------------------------------------------------------------------

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        mark, kind = self.mark, self.mark.kind
        box = QRectF(self.rect()).adjusted(0.5, 1.5, -0.5, -1.5)
        painter.setPen(QPen(color("hair"), 1))
        painter.setBrush(color("card"))
        painter.drawRoundedRect(box, 4, 4)
        middle = Qt.AlignmentFlag.AlignVCenter
        sign, tint = (
            ("✓", "good") if mark.met else ("!", "warn") if mark.missed else ("·", "ink_soft")
        )
        painter.setPen(color(tint))
        painter.setFont(text_font(13, MEDIUM))
        painter.drawText(QRectF(12, 0, 20, HIGH), middle, sign)
        painter.setPen(color("ink"))
        painter.setFont(text_font(12, MEDIUM))
        painter.drawText(QRectF(LABEL[0], 0, LABEL[1], HIGH), middle, kind.label)
        painter.setFont(figure_font(11.5))
        found = "" if kind.words else mark.found_text
        painter.drawText(
            QRectF(VALUE[0], 0, VALUE[1], HIGH), middle | Qt.AlignmentFlag.AlignRight, found
        )
        if mark.asked is None or is_range(mark.asked):
            self._paint_axis(painter)
        painter.setPen(color("ink_soft"))
        painter.setFont(text_font(11))
        room = self.width() - WHERE - 8 - (CHANGE_PX + 8 if self.button.isVisibleTo(self) else 0)
        left = WHERE
        if kind.words:  # there is no axis for words
            left, room = AXIS[0], room + WHERE - AXIS[0]
        text = painter.fontMetrics().elidedText(
            self._evidence(), Qt.TextElideMode.ElideRight, int(max(room, 0))
        )
        painter.drawText(QRectF(left, 0, max(room, 0), HIGH), middle, text)

    def _evidence(self) -> str:
        mark = self.mark
        if mark.waits:
            return "when rendered"
        where = mark.found.where if mark.found else "nothing to measure"
        if mark.kind.words and mark.asked is not None:
            return f"{mark.found_text}; the card asks for {mark.kind.asks(mark.asked)}"
        if mark.asked is not None and (mark.missed or not where):
            return f"asks for {mark.kind.asks(mark.asked)}" + (f"; {where}" if where else "")
        return where

    def _paint_axis(self, painter: QPainter) -> None:
        mark, kind = self.mark, self.mark.kind
        y = HIGH / 2
        painter.setPen(QPen(color("line"), 1.5))
        painter.drawLine(QPointF(AXIS[0], y), QPointF(AXIS[0] + AXIS[1], y))
        painter.setPen(Qt.PenStyle.NoPen)
        if mark.asked is not None:
            low, high = (AXIS[0] + AXIS[1] * kind.share(float(end)) for end in mark.asked)
            painter.setBrush(color("focus", 0.30))
            painter.drawRoundedRect(QRectF(low - 3, y - 4, max(high - low, 0) + 6, 8), 4, 4)
        if mark.found is not None and not isinstance(mark.found.value, str):
            x = AXIS[0] + AXIS[1] * kind.share(mark.found.value)
            painter.setBrush(color("good" if mark.met else "signal" if mark.missed else "ink_soft"))
            painter.drawEllipse(QPointF(x, y), 5, 5)
