"""The sounds as tiles: name, family, and where on the keyboard each is at its best."""

from PyQt6.QtCore import QEvent, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from cloudrift.desktop.kit.held import held
from cloudrift.desktop.kit.look import SEMI, color, text_font
from cloudrift.desktop.kit.rest import Rest
from cloudrift.sound import Instrument

TILE_W, TILE_H, GAP = 152, 46, 5
LOW_PITCH, HIGH_PITCH = 24, 100  # the ends of the register's line


class SoundGrid(QWidget):
    """Tiles in columns. Rest on one or press Enter to hear it; press it to use it.

    ``pointed`` carries the sound that is looked at (or None), ``wanted`` the one to be heard (or
    None for no longer), ``chosen`` one that was pressed and whether Shift was held.
    """

    pointed = pyqtSignal(object)
    wanted = pyqtSignal(object)
    chosen = pyqtSignal(object, bool)
    starred = pyqtSignal(object)
    moved = pyqtSignal(QRectF)  # the keyboard went to a tile there

    def __init__(self) -> None:
        super().__init__()
        self.sounds: list[Instrument] = []
        self.current = 0
        self._used = ""
        self.heard = ""
        self._stars: frozenset[str] = frozenset()
        self.found_by: dict[str, str] = {}
        self._columns = 1
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Sounds")
        self._rest = Rest(self)
        self._rest.rested.connect(self._rested)

    def show_sounds(
        self, sounds: list[Instrument], stars: frozenset[str], found_by: dict[str, str]
    ) -> None:
        """Show these tiles; the cursor stays on its sound if it is still there.

        ``found_by`` has the words that a search found sounds by, where their names don't say them.
        """
        at = self.at_cursor
        self.sounds, self._stars, self.found_by = sounds, stars, found_by
        self.current = sounds.index(at) if at in sounds else 0
        self._fit()
        self.update()

    def show_used(self, name: str) -> None:
        """Mark the sound of the layer that is worked on."""
        self._used = name
        self.update()

    def show_heard(self, name: str) -> None:
        """Mark the sound that is heard in its place; empty for none."""
        self.heard = name
        self.update()

    @property
    def at_cursor(self) -> Instrument | None:
        """The sound that the keyboard is on."""
        return self.sounds[self.current] if self.current < len(self.sounds) else None

    def box(self, i: int) -> QRectF:
        """Return where a tile is."""
        width = (self.width() + GAP) / self._columns
        row, column = divmod(i, self._columns)
        return QRectF(column * width, row * (TILE_H + GAP), width - GAP, TILE_H)

    def _fit(self) -> None:
        self._columns = max(1, (self.width() + GAP) // (TILE_W + GAP))
        rows = -(-len(self.sounds) // self._columns)
        self.setMinimumHeight(max(1, rows) * (TILE_H + GAP))

    def resizeEvent(self, _event: object) -> None:
        self._fit()

    def _at(self, point: QPointF) -> int:
        return next((i for i in range(len(self.sounds)) if self.box(i).contains(point)), -1)

    def _go(self, i: int) -> None:
        if i != self.current and 0 <= i < len(self.sounds):
            self.current = i
            self.update()
        self.pointed.emit(self.at_cursor)

    def _rested(self) -> None:
        if self.underMouse() and self.at_cursor is not None:
            self.wanted.emit(self.at_cursor)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        i = self._at(event.position())
        if i < 0:
            self._rest.stop()
            self.wanted.emit(None)
        elif i != self.current or not (self._rest.waiting or self.heard):
            self.wanted.emit(None)
            self._go(i)
            self._rest.come()

    def leaveEvent(self, _event: QEvent | None) -> None:
        self._rest.stop()
        self.wanted.emit(None)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        i = self._at(event.position())
        if i < 0:
            return
        self._rest.stop()
        self._go(i)
        if event.button() == Qt.MouseButton.RightButton or self._star_box(i).contains(
            event.position()
        ):
            self.starred.emit(self.sounds[i])
        else:
            shift = held(event).shift
            self.chosen.emit(self.sounds[i], shift)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        key, keys = Qt.Key(event.key()), held(event)
        steps = {
            Qt.Key.Key_Left: -1,
            Qt.Key.Key_Right: 1,
            Qt.Key.Key_Up: -self._columns,
            Qt.Key.Key_Down: self._columns,
        }
        sound = self.at_cursor
        if key in steps:
            self.wanted.emit(None)
            self._go(min(max(self.current + steps[key], 0), len(self.sounds) - 1))
            self.moved.emit(self.box(self.current))
        elif sound is not None and key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            if keys.ctrl:
                self.chosen.emit(sound, keys.shift)
            else:
                self.wanted.emit(None if self.heard == sound.name else sound)
        elif sound is not None and key == Qt.Key.Key_Asterisk:
            self.starred.emit(sound)
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, _event: QFocusEvent | None) -> None:
        self.pointed.emit(self.at_cursor)
        self.update()

    def focusOutEvent(self, _event: QFocusEvent | None) -> None:
        self.update()

    def _star_box(self, i: int) -> QRectF:
        box = self.box(i)
        return QRectF(box.right() - 26, box.top(), 26, 24)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        assert event is not None
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for i, sound in enumerate(self.sounds):
            if self.box(i).intersects(QRectF(event.rect())):
                self._paint_tile(painter, i, sound)
        if not self.sounds:
            painter.setPen(color("ink_soft"))
            painter.setFont(text_font(12.5))
            painter.drawText(
                QRectF(0, 8, self.width(), 40),
                Qt.AlignmentFlag.AlignLeft,
                "No sound found. Clear the search or choose another family.",
            )

    def _paint_tile(self, painter: QPainter, i: int, sound: Instrument) -> None:
        box = self.box(i).adjusted(1, 1, -1, -1)
        used, heard = sound.name == self._used, sound.name == self.heard
        on = i == self.current and (self.hasFocus() or self.underMouse())
        painter.setPen(QPen(color("focus" if on else "line"), 2 if on else 1))
        painter.setBrush(color("ink" if heard else "card"))
        painter.drawRoundedRect(box, 5, 5)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(color(sound.role))
        painter.drawRoundedRect(QRectF(box.left() + 1, box.top() + 1, 4, box.height() - 2), 2, 2)
        ink = color("paper" if heard else "ink")
        painter.setPen(ink)
        painter.setFont(text_font(12.5, SEMI))
        inner = box.adjusted(12, 5, -8, -5)
        painter.drawText(inner, Qt.AlignmentFlag.AlignTop, sound.label)
        painter.setFont(text_font(10.5))
        painter.setPen(color("paper" if heard else "ink_soft"))
        words = f"{sound.family} · in use" if used else sound.family
        words = self.found_by.get(sound.name, words)
        painter.drawText(inner, Qt.AlignmentFlag.AlignBottom, words)
        star = sound.name in self._stars
        if star or on:
            painter.setPen(color("signal") if star else color("ink_soft"))
            painter.setFont(text_font(13))
            painter.drawText(self._star_box(i), Qt.AlignmentFlag.AlignCenter, "★" if star else "☆")
        self._paint_register(painter, inner, sound)

    @staticmethod
    def _paint_register(painter: QPainter, inner: QRectF, sound: Instrument) -> None:
        """A short keyboard as a line, with the part on it where the sound is at its best."""
        width = 52.0
        left, y = inner.right() - width, inner.bottom() - 6

        def x(pitch: int) -> float:
            share = (pitch - LOW_PITCH) / (HIGH_PITCH - LOW_PITCH)
            return left + width * min(max(share, 0.0), 1.0)

        painter.setPen(QPen(color("line"), 2))
        painter.drawLine(QPointF(left, y), QPointF(left + width, y))
        painter.setPen(QPen(color(sound.role), 3))
        painter.drawLine(QPointF(x(sound.register[0]), y), QPointF(x(sound.register[1]), y))
        painter.setPen(QPen(color("ink_soft"), 1))
        painter.drawLine(QPointF(x(60), y - 3), QPointF(x(60), y + 3))  # middle C
