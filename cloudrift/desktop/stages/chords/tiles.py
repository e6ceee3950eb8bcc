"""The chord tiles above the threads: name and degree, each as wide as its chord."""

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen

from cloudrift.desktop.kit.grid import asks_free, asks_half
from cloudrift.desktop.kit.held import held
from cloudrift.desktop.kit.look import SEMI, color, text_font
from cloudrift.desktop.stages.chords.in_time import InTime
from cloudrift.desktop.stages.chords.model import colour_of, outside_words, setting_words
from cloudrift.desktop.stages.chords.moves import Moves
from cloudrift.desktop.stages.chords.thread_paint import EDGE_PX, LEFT
from cloudrift.loop.edits.chords import chord_time
from cloudrift.loop.model.loop import Chord

HEIGHT = 50
TOP, BOTTOM = Qt.AlignmentFlag.AlignTop, Qt.AlignmentFlag.AlignBottom
RIGHT = Qt.AlignmentFlag.AlignRight


class ChordTiles(InTime):
    """A row of tiles in time with the picture below. Drag one along, or its ends."""

    def __init__(self, moves: Moves) -> None:
        super().__init__(moves, HEIGHT)
        self._drag: tuple[str, str, float, int] | None = None  # kind, chord, x, tick there
        self._moved = False
        self.setMouseTracking(True)
        self.setAccessibleName("Chords of the loop")

    def box(self, chord: Chord) -> QRectF:
        """Return where a chord's tile is."""
        left, right = self.axis.at_x(chord.start_tick), self.axis.at_x(chord.end_tick)
        return QRectF(left + 1, 1, right - left - 3, HEIGHT - 4)

    def _at(self, point: QPointF) -> tuple[Chord, str] | None:
        for chord in self._session.loop.chords:
            box = self.box(chord)
            if box.adjusted(-1, 0, 2, 0).contains(point):
                wide = box.width() > 5 * EDGE_PX
                if wide and point.x() < box.left() + EDGE_PX:
                    return chord, "start"
                if wide and point.x() > box.right() - EDGE_PX:
                    return chord, "end"
                return chord, "place"
        return None

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        found = self._at(event.position())
        if found is None:
            return
        chord, kind = found
        shift, ctrl, _ = held(event)
        self._moves.choose(chord.id, add=ctrl, to=shift)
        tick = chord.end_tick if kind == "end" else chord.start_tick
        if not ctrl and not shift:
            self._drag = kind, chord.id, event.position().x(), tick
            self._moved = False
            self._session.hearing.once.edit(chord.id)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self._drag is None:
            found = self._at(event.position())
            edge = found is not None and found[1] != "place"
            self.setCursor(Qt.CursorShape.SizeHorCursor if edge else Qt.CursorShape.ArrowCursor)
            return
        kind, chord_id, x, from_tick = self._drag
        pixels = event.position().x() - x
        if abs(pixels) < 4 and not self._moved:
            return  # a press that trembles
        self._moved = True
        keys = event.modifiers()
        tick = self._moves.grid.snap(
            from_tick + self.axis.ticks_of(pixels), half=asks_half(keys), free=asks_free(keys)
        )
        edit = {
            "start": chord_time.set_start,
            "end": chord_time.set_end,
            "place": chord_time.place_chord,
        }[kind]
        self._session.apply(
            {"place": "move a chord in time"}.get(kind, f"{kind} of a chord"),
            lambda loop: edit(loop, chord_id, tick),
            merge=f"tile {kind} {chord_id}",
            moving=True,
        )

    def mouseReleaseEvent(self, _event: QMouseEvent | None) -> None:
        if self._drag is not None:
            self._drag = None
            self._session.end_drag()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        assert event is not None
        seen = QRectF(event.rect())
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(text_font(11))
        painter.setPen(color("ink_soft"))
        painter.drawText(
            QRectF(0, 0, LEFT - 8, HEIGHT - 4), RIGHT | Qt.AlignmentFlag.AlignVCenter, "Chords"
        )
        for chord in self.seen_chords(seen):
            self._paint_tile(painter, chord)

    def _paint_tile(self, painter: QPainter, chord: Chord) -> None:
        loop, selection = self._session.loop, self._session.selection
        box = self.box(chord)
        front, chosen = chord.id == selection.chord_id, chord.id in selection.chord_ids
        painter.setPen(QPen(color("ink" if chosen else "line"), 2 if chosen and not front else 1))
        painter.setBrush(color("ink" if front else "card"))
        painter.drawRoundedRect(box, 5, 5)
        narrow = box.width() < 64
        inner = box.adjusted(5, 6, -2, -6) if narrow else box.adjusted(9, 4, -7, -5)
        painter.setClipRect(box)
        painter.setPen(color("on_ink" if front else "ink"))
        size = 11.5 if narrow else 16 if box.width() > 84 else 13.5
        painter.setFont(text_font(size, SEMI))
        name = chord.read(loop.key).text
        painter.drawText(inner, TOP, name)
        used = painter.fontMetrics().horizontalAdvance(name)
        painter.setFont(text_font(10 if narrow else 11))
        painter.setPen(color("on_ink" if front else "ink_soft"))
        words = (
            setting_words(loop, chord) if box.width() > 100 else chord.read(loop.key).degree_text
        )
        painter.drawText(inner, BOTTOM, words)
        outside = outside_words(loop, chord)
        says = f"{outside} out of key" if outside else colour_of(loop, chord)
        if painter.fontMetrics().horizontalAdvance(says) + used + 10 < inner.width():
            soft = "signal" if outside else "ink_soft"
            painter.setPen(color("on_ink" if front else soft))
            painter.drawText(inner, RIGHT | TOP, says)
        painter.setClipping(False)
