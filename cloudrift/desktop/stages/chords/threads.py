"""The thread picture under hands: drag voices, chords and their ends; all of it by keys too."""

import math
from dataclasses import dataclass

from PyQt6.QtCore import QEvent, QPointF, QRectF, Qt
from PyQt6.QtGui import (
    QContextMenuEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPixmap,
    QResizeEvent,
    QWheelEvent,
)
from PyQt6.QtWidgets import QMenu, QSizePolicy, QWidget

from cloudrift.desktop.kit.grid import asks_free, asks_half
from cloudrift.desktop.kit.held import held
from cloudrift.desktop.kit.look import color
from cloudrift.desktop.kit.parts import menu_of, paint_focus
from cloudrift.desktop.kit.still import paint_playhead, playhead_moved
from cloudrift.desktop.stages.chords.model import WHOLE, VoiceBar, changed_span, thread_picture
from cloudrift.desktop.stages.chords.moves import OCTAVE, Moves
from cloudrift.desktop.stages.chords.thread_paint import (
    LEFT,
    MARK_PX,
    Places,
    paint_mark,
    paint_picture,
)
from cloudrift.loop.edits.chords import chord_edits, chord_time
from cloudrift.loop.model import spec
from cloudrift.loop.model.loop import Chord, Loop

STEPS_A_SEMITONE = 7 / 12
OUT_PX = 10  # a voice dragged so far into the ladder is taken out
MIN_RANGE = 12
LEAST_PX = 220  # of height: voices can still be told apart, and taken hold of
HINT = (
    "Drag a voice by scale steps, with Shift by semitones; its ends change the chord's length, on "
    "the grid (Shift: half the grid, Alt: no grid).\nCtrl-drag pulls out a new voice, a drag into "
    "the note names deletes it.\nDrag between the voices to move the whole chord; double-click "
    "adds a voice there.\nKeys: ← → chord, Page Up/Down voice, ↑ ↓ move, Ctrl+↑ ↓ octave, Insert, "
    "Delete, 1 to 7 replace with that degree,\nM mute, Y tie, T through all, L late, R half-step "
    "clash, "
    "Ctrl+← → length, + − 0 zoom, Enter play."
)


@dataclass
class _Drag:
    kind: str  # voice, new, chord, start, end
    chord_id: str
    at: QPointF
    loop: Loop  # as it was when it was taken hold of
    pitch: int = 0
    out: bool = False

    @property
    def merge(self) -> str:
        """What joins all edits of this drag into one step."""
        return f"drag {self.kind} {self.chord_id}"


class Threads(QWidget):
    """The picture. What it does to chords it does through ``Moves``."""

    def __init__(self, moves: Moves) -> None:
        super().__init__()
        self._moves = moves
        self._session = moves.session
        self._shown: tuple[int, int] | None = None  # lowest and highest pitch, None: all voices
        self._model = thread_picture(self._session.loop)
        self._pixmap: QPixmap | None = None
        self._painted_for = self._session.loop, self._session.selection, self.places
        self._marked = QRectF()  # where the mark of the selected voice was painted
        self._share = 0.0
        self._drag: _Drag | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(280, LEAST_PX)
        self.setMouseTracking(True)
        # All of it is painted at each frame: what it lies in need not be.
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setAccessibleName("Voices of the chords over the loop")
        self.setAccessibleDescription(HINT)
        session = self._session
        session.changed.connect(lambda _b, _a: self._refresh())
        session.opened.connect(self.fit)
        session.selected.connect(self._redraw)

    @property
    def places(self) -> Places:
        """Where things are now."""
        return Places(self.width(), self.height(), self._model.low, self._model.high)

    # --- changes ------------------------------------------------------------------------------

    def _refresh(self) -> None:
        # While a hand drags, the lanes stay where they are under it.
        shown = (self._model.low, self._model.high) if self._drag is not None else self._shown
        self._model = thread_picture(self._session.loop, shown)
        self._redraw()

    def _redraw(self) -> None:
        """Ask for what has changed to be painted, with the mark of a voice where it was and is."""
        loop, selection, places = self._painted_for
        span = changed_span(loop, self._session.loop, selection, self._session.selection)
        if span is None or span == WHOLE or places != self.places:
            self.update()
            return
        self.update(self._marked.adjusted(-2, -2, 2, 2).toAlignedRect())
        left, right = places.at_x(span[0]) - MARK_PX / 4, places.at_x(span[1]) + MARK_PX
        self.update(QRectF(left, 0, right - left, self.height()).toAlignedRect())

    def show_place(self, share: float) -> None:
        """Move the playhead; only its strips are painted."""
        places = self.places
        before, after = places.at_x(self._share), places.at_x(share)
        self._share = share
        playhead_moved(self, before, after)

    def fit(self) -> None:
        """Show all voices."""
        self._shown = None
        self._refresh()

    def zoom(self, factor: float, middle: float | None = None) -> None:
        """Show fewer or more pitches about a middle."""
        low, high = self._model.low, self._model.high
        middle = (low + high) / 2 if middle is None else middle
        size = max(MIN_RANGE, min((high - low) * factor, spec.VOICE_HIGH - spec.VOICE_LOW))
        share = (middle - low) / (high - low)
        self._show_from(round(middle - share * size), round(size))

    def pan(self, semitones: int) -> None:
        """Show higher or lower pitches."""
        self._show_from(self._model.low + semitones, self._model.high - self._model.low)

    def _show_from(self, low: int, size: int) -> None:
        low = max(spec.VOICE_LOW, min(low, spec.VOICE_HIGH - size))
        self._shown = low, low + size
        self._refresh()

    # --- hands --------------------------------------------------------------------------------

    def _chord_at(self, x: float) -> Chord | None:
        tick = self.places.share_at(x) * self._session.loop.ticks
        chords = self._session.loop.chords
        return next((c for c in chords if c.start_tick <= tick < c.end_tick), None)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if event.button() != Qt.MouseButton.LeftButton:
            return
        point, ctrl = event.position(), held(event).ctrl
        bar = self.places.bar_at(self._model.bars, point)
        if bar is not None:
            edge = self.places.edge_of(bar, point.x())
            ids = self._session.selection.chord_ids
            more = tuple(i for i in ids if i != bar.chord_id) if bar.chord_id in ids else ()
            self._session.select(chord_id=bar.chord_id, voice=bar.voice, more=more)
            kind = edge or ("new" if ctrl else "voice")
            self._drag = _Drag(kind, bar.chord_id, point, self._session.loop, bar.pitch)
            return
        chord = self._chord_at(point.x())
        if chord is not None and point.x() >= LEFT:
            if ctrl or chord.id not in self._session.selection.chord_ids:
                self._moves.choose(chord.id, add=ctrl)
            self._session.select(voice=-1)
            self._drag = _Drag("chord", chord.id, point, self._session.loop)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        drag = self._drag
        if drag is None:
            self._show_cursor(event.position())
            return
        keys = event.modifiers()
        shift = held(keys).shift
        if drag.kind in ("start", "end"):
            half, free = asks_half(keys), asks_free(keys)
            self._drag_edge(drag, event.position().x(), half=half, free=free)
        elif drag.kind == "chord":
            self._drag_chord(drag, event.position().y(), free=shift)
        else:
            self._drag_voice(drag, event.position(), free=shift)

    def _show_cursor(self, point: QPointF) -> None:
        bar = self.places.bar_at(self._model.bars, point)
        shape = Qt.CursorShape.ArrowCursor
        if bar is not None:
            edge = self.places.edge_of(bar, point.x())
            shape = Qt.CursorShape.SizeHorCursor if edge else Qt.CursorShape.SizeVerCursor
        self.setCursor(shape)

    def _drag_voice(self, drag: _Drag, point: QPointF, *, free: bool) -> None:
        drag.out = point.x() < LEFT - OUT_PX
        self.setCursor(Qt.CursorShape.ForbiddenCursor if drag.out else Qt.CursorShape.SizeVerCursor)
        wanted = drag.pitch + round((drag.at.y() - point.y()) / self.places.lane)
        key = self._session.loop.key
        if not free and not key.has(wanted):
            # By scale steps: a note between two of the scale counts as the one it comes from.
            wanted = key.step(wanted, -1 if wanted > drag.pitch else 1)
        if drag.kind == "new":
            self._pull_out(drag, wanted)
            return
        voices = self._session.loop.chord(drag.chord_id).voices
        pitch = voices[self._session.selection.voice]
        if wanted != pitch:
            self._moves.voice(semitones=wanted - pitch, merge=drag.merge)

    def _pull_out(self, drag: _Drag, wanted: int) -> None:
        """Pull a new voice out of one, as soon as it has a pitch of its own; then drag that."""
        if wanted == drag.pitch:
            return
        before = len(self._session.loop.chord(drag.chord_id).voices)
        self._session.apply(
            "add a voice",
            lambda loop: chord_edits.add_voice(loop, drag.chord_id, wanted),
            merge=f"drag voice {drag.chord_id}",
            moving=True,
        )
        voices = self._session.loop.chord(drag.chord_id).voices
        if len(voices) > before:
            self._session.select(voice=voices.index(wanted))
            drag.kind = "voice"

    def _drag_chord(self, drag: _Drag, y: float, *, free: bool) -> None:
        lanes = (drag.at.y() - y) / self.places.lane
        by = round(lanes if free else lanes * STEPS_A_SEMITONE)
        self._moves.chords(
            steps=0 if free else by, semitones=by if free else 0, merge=drag.merge, start=drag.loop
        )

    def _drag_edge(self, drag: _Drag, x: float, *, half: bool, free: bool) -> None:
        tick = self._moves.grid.snap(
            self.places.share_at(x) * self._session.loop.ticks, half=half, free=free
        )
        edit = chord_time.set_start if drag.kind == "start" else chord_time.set_end
        self._session.apply(
            f"{drag.kind} of a chord",
            lambda loop: edit(loop, drag.chord_id, tick),
            merge=drag.merge,
            moving=True,
        )

    def mouseReleaseEvent(self, _event: QMouseEvent | None) -> None:
        drag, self._drag = self._drag, None
        if drag is None:
            return
        if drag.out and self._session.selection.voice >= 0:
            voice = self._session.selection.voice
            self._session.apply(
                "delete a voice",
                lambda loop: chord_edits.remove_voice(loop, drag.chord_id, voice),
                merge=f"drag voice {drag.chord_id}",
            )
        self._session.end_drag()
        self._refresh()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        point = event.position()
        chord = self._chord_at(point.x())
        if chord is None or self.places.bar_at(self._model.bars, point) is not None:
            return
        pitch, key = self.places.pitch_at(point.y()), self._session.loop.key
        shift = held(event).shift
        if not shift and not key.has(pitch):
            pitch = key.step(pitch, -1)
        self._drag = None
        self._moves.choose(chord.id)
        self._moves.add_voice(pitch)

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        assert event is not None
        turn = event.angleDelta().y()
        if held(event).ctrl:
            self.zoom(0.85 if turn > 0 else 1 / 0.85, self.places.pitch_at(event.position().y()))
        elif turn:
            self.pan(2 if turn > 0 else -2)
        event.accept()

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        assert event is not None
        point = QPointF(event.pos())
        bar = self.places.bar_at(self._model.bars, point)
        chord = self._chord_at(point.x())
        if chord is None:
            return
        if bar is not None:
            self._session.select(chord_id=bar.chord_id, voice=bar.voice, more=())
        elif chord.id not in self._session.selection.chord_ids:
            self._moves.choose(chord.id)
        self.menu(bar).popup(event.globalPos())

    def menu(self, bar: VoiceBar | None) -> QMenu:
        """Return what can be done to a voice, or to the selected chords."""
        moves = self._moves
        voice_acts = (
            ("Mute or unmute\tM", moves.mute),
            ("Tie or untie\tY", moves.tie),
            ("In all chords\tT", moves.through),
            ("Half-step clash\tR", moves.rub),
            ("Delete\tDel", moves.remove),
        )
        chord_acts = (
            ("Add a voice\tIns", moves.add_voice),
            ("Late or on time\tL", moves.late),
            ("Tie or untie\tY", moves.tie),
            ("Delete\tDel", moves.remove),
        )
        return menu_of(self, voice_acts if bar is not None else chord_acts)

    # --- keys ---------------------------------------------------------------------------------

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        key, (shift, ctrl, alt) = Qt.Key(event.key()), held(event)
        if (
            not self._session.loop.chords
            or alt
            or (not self._arrow(key, shift=shift, ctrl=ctrl) and not self._letter(key, ctrl=ctrl))
        ):
            super().keyPressEvent(event)

    def _arrow(self, key: Qt.Key, *, shift: bool, ctrl: bool) -> bool:
        moves = self._moves
        by = {
            Qt.Key.Key_Left: -1,
            Qt.Key.Key_Right: 1,
            Qt.Key.Key_Down: -1,
            Qt.Key.Key_Up: 1,
            Qt.Key.Key_PageDown: -1,
            Qt.Key.Key_PageUp: 1,
        }.get(key)
        if by is None:
            return False
        if key in (Qt.Key.Key_PageDown, Qt.Key.Key_PageUp):
            moves.step_voice(by)
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            if ctrl:
                (moves.start if shift else moves.end)(by)
            else:
                moves.step(by, extend=shift)
        else:
            semitones = by * OCTAVE if ctrl else by if shift else 0
            move = moves.voice if self._session.selection.voice >= 0 else moves.chords
            move(steps=0 if semitones else by, semitones=semitones)
        self._session.end_drag()
        return True

    def _letter(self, key: Qt.Key, *, ctrl: bool) -> bool:
        moves = self._moves
        if ctrl:
            if key == Qt.Key.Key_A:
                moves.choose_all()
            return key == Qt.Key.Key_A
        acts = {
            Qt.Key.Key_Insert: moves.add_voice, Qt.Key.Key_Delete: moves.remove,
            Qt.Key.Key_Backspace: moves.remove, Qt.Key.Key_M: moves.mute, Qt.Key.Key_Y: moves.tie,
            Qt.Key.Key_T: moves.through, Qt.Key.Key_L: moves.late, Qt.Key.Key_R: moves.rub,
            Qt.Key.Key_Plus: lambda: self.zoom(0.8), Qt.Key.Key_Equal: lambda: self.zoom(0.8),
            Qt.Key.Key_Minus: lambda: self.zoom(1.25), Qt.Key.Key_0: self.fit,
            Qt.Key.Key_Return: self._hear, Qt.Key.Key_Enter: self._hear,
        }  # fmt: skip
        if Qt.Key.Key_1 <= key <= Qt.Key.Key_7:
            moves.degree(key - Qt.Key.Key_0)
        elif key == Qt.Key.Key_Escape and self._session.selection.voice >= 0:
            self._session.select(voice=-1, through=False)
        elif key in acts:
            acts[key]()
        else:
            return False
        self._session.end_drag()
        return True

    def _hear(self) -> None:
        chord_id = self._session.selection.chord_id
        if chord_id:
            self._session.hearing.once.chords(self._session.loop.chord(chord_id))

    # --- painting -----------------------------------------------------------------------------

    def resizeEvent(self, _event: QResizeEvent | None) -> None:
        self._pixmap = None

    def changeEvent(self, event: QEvent | None) -> None:
        if event is not None and event.type() == QEvent.Type.PaletteChange:
            self._pixmap = None

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        self._keep_up()
        assert self._pixmap is not None
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self._pixmap)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._marked = paint_mark(
            painter, self.places, self._model, self._session.loop, self._session.selection
        )
        if not self._session.loop.chords:
            painter.setPen(color("ink_soft"))
            box = QRectF(LEFT, 0, self.width() - LEFT, self.height())
            words = painter.boundingRect(box, Qt.AlignmentFlag.AlignCenter, EMPTY)
            painter.fillRect(words.adjusted(-14, -10, 14, 10), color("paper"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, EMPTY)
        paint_playhead(painter, self.places.at_x(self._share), 0, self.height())
        paint_focus(painter, self)

    def _keep_up(self) -> None:
        """Paint what has changed since the picture was painted: of a large loop, little."""
        loop, selection, places = self._session.loop, self._session.selection, self.places
        old_loop, old_selection, old_places = self._painted_for
        span = changed_span(old_loop, loop, old_selection, selection)
        if self._pixmap is None or places != old_places:
            ratio = self.devicePixelRatioF()
            size = math.ceil(self.width() * ratio), math.ceil(self.height() * ratio)
            self._pixmap = QPixmap(*size)
            self._pixmap.setDevicePixelRatio(ratio)
            span = WHOLE
        if span is None:
            return
        if span == WHOLE:
            self._pixmap.fill(color("paper"))
        painter = QPainter(self._pixmap)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        paint_picture(painter, places, self._model, loop, selection, span)
        painter.end()
        self._painted_for = loop, selection, places


EMPTY = (
    "No chords yet.\nClick a chord below to start, or type a progression above, e.g.  i VI iv7 V7"
)
