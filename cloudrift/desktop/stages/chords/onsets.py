"""The onsets lane: where chords are struck; press to strike there too, drag to be late."""

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen

from cloudrift.desktop.kit.grid import asks_free, asks_half
from cloudrift.desktop.kit.look import color, text_font
from cloudrift.desktop.stages.chords.in_time import InTime
from cloudrift.desktop.stages.chords.moves import Moves
from cloudrift.desktop.stages.chords.thread_paint import LEFT, MIDDLE_V, RIGHT
from cloudrift.loop.edits.chords import chord_time
from cloudrift.loop.model.loop import Chord, Loop
from cloudrift.notes.time import NOTE_VALUES, beat_ticks

HEIGHT = 25
NEAR_PX = 6


def ticks_in_words(ticks: int) -> str:
    """Write a short time as a note value where it is one."""
    for name, value in NOTE_VALUES.items():
        if value == ticks:
            return name
    if ticks and 3840 % ticks == 0:
        return f"1/{3840 // ticks}"
    return f"{ticks / 960:.2g} quarter{'s' * (ticks > 960)}"


class Onsets(InTime):
    """One lane under the threads, on the grid."""

    def __init__(self, moves: Moves) -> None:
        super().__init__(moves, HEIGHT)
        self._drag: tuple[str, float] | None = None
        self._moved = False
        self.setAccessibleName("Onsets: where the chords are played")
        self.setToolTip(
            "Click to play the chord there too, or not; drag its first onset to the right to make "
            "it late"
        )
        moves.grid.changed.append(self.update)

    def _chord_at(self, tick: float) -> Chord | None:
        chords = self._session.loop.chords
        return next((c for c in chords if c.start_tick <= tick < c.end_tick), None)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        x = event.position().x()
        first = [
            c for c in self._session.loop.chords if abs(self.axis.at_x(c.hits[0][0]) - x) <= NEAR_PX
        ]
        chord = first[0] if first else self._chord_at(self.axis.tick_at(x))
        if chord is None:
            return
        self._moves.choose(chord.id)
        self._moved = False
        if first:
            self._drag = chord.id, x
        else:
            self._toggle(chord, x)

    def _toggle(self, chord: Chord, x: float) -> None:
        start = chord.start_tick + chord.late_ticks
        near = [s for s, _ in chord.hits if abs(self.axis.at_x(s) - x) <= NEAR_PX]
        tick = near[0] - start if near else self._moves.grid.snap(self.axis.tick_at(x) - start)
        if 0 <= tick < chord.end_tick - start:
            self._moves.apply("strikes", lambda p: chord_time.toggle_strike(p, chord.id, tick))

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self._drag is None:
            return
        chord_id, x = self._drag
        if not self._moved and abs(event.position().x() - x) < 4:
            return
        self._moved = True
        keys = event.modifiers()
        chord = self._session.loop.chord(chord_id)
        ticks = self._moves.grid.snap(
            self.axis.tick_at(event.position().x()) - chord.start_tick,
            half=asks_half(keys),
            free=asks_free(keys),
        )
        self._session.apply(
            "late", lambda p: chord_time.set_late(p, [chord_id], ticks), merge=f"late {chord_id}"
        )

    def mouseReleaseEvent(self, _event: QMouseEvent | None) -> None:
        if self._drag is not None:
            chord_id, x = self._drag
            self._drag = None
            if not self._moved:
                self._toggle(self._session.loop.chord(chord_id), x)
            self._session.end_drag()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        assert event is not None
        seen = QRectF(event.rect())
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        loop = self._session.loop
        painter.setFont(text_font(11))
        painter.setPen(color("ink_soft"))
        painter.drawText(QRectF(0, 0, LEFT - 8, HEIGHT), RIGHT | MIDDLE_V, "Onsets")
        painter.setPen(QPen(color("line"), 1))
        painter.setBrush(color("card"))
        painter.drawRoundedRect(QRectF(LEFT, 2, self.width() - LEFT - 2, HEIGHT - 4), 4, 4)
        self._paint_ticks(painter, loop, seen)
        for chord in self.seen_chords(seen):
            self._paint_chord(painter, chord)

    def _paint_ticks(self, painter: QPainter, loop: Loop, seen: QRectF) -> None:
        step = self._moves.grid.ticks
        beat = beat_ticks(loop.metre)
        if step / loop.ticks * (self.width() - LEFT) < 5:
            step = beat
        painter.setPen(color("line"))
        first = max(1, int(self.axis.tick_at(seen.left()) // step))
        last = min(loop.ticks, int(self.axis.tick_at(seen.right() + 1)) + step)
        for tick in range(first * step, last, step):
            x = self.axis.at_x(tick)
            height = 7 if tick % beat == 0 else 4
            painter.drawLine(QPointF(x, HEIGHT - 3 - height), QPointF(x, HEIGHT - 3))

    def _paint_chord(self, painter: QPainter, chord: Chord) -> None:
        chosen = chord.id in self._session.selection.chord_ids
        late = chord.late_ticks > 0
        all_tied = set(chord.voices) <= set(chord.tied)
        for i, (start, length) in enumerate(chord.hits):
            x = self.axis.at_x(start)
            held = QRectF(x, HEIGHT / 2 - 2, max(2.0, self.axis.at_x(start + length) - x - 2), 4)
            painter.fillRect(held, color("keys", 0.45 if chosen else 0.25))
            mark = QRectF(x - 1, 4, 4, HEIGHT - 8)
            ink = color("signal" if late else "ink")
            if all_tied and i == 0:
                painter.setPen(QPen(ink, 1))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRect(mark)
            else:
                painter.fillRect(mark, ink)
        if late:
            painter.setPen(color("signal"))
            painter.setFont(text_font(10.5))
            words = f"late by {ticks_in_words(chord.late_ticks)}"
            left = self.axis.at_x(chord.hits[0][0]) + 6
            room = self.axis.at_x(chord.end_tick) - left - 4
            if painter.fontMetrics().horizontalAdvance(words) < room:
                painter.fillRect(
                    QRectF(left, 4, painter.fontMetrics().horizontalAdvance(words) + 4, HEIGHT - 8),
                    color("card"),
                )
                painter.drawText(
                    QRectF(left + 2, 2, room, HEIGHT - 4), Qt.AlignmentFlag.AlignVCenter, words
                )
