"""The note grid under hands: draw, move, stretch and pick notes; loudness below; keys do it too."""

from collections.abc import Callable

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import (
    QContextMenuEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QWheelEvent,
)
from PyQt6.QtWidgets import QMenu, QSizePolicy, QWidget

from cloudrift.desktop.kit.grid import asks_free, asks_half
from cloudrift.desktop.kit.held import held
from cloudrift.desktop.kit.look import color
from cloudrift.desktop.kit.parts import menu_of, paint_focus
from cloudrift.desktop.kit.still import paint_playhead, playhead_moved
from cloudrift.desktop.stages.layers.notes.drag import Drag
from cloudrift.desktop.stages.layers.notes.hints import EMPTY, HINT
from cloudrift.desktop.stages.layers.notes.model import View, fitting, ground_of
from cloudrift.desktop.stages.layers.notes.moves import OCTAVE, NoteMoves
from cloudrift.desktop.stages.layers.notes.paint import paint_notes, paint_picked
from cloudrift.desktop.stages.layers.notes.places import LEFT, TOP, Places
from cloudrift.desktop.stages.layers.notes.scene import Scene
from cloudrift.notes.note import Note
from cloudrift.notes.time import bar_ticks

LEAST_PX = 200  # of height: notes can still be read, and taken hold of
FAR_PX = 3  # a hand that has moved less has not dragged


class NoteGrid(QWidget):
    """The picture. What it does to notes it does through ``NoteMoves``."""

    def __init__(self, moves: NoteMoves) -> None:
        super().__init__()
        self._moves = moves
        self._session = moves.session
        self._view: View | None = None  # None: all of the notes
        self._scene = Scene()
        self._seen_layer, self._share = "", 0.0
        self._drag: Drag | None = None
        self._box = QRectF()
        self.tried: tuple[Note, ...] | None = None  # what a tool would make of the notes
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(300, LEAST_PX)
        self.setMouseTracking(True)
        self.setAccessibleName("Notes of the layer")
        self.setAccessibleDescription(HINT)

    # --- view ---------------------------------------------------------------------------------

    @property
    def view(self) -> View:
        """What is seen."""
        if self._view is None or self._seen_layer != self._session.selection.layer_id:
            self._seen_layer = self._session.selection.layer_id
            self._view = fitting(self._moves.seen, self._session.loop)
        loop = self._session.loop
        if self._view.last > loop.ticks:
            self._view = self._view.moved_to(0.0, float(loop.ticks), loop.ticks)
        return self._view

    @property
    def places(self) -> Places:
        """Where things are now."""
        return Places(self.width(), self.height(), self.view)

    def fit(self) -> None:
        """Show all notes."""
        self._view = None
        self.update()

    def _show(self, view: View) -> None:
        self._view = view
        self.update()

    def zoom(self, factor: float, tick: float | None = None) -> None:
        """Show a shorter or longer stretch."""
        view = self.view
        middle = (view.first + view.last) / 2 if tick is None else tick
        bar = bar_ticks(self._session.loop.metre)
        self._show(view.zoomed(factor, middle, self._session.loop.ticks, bar / 4))

    def show_tried(self, notes: tuple[Note, ...] | None) -> None:
        """Show what a tool would make, over what is there; None: nothing."""
        self.tried = notes
        self.update()

    def show_place(self, share: float) -> None:
        """Move the playhead; only its strips are painted."""
        places, ticks = self.places, self._session.loop.ticks
        before, after = (places.at_x(s * ticks) for s in (self._share, share))
        self._share = share
        playhead_moved(self, before, after)

    # --- hands --------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if event.button() != Qt.MouseButton.LeftButton or self._moves.layer is None:
            return
        point, (shift, ctrl, _) = event.position(), held(event)
        places = self.places
        if point.y() < TOP:
            self._press_strip(point)
        elif point.y() > places.foot:
            self._drag = Drag("loud", point)
            self._drag_loud(self._drag, point, ramp=shift)
        elif (note := places.note_at(self._moves.seen, point)) is not None:
            self._press_note(note, point, shift=shift, ctrl=ctrl)
        else:
            before = self._moves.picked if shift or ctrl else frozenset()
            self._drag = Drag("pick", point, before=before)

    def _press_note(self, note: Note, point: QPointF, *, shift: bool, ctrl: bool) -> None:
        if not self._moves.may():
            return
        picked = self._moves.picked
        if ctrl and note.id in picked and shift:
            self._moves.pick(picked - {note.id})
            return
        if note.id not in picked:
            self._moves.pick(picked | {note.id} if shift or ctrl else frozenset({note.id}))
        edge = self.places.edge_of(note, point.x())
        kind = "move" if ctrl else edge or "move"
        self._drag = Drag(kind, point, note, pace=self._moves.pace(note.start_tick))
        if ctrl:
            self._drag.plays = False  # a copy stays where it was

    def _press_strip(self, point: QPointF) -> None:
        layer = self._moves.layer
        if layer is None or not layer.follows or self._moves.time is not None:
            return
        tick = self.places.tick_at(point.x())
        plays = layer.played.lens.where and not any(
            a <= tick < b for a, b in layer.played.lens.where
        )
        self._drag = Drag("strip", point, plays=bool(plays))

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        drag, point, keys = self._drag, event.position(), event.modifiers()
        if drag is None:
            self._show_cursor(point)
            return
        far = (point - drag.at).manhattanLength() > FAR_PX
        if not drag.moved and not far and drag.kind != "loud":
            return
        shift = held(keys).shift
        alt = asks_free(keys)
        if drag.kind == "move" and not drag.moved and not drag.plays:
            self._leave_copy()
        drag.moved = True
        if drag.kind == "move":
            self._drag_notes(drag, point, semitones=shift, free=alt)
        elif drag.kind in ("start", "end"):
            self._drag_edge(drag, point, half=asks_half(keys), free=alt)
        elif drag.kind == "loud":
            self._drag_loud(drag, point, ramp=shift)
        elif drag.kind == "strip":
            self._drag_strip(drag, point)
        else:
            self._box = QRectF(drag.at, point).normalized()
            self._moves.pick(drag.before | self.places.within(self._moves.seen, self._box))
            self.update()

    def _leave_copy(self) -> None:
        """Ctrl: what is dragged away is new, what was there stays."""
        chosen = self._moves.chosen
        self._moves.copied = chosen
        first = min(n.start_tick for n in chosen)
        # Put one tick aside, so that the copies do not give way; the drag takes them on.
        self._moves.paste(first + 1)
        if self._drag is not None:
            self._drag.done = (1, 0)

    def _drag_notes(self, drag: Drag, point: QPointF, *, semitones: bool, free: bool) -> None:
        assert drag.note is not None
        places = self.places
        away = places.tick_at(point.x()) - places.tick_at(drag.at.x())
        start = drag.note.start_tick
        ticks = self._moves.grid.snap(start + away, free=free) - start
        if abs(away) < self._moves.grid.step / 2 and not free:
            ticks = 0
        lanes = round((drag.at.y() - point.y()) / places.lane)
        key = self._moves.key
        aim = drag.note.pitch + lanes
        if not semitones and self._moves.in_key and not key.has(aim) and lanes:
            aim = key.step(aim, 1 if lanes > 0 else -1)
        by = aim - drag.note.pitch
        gone_ticks, gone = drag.done
        if (ticks, by) == drag.done:
            return
        written = round(ticks * drag.pace) - round(gone_ticks * drag.pace)
        self._moves.move(ticks=written, semitones=by - gone, merge=drag.merge)
        drag.done = ticks, by

    def _drag_edge(self, drag: Drag, point: QPointF, *, half: bool, free: bool) -> None:
        assert drag.note is not None
        edge = drag.note.end_tick if drag.kind == "end" else drag.note.start_tick
        away = self.places.tick_at(point.x()) - self.places.tick_at(drag.at.x())
        ticks = self._moves.grid.snap(edge + away, half=half, free=free) - edge
        gone = drag.done[0]
        if ticks != gone:
            by = round(ticks * drag.pace) - round(gone * drag.pace)
            if (drag.kind == "end") == (drag.pace > 0):  # backward, its end is written first
                self._moves.stretch(end=by, merge=drag.merge)
            else:
                self._moves.stretch(start=by, merge=drag.merge)
            drag.done = ticks, 0

    def _drag_loud(self, drag: Drag, point: QPointF, *, ramp: bool) -> None:
        """Every bar that the hand has passed takes its height; with Shift, a line's."""
        if not self._moves.may():
            self._drag = None
            return
        places = self.places
        drag.path = [drag.at, point] if ramp else [*drag.path[-1:], point]
        if len(drag.path) == 1:
            drag.path = [point, point]
        one, other = drag.path[0], drag.path[-1]
        left, right = sorted((one, other), key=lambda p: p.x())
        picked = self._moves.picked
        levels = {}
        for note in self._moves.seen:
            x = places.at_x(note.start_tick) + 2
            if left.x() - 4 <= x <= right.x() + 4 and (not picked or note.id in picked):
                share = (x - left.x()) / max(1.0, right.x() - left.x())
                y = left.y() + (right.y() - left.y()) * min(max(share, 0.0), 1.0)
                levels[note.id] = places.velocity_at(y)
        if levels:
            self._moves.loudness(levels, drag.merge)

    def _drag_strip(self, drag: Drag, point: QPointF) -> None:
        ticks, grid = self._session.loop.ticks, self._moves.grid
        ends = sorted(
            min(max(grid.snap(self.places.tick_at(p.x())), 0), ticks) for p in (drag.at, point)
        )
        self._moves.places(ends[0], ends[1], plays=drag.plays, merge=drag.merge)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        drag, self._drag = self._drag, None
        self._box = QRectF()
        if drag is None:
            return
        if drag.kind == "pick" and not drag.moved:
            self._moves.pick(drag.before)
        elif drag.drawn:  # it was picked for its end to go along; tools are for all again
            self._moves.pick(frozenset())
        self._session.end_drag()
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        point, places = event.position(), self.places
        self._drag = None
        if self._moves.layer is None:
            return
        if point.y() < TOP:
            if self._moves.time is None:
                bar = bar_ticks(self._session.loop.metre)
                self._moves.late_bar(int(places.tick_at(point.x())) // bar)
            return
        if point.y() > places.foot or places.note_at(self._moves.seen, point) is not None:
            return
        pitch, key = places.pitch_at(point.y()), self._moves.key
        shift = held(event).shift
        if not shift and self._moves.in_key and not key.has(pitch):
            pitch = key.step(pitch, -1)
        step = 1 if self._moves.grid.free else self._moves.grid.ticks
        tick = int(places.tick_at(point.x()) // step) * step
        note = self._moves.add(tick, pitch, "drag notes end")
        if note is not None:  # the hand is still down: its end goes along
            self._drag = Drag(
                "end", QPointF(places.at_x(note.end_tick), point.y()), note, drawn=True,
                pace=self._moves.pace(note.start_tick),
            )  # fmt: skip
            written = next(n.pitch for n in self._moves.notes if n.id == note.id)
            self._session.hearing.once.key_down(written, note.velocity, self._moves.layer.id)
            self._session.hearing.once.key_up(written)

    def _show_cursor(self, point: QPointF) -> None:
        note = None
        if TOP < point.y() < self.places.foot:
            note = self.places.note_at(self._moves.seen, point)
        shape = Qt.CursorShape.ArrowCursor
        if note is not None:
            edge = self.places.edge_of(note, point.x())
            shape = Qt.CursorShape.SizeHorCursor if edge else Qt.CursorShape.SizeAllCursor
        self.setCursor(shape)

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        assert event is not None
        turn = event.angleDelta().y() or event.angleDelta().x()
        keys, view = event.modifiers(), self.view
        shift = held(keys).shift
        if held(keys).ctrl:
            factor = 0.8 if turn > 0 else 1.25
            if shift:
                self._show(view.taller(factor, self.places.pitch_at(event.position().y())))
            else:
                self.zoom(factor, self.places.tick_at(event.position().x()))
        elif shift:
            by = view.ticks / 8 * (-1 if turn > 0 else 1)
            self._show(view.moved_to(view.first + by, view.ticks, self._session.loop.ticks))
        elif turn:
            self._show(view.raised(2 if turn > 0 else -2))
        event.accept()

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        assert event is not None
        point = QPointF(event.pos())
        note = self.places.note_at(self._moves.seen, point)
        if note is not None and note.id not in self._moves.picked and note.id:
            self._moves.pick(frozenset({note.id}))
        tick = self._moves.grid.snap(self.places.tick_at(point.x()))
        self.menu(tick).popup(event.globalPos())

    def menu(self, tick: int) -> QMenu:
        """Return what can be done to the picked notes."""
        moves = self._moves
        at = moves.written(tick)
        return menu_of(self, (
            ("Mute or unmute\tM", moves.mute), ("Split here", lambda: moves.cut(at)),
            ("Copy\tCtrl+C", moves.copy), ("Paste here", lambda: moves.paste(at)),
            ("Duplicate\tCtrl+J", moves.copy_behind), ("Delete\tDel", moves.remove),
            ("Select the same voice\tV", moves.select_same_voice),
            ("Select the same pitch\tP", moves.select_same_pitch),
            ("Select every "
             "other\tE", moves.select_every_other), ("Select all\tCtrl+A", moves.select_all),
        ))  # fmt: skip

    # --- keys ---------------------------------------------------------------------------------

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        key, keys = Qt.Key(event.key()), held(event)
        if keys.alt or not (
            self._arrow(key, shift=keys.shift, ctrl=keys.ctrl) or self._letter(key, ctrl=keys.ctrl)
        ):
            super().keyPressEvent(event)
            return
        self._session.end_drag()

    def _arrow(self, key: Qt.Key, *, shift: bool, ctrl: bool) -> bool:
        moves, step = self._moves, self._moves.grid.step
        by = {
            Qt.Key.Key_Left: -1,
            Qt.Key.Key_Right: 1,
            Qt.Key.Key_Down: -1,
            Qt.Key.Key_Up: 1,
            Qt.Key.Key_PageUp: -1,
            Qt.Key.Key_PageDown: 1,
        }.get(key)
        if by is None:
            return False
        if key in (Qt.Key.Key_PageUp, Qt.Key.Key_PageDown):
            moves.step(by)
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            pace = moves.picked_pace
            ticks = round(by * (max(1, step // 2) if shift else step) * pace)
            if ctrl and pace < 0:
                moves.stretch(start=ticks)
            elif ctrl:
                moves.stretch(end=ticks)
            else:
                moves.move(ticks=ticks)
        elif ctrl:
            moves.move(semitones=by * OCTAVE)
        elif shift or not moves.in_key:
            moves.move(semitones=by)
        else:
            moves.move(steps=by)
        return True

    def _letter(self, key: Qt.Key, *, ctrl: bool) -> bool:
        moves = self._moves
        tick = self._share * self._session.loop.ticks
        acts: dict[Qt.Key, Callable[[], object]] = (
            {
                Qt.Key.Key_A: moves.select_all,
                Qt.Key.Key_C: moves.copy,
                Qt.Key.Key_X: moves.cut_out,
                Qt.Key.Key_V: lambda: moves.paste(moves.written(moves.grid.snap(tick))),
                Qt.Key.Key_J: moves.copy_behind,
            }
            if ctrl
            else {
                Qt.Key.Key_Delete: moves.remove,
                Qt.Key.Key_Backspace: moves.remove,
                Qt.Key.Key_M: moves.mute,
                Qt.Key.Key_V: moves.select_same_voice,
                Qt.Key.Key_P: moves.select_same_pitch,
                Qt.Key.Key_E: moves.select_every_other,
                Qt.Key.Key_X: lambda: moves.cut(moves.written(tick)),
                Qt.Key.Key_Plus: lambda: self.zoom(0.7),
                Qt.Key.Key_Equal: lambda: self.zoom(0.7),
                Qt.Key.Key_Minus: lambda: self.zoom(1 / 0.7),
                Qt.Key.Key_0: self.fit,
            }
        )
        if key == Qt.Key.Key_Escape and not ctrl and moves.picked:
            moves.pick(frozenset())
        elif key in acts:
            acts[key]()
        else:
            return False
        return True

    # --- painting -----------------------------------------------------------------------------

    def focusInEvent(self, _event: object) -> None:
        self.update()

    def focusOutEvent(self, _event: object) -> None:
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        layer, places = self._moves.layer, self.places
        if layer is None:
            painter.setPen(color("ink_soft"))
            painter.drawText(
                self.rect(), Qt.AlignmentFlag.AlignCenter, "Choose a layer to see its notes"
            )
            return
        loop, grid = self._session.loop, self._moves.grid.ticks
        notes = self._moves.seen
        ground = ground_of(loop, layer, self._moves.as_heard)
        painter.drawPixmap(
            0,
            0,
            self._scene.picture(
                self, ground, layer, notes, places, grid, dimmed=self.tried is not None
            ),
        )
        if self.tried is not None:
            tried = self._moves.shown(self.tried)
            paint_notes(painter, places, tried, "focus", self._moves.scale)
        elif self._moves.picked:
            paint_picked(painter, places, notes, self._moves.picked)
        if not self._moves.notes and not layer.follows:
            painter.setPen(color("ink_soft"))
            box = QRectF(LEFT, TOP, self.width() - LEFT, places.foot - TOP)
            words = painter.boundingRect(box, Qt.AlignmentFlag.AlignCenter, EMPTY)
            painter.fillRect(words.adjusted(-14, -10, 14, 10), color("card"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, EMPTY)
        if not self._box.isNull():
            painter.setPen(QPen(color("focus"), 1))
            painter.setBrush(color("focus", 0.12))
            painter.drawRect(self._box)
        x = places.at_x(self._share * loop.ticks)
        if x >= LEFT:
            paint_playhead(painter, x, 0, self.height())
        paint_focus(painter, self)
