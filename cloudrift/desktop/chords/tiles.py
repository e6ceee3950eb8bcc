"""The chord tiles above the threads: name and degree, each as wide as its chord."""

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from cloudrift.desktop.chords.threads import LEFT
from cloudrift.desktop.look import SEMI, color, text_font
from cloudrift.desktop.session import Session
from cloudrift.loop.model import Chord

HEIGHT = 52


class ChordTiles(QWidget):
    """A row of tiles in time with the picture below."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.setFixedHeight(HEIGHT)
        self.setAccessibleName("Chords of the loop")
        session.changed.connect(lambda _b, _a: self.update())
        session.opened.connect(self.update)
        session.selected.connect(self.update)

    def box(self, chord: Chord) -> QRectF:
        """Return where a chord's tile is."""
        width, ticks = self.width() - LEFT - 2, self._session.loop.ticks
        left = LEFT + width * chord.start_tick / ticks
        return QRectF(left + 1, 1, width * chord.length_ticks / ticks - 4, HEIGHT - 4)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        for chord in self._session.loop.chords:
            if self.box(chord).contains(event.position()):
                self._session.select(chord_id=chord.id, voice=-1)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        loop = self._session.loop
        for chord in loop.chords:
            reading = chord.read(loop.key)
            box = self.box(chord)
            on = chord.id == self._session.selection.chord_id
            painter.setPen(QPen(color("ink" if on else "line"), 1))
            painter.setBrush(color("ink" if on else "card"))
            painter.drawRoundedRect(box, 5, 5)
            narrow = box.width() < 64
            inner = box.adjusted(5, 6, -2, -6) if narrow else box.adjusted(9, 5, -6, -6)
            painter.setClipRect(box)
            painter.setPen(color("on_ink" if on else "ink"))
            painter.setFont(text_font(11.5 if narrow else 17 if box.width() > 84 else 13.5, SEMI))
            painter.drawText(inner, Qt.AlignmentFlag.AlignTop, reading.text)
            painter.setFont(text_font(10 if narrow else 11))
            painter.setPen(color("on_ink" if on else "ink_soft"))
            painter.drawText(inner, Qt.AlignmentFlag.AlignBottom, reading.degree_text)
            outside = [v for v in chord.voices if not loop.key.has(v)]
            if outside and box.width() > 120:
                names = " ".join(dict.fromkeys(loop.key.spell_pitch(v)[:-1] for v in outside))
                painter.setPen(color("on_ink" if on else "signal"))
                right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop
                painter.drawText(inner, right, f"{names} out of key")
            painter.setClipping(False)
