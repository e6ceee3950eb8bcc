"""The thread picture: voices as bars, half steps in the signal colour, drag a voice to move it."""

from PyQt6.QtCore import QEvent, QPointF, QRect, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import (
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QPixmap,
    QResizeEvent,
)
from PyQt6.QtWidgets import QSizePolicy, QWidget

from cloudrift.desktop.chords.model import ThreadPicture, VoiceBar, thread_picture
from cloudrift.desktop.look import MEDIUM, SEMI, color, figure_font, text_font
from cloudrift.desktop.session import Session
from cloudrift.loop import chord_edits
from cloudrift.notes.time import bar_ticks

LEFT = 66
GAP_PX = 13.0  # room between two chords for the threads
MIN_LABEL_PX = 9.5


class Threads(QWidget):
    """The picture itself. Keys: ←/→ chord, Page Up/Down voice, ↑/↓ scale step, Shift semitone."""

    moved = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._model = thread_picture(session.loop)
        self._pixmap: QPixmap | None = None
        self._share = 0.0
        self._drag: tuple[float, int, str, int] | None = None  # y, pitch, chord, voice
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumHeight(220)
        self.setMouseTracking(True)
        self.setAccessibleName("Voices of the chords over the loop")
        session.changed.connect(lambda _b, _a: self._refresh())
        session.opened.connect(self._refresh)
        session.selected.connect(self._redraw)

    # --- places -------------------------------------------------------------------------------

    def at_x(self, share: float) -> float:
        """Return the pixel of a place in the loop."""
        return LEFT + share * (self.width() - LEFT - 2)

    def _lane_height(self) -> float:
        return (self.height() - 4) / (self._model.high - self._model.low + 1)

    def at_y(self, pitch: float) -> float:
        """Return the pixel of the middle of a pitch's lane."""
        return 2 + (self._model.high - pitch + 0.5) * self._lane_height()

    def bar_box(self, bar: VoiceBar) -> QRectF:
        """Return where a voice is painted."""
        left, right = self.at_x(bar.start) + 3, self.at_x(bar.end) - GAP_PX - 2
        height = min(11.0, self._lane_height() * 0.82)
        return QRectF(left, self.at_y(bar.pitch) - height / 2, max(right - left, 6.0), height)

    def _bar_at(self, point: QPointF) -> VoiceBar | None:
        reach = max(2.0, (9 - self._lane_height()) / 2)
        near = [b for b in self._model.bars
                if self.bar_box(b).adjusted(-2, -reach, 2, reach).contains(point)]  # fmt: skip
        return min(near, key=lambda b: abs(self.at_y(b.pitch) - point.y()), default=None)

    # --- changes ------------------------------------------------------------------------------

    def _refresh(self) -> None:
        self._model = thread_picture(self._session.loop)
        self._redraw()

    def _redraw(self) -> None:
        self._pixmap = None
        self.update()

    def show_place(self, share: float) -> None:
        """Move the playhead; only its strips are painted."""
        before, after = int(self.at_x(self._share)), int(self.at_x(share))
        self._share = share
        if before != after:
            for x in (before, after):
                self.update(QRect(x - 2, 0, 5, self.height()))

    # --- hands --------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        bar = self._bar_at(event.position())
        if bar is not None:
            self._session.select(chord_id=bar.chord_id, voice=bar.voice)
            self._drag = (event.position().y(), bar.pitch, bar.chord_id, bar.voice)
            return
        share = (event.position().x() - LEFT) / max(1, self.width() - LEFT)
        for chord in self._session.loop.chords:
            tick = share * self._session.loop.ticks
            if chord.start_tick <= tick < chord.start_tick + chord.length_ticks:
                self._session.select(chord_id=chord.id, voice=-1)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self._drag is None:
            over = self._bar_at(event.position())
            self.setCursor(Qt.CursorShape.SizeVerCursor if over else Qt.CursorShape.ArrowCursor)
            return
        from_y, from_pitch, chord_id, _ = self._drag
        wanted = from_pitch + round((from_y - event.position().y()) / self._lane_height())
        free = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        if not free and not self._session.loop.key.has(wanted):
            # By scale steps: a note between two of the scale counts as the one it comes from.
            wanted = self._session.loop.key.step(wanted, -1 if wanted > from_pitch else 1)
        voice = self._session.selection.voice
        pitch = self._session.loop.chord(chord_id).voices[voice]
        if wanted != pitch:
            self._move(chord_id, voice, semitones=wanted - pitch, merge=f"drag {chord_id}")

    def mouseReleaseEvent(self, _event: QMouseEvent | None) -> None:
        if self._drag is not None:
            self._drag = None
            self._session.end_drag()

    def _move(
        self, chord_id: str, voice: int, *, steps: int = 0, semitones: int = 0, merge: str = ""
    ) -> None:
        """Move a voice and keep it selected wherever it lands among the others."""
        before = self._session.loop.chord(chord_id).voices
        others = [v for i, v in enumerate(before) if i != voice]
        self._session.apply(
            "move a voice",
            lambda loop: chord_edits.move_voice(
                loop, chord_id, voice, steps=steps, semitones=semitones
            ),
            merge=merge,
        )
        after = self._session.loop.chord(chord_id).voices
        there = next((i for i, v in enumerate(after) if v not in others), voice)
        self._session.select(voice=there)
        self.moved.emit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        session, selection = self._session, self._session.selection
        chords = session.loop.chords
        key = Qt.Key(event.key())
        shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        ids = [chord.id for chord in chords]
        if not ids or event.modifiers() & ~Qt.KeyboardModifier.ShiftModifier:
            super().keyPressEvent(event)
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            at = ids.index(selection.chord_id) + (1 if key == Qt.Key.Key_Right else -1)
            session.select(chord_id=ids[at % len(ids)], voice=-1)
        elif key in (Qt.Key.Key_PageUp, Qt.Key.Key_PageDown):
            count = len(session.loop.chord(selection.chord_id).voices)
            by = 1 if key == Qt.Key.Key_PageUp else -1
            session.select(voice=(selection.voice + by) % count if selection.voice >= 0 else 0)
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down) and selection.voice >= 0:
            by = 1 if key == Qt.Key.Key_Up else -1
            self._move(
                selection.chord_id,
                selection.voice,
                steps=0 if shift else by,
                semitones=by if shift else 0,
            )
            session.end_drag()
        elif key == Qt.Key.Key_Escape and selection.voice >= 0:
            session.select(voice=-1)
        else:
            super().keyPressEvent(event)

    # --- painting -----------------------------------------------------------------------------

    def resizeEvent(self, _event: QResizeEvent | None) -> None:
        self._pixmap = None

    def changeEvent(self, event: QEvent | None) -> None:
        if event is not None and event.type() == QEvent.Type.PaletteChange:
            self._pixmap = None

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        if self._pixmap is None:
            self._pixmap = self._paint_picture()
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self._pixmap)
        painter.setPen(QPen(color("signal"), 2))
        x = self.at_x(self._share)
        painter.drawLine(QPointF(x, 0), QPointF(x, self.height()))
        if self.hasFocus():
            painter.setPen(QPen(color("focus"), 2))
            painter.drawRect(self.rect().adjusted(1, 1, -1, -1))

    def _paint_picture(self) -> QPixmap:
        ratio = self.devicePixelRatioF()
        picture = QPixmap(int(self.width() * ratio), int(self.height() * ratio))
        picture.setDevicePixelRatio(ratio)
        picture.fill(color("paper"))
        painter = QPainter(picture)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._paint_lanes(painter, self._model)
        self._paint_grid(painter)
        self._paint_threads(painter, self._model)
        for bar in self._model.bars:
            self._paint_bar(painter, bar)
        painter.end()
        return picture

    def _paint_lanes(self, painter: QPainter, model: ThreadPicture) -> None:
        height = self._lane_height()
        free_below = -1e9
        for lane in reversed(model.lanes):
            y = self.at_y(lane.pitch)
            box = QRectF(LEFT, y - height / 2, self.width() - LEFT, height)
            if lane.is_tonic:
                painter.fillRect(box, color("focus_soft"))
            elif not lane.degree:
                painter.fillRect(box, color("lane"))
            if lane.degree and y - free_below >= MIN_LABEL_PX:
                free_below = y
                painter.setPen(color("ink" if lane.is_tonic else "ink_soft"))
                painter.setFont(figure_font(9.5, SEMI if lane.is_tonic else MEDIUM))
                row = QRectF(0, y - 7, 38, 14)
                painter.drawText(row, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                                 lane.name)  # fmt: skip
                row = QRectF(44, y - 7, 16, 14)
                painter.drawText(row, Qt.AlignmentFlag.AlignCenter, str(lane.degree))

    def _paint_grid(self, painter: QPainter) -> None:
        loop = self._session.loop
        bar = bar_ticks(loop.metre)
        starts = {chord.start_tick for chord in loop.chords}
        for i in range(loop.bars + 1):
            strong = i * bar in starts or i == loop.bars
            painter.setPen(color("line" if strong else "hair"))
            x = self.at_x(i * bar / loop.ticks)
            painter.drawLine(QPointF(x, 0), QPointF(x, self.height()))

    def _paint_threads(self, painter: QPainter, model: ThreadPicture) -> None:
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for thread in model.threads:
            left, right = self.at_x(thread.start) - GAP_PX - 2, self.at_x(thread.end) + 3
            y0, y1 = self.at_y(thread.from_pitch), self.at_y(thread.to_pitch)
            path = QPainterPath(QPointF(left, y0))
            middle = (left + right) / 2
            path.cubicTo(QPointF(middle, y0), QPointF(middle, y1), QPointF(right, y1))
            pen = QPen(color("ink_soft"), 1.4)
            if thread.move == "half":
                pen = QPen(color("signal"), 2.6)
            elif thread.move == "whole":
                pen = QPen(color("ink_soft"), 2.0)
            elif thread.move == "leap":
                pen.setStyle(Qt.PenStyle.DashLine)
                pen.setColor(color("ink_soft", 0.7))
            painter.setPen(pen)
            painter.drawPath(path)

    def _paint_bar(self, painter: QPainter, bar: VoiceBar) -> None:
        selection = self._session.selection
        chosen_chord = bar.chord_id == selection.chord_id
        box = self.bar_box(bar)
        role = "bass" if bar.is_bass else "keys"
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(color(role, 1.0 if chosen_chord else 0.72))
        painter.drawRoundedRect(box, 4, 4)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if not bar.in_key:
            painter.setPen(QPen(color("signal"), 2))
            painter.drawRoundedRect(box.adjusted(-2, -2, 2, 2), 5, 5)
        if chosen_chord and bar.voice == selection.voice:
            painter.setPen(QPen(color("ink"), 2))
            painter.drawRoundedRect(box.adjusted(-3.5, -3.5, 3.5, 3.5), 6, 6)
            painter.setFont(text_font(11, SEMI))
            name = self._session.loop.key.spell_pitch(bar.pitch)
            tag = QRectF(box.left() + 4, box.top() - 22, 34, 16)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(color("ink"))
            painter.drawRoundedRect(tag, 4, 4)
            painter.setPen(color("on_ink"))
            painter.drawText(tag, Qt.AlignmentFlag.AlignCenter, name)
