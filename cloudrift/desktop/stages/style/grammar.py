"""A card's chord grammar as a graph: degrees on a ring, an arrow to each that may follow."""

import math

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF

from cloudrift.desktop.kit.keyed import Keyed
from cloudrift.desktop.kit.look import SEMI, color, text_font
from cloudrift.style.card import Grammar
from cloudrift.style.compare import swapped_arrow
from cloudrift.theory.pitch import pretty

HIGH, NODE_PX, HEAD_PX = 250, 19.0, 7.0


class GrammarView(Keyed):
    """Press a degree, then another: an arrow comes, or goes. ``edited`` carries the grammar."""

    edited = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self._grammar: Grammar | None = None
        self.tokens: tuple[str, ...] = ()
        self.at = 0
        self.held = ""  # the degree that an arrow begins at
        self.setMinimumSize(300, HIGH)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setToolTip(
            "Click a degree, then another: it may follow, or no longer does. Keys: arrows select, "
            "Enter picks and connects. Starting degrees have a ring, usual endings a bar"
        )

    def sizeHint(self) -> QSize:
        return QSize(320, HIGH)

    def show_grammar(self, grammar: Grammar) -> None:
        """Show what follows what."""
        self._grammar = grammar
        self.tokens = tuple(
            sorted(grammar.next, key=lambda t: (t.lower().strip("#b°0123456789"), t))
        )
        self.at = min(self.at, max(0, len(self.tokens) - 1))
        self.held = self.held if self.held in self.tokens else ""
        self._name_for_readers()
        self.update()

    def _name_for_readers(self) -> None:
        if not self.tokens or self._grammar is None:
            return
        token = self.tokens[self.at]
        behind = ", ".join(self._grammar.next[token])
        held = f"; picked: {self.held}" if self.held else ""
        self.setAccessibleName(f"What follows {token}: {behind}{held}")

    def place(self, token: str) -> QPointF:
        """Return where a degree stands."""
        turn = 2 * math.pi * self.tokens.index(token) / max(len(self.tokens), 1) - math.pi / 2
        wide, high = self.width() / 2 - NODE_PX - 8, self.height() / 2 - NODE_PX - 8
        return QPointF(
            self.width() / 2 + wide * math.cos(turn), self.height() / 2 + high * math.sin(turn)
        )

    def _take(self, token: str) -> None:
        """Hold a degree, or lay an arrow from the one that is held."""
        self.at = self.tokens.index(token)
        grammar = self._grammar
        if not self.held or self.held == token or grammar is None:
            self.held = "" if self.held == token else token
        else:
            first, self.held = self.held, ""
            self.edited.emit(swapped_arrow(grammar, first, token))
        self._name_for_readers()
        self.update()

    # --- hands --------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        for token in self.tokens:
            away = event.position() - self.place(token)
            if math.hypot(away.x(), away.y()) <= NODE_PX + 2:
                self._take(token)
                return
        self.held = ""
        self.update()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        step = {
            Qt.Key.Key_Left: -1,
            Qt.Key.Key_Up: -1,
            Qt.Key.Key_Right: 1,
            Qt.Key.Key_Down: 1,
        }.get(Qt.Key(event.key()), 0)
        if step and self.tokens:
            self.at = (self.at + step) % len(self.tokens)
            self._name_for_readers()
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.tokens:
            self._take(self.tokens[self.at])
        else:
            super().keyPressEvent(event)

    # --- painting -----------------------------------------------------------------------------

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        grammar = self._grammar
        if grammar is None:
            return
        for first, behind in grammar.next.items():
            for then in behind:
                if first != then and then in self.tokens:
                    self._paint_arrow(painter, first, then)
        painter.setFont(text_font(11.5, SEMI))
        for i, token in enumerate(self.tokens):
            self._paint_degree(painter, grammar, i, token)

    def _paint_arrow(self, painter: QPainter, first: str, then: str) -> None:
        start, end = self.place(first), self.place(then)
        way = end - start
        long = max(math.hypot(way.x(), way.y()), 1.0)
        unit = QPointF(way.x() / long, way.y() / long)
        side = QPointF(-unit.y(), unit.x()) * 3  # there and back lie beside each other
        start, end = start + unit * NODE_PX + side, end - unit * (NODE_PX + 1) + side
        chosen = first == (self.held or self.tokens[self.at])
        tint = color("focus" if chosen else "ink_soft", 0.95 if chosen else 0.45)
        painter.setPen(QPen(tint, 2 if chosen else 1))
        painter.drawLine(start, end)
        wing = QPointF(-unit.y(), unit.x()) * (HEAD_PX / 2)
        painter.setBrush(tint)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.drawPolygon(
            QPolygonF([end, end - unit * HEAD_PX + wing, end - unit * HEAD_PX - wing])
        )

    def _paint_degree(self, painter: QPainter, grammar: Grammar, at: int, token: str) -> None:
        place = self.place(token)
        focus = self.hasFocus() and at == self.at
        held = token == self.held
        starts = token in grammar.starts
        painter.setPen(
            QPen(
                color("focus" if focus or held else "ink" if starts else "line"),
                2.5 if focus or held or starts else 1,
            )
        )
        painter.setBrush(color("focus", 0.2) if held else color("card"))
        painter.drawEllipse(place, NODE_PX, NODE_PX)
        painter.setPen(color("ink"))
        box = QRectF(place.x() - NODE_PX, place.y() - NODE_PX, 2 * NODE_PX, 2 * NODE_PX)
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, pretty(token))
        if token in grammar.ends:
            painter.setPen(QPen(color("ink"), 2.5))
            painter.drawLine(
                QPointF(place.x() - 8, place.y() + 13), QPointF(place.x() + 8, place.y() + 13)
            )
