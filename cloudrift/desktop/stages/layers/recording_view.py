"""The picture of a recording in its loop: its sound over the loop's beats, and its own beats."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QMenu, QPushButton, QWidget

from cloudrift.audio.buffers import to_db
from cloudrift.audio.clips import ClipStore
from cloudrift.desktop.kit.flow import Flow, takes_rest
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.look import color, figure_font, text_font
from cloudrift.desktop.kit.parts import Elided, WhileShown, panel, plain_tip, set_look, small_button
from cloudrift.desktop.kit.still import Still, paint_playhead, playhead_moved
from cloudrift.desktop.kit.time_axis import TimeAxis
from cloudrift.desktop.kit.trying import Trying
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.desktop.stages.layers.recording_model import (
    Mark,
    known_words,
    marks_of,
    outline_of,
    second_at,
)
from cloudrift.ground.words import number, plural
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.chords.progression import put_row
from cloudrift.loop.edits.layers import recordings
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.notes.time import TICKS_PER_QUARTER, bar_ticks
from cloudrift.render.measure.clashes import Clash, clashes
from cloudrift.render.measure.taken import bass_in, chords_in
from cloudrift.render.plan.laying import Laying
from cloudrift.render.plan.plan import layer_laying, recorded_sound
from cloudrift.theory.key import Key
from cloudrift.theory.pitch import pretty

COLUMNS = 1200
NAMED_PX = 190  # that a recording's name and its words have at least
TOP, BOTTOM, LEFT, RIGHT = 34, 24, 54, 6  # px: bars and beats above, what clashes below
NEAR_PX = 6.0
RIGHT_ALIGNED = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
NUDGE_S, FINE_NUDGE_S = 0.01, 0.001


@dataclass(frozen=True)
class Seen:
    """What was made to be seen: how it was laid, its outline, and what clashes."""

    laying: Laying
    outline: NDArray[np.float32]
    peak_db: float
    clashes: tuple[Clash, ...]

    @property
    def peak_text(self) -> str:
        """What full height is."""
        return f"{number(self.peak_db, '.0f')} dBFS"


class RecordingPicture(Still):
    """Time runs to the right over the loop. Beats are dragged, or moved by the arrow keys."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.seen: Seen | None = None
        self.layer: Layer | None = None
        self.marks: tuple[Mark, ...] = ()
        self.held: int | None = None  # the number of the beat that is dragged
        self.chosen = 0
        self._share = 0.0
        self.setMinimumHeight(120)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Recording over the loop's beats")

    def show_layer(self, loop: Loop, layer: Layer) -> None:
        """Show another layer, or what has changed of it."""
        self.layer, self.marks = layer, marks_of(loop, layer)
        off = sum(mark.is_off for mark in self.marks)
        self.setAccessibleDescription(f"{plural(len(self.marks), 'beat')}, {off} off the loop's")
        self.update()

    @property
    def own_key(self) -> Key | None:
        """The recording's key as it sounds here."""
        source = self.layer.recorded if self.layer else None
        if source is None or source.facts.key is None:
            return None
        return source.facts.key.shifted(round(source.semitones))

    def show_seen(self, seen: Seen) -> None:
        """Show the sound as it was made."""
        self.seen = seen
        self.update()

    def show_place(self, share: float) -> None:
        """Move the playhead."""
        before, self._share = self._share, share
        axis = self._axis(1.0)
        playhead_moved(self, axis.at_x(before), axis.at_x(share))

    def _axis(self, ticks: float | None = None) -> TimeAxis:
        ticks = self._session.loop.ticks if ticks is None else ticks
        return TimeAxis(LEFT, self.width() - LEFT - RIGHT, ticks)

    # --- painting -----------------------------------------------------------------------------

    def paint_still(self, painter: QPainter) -> None:
        loop, layer = self._session.loop, self.layer
        if layer is None:
            return
        axis = self._axis()
        self._paint_beats(painter, loop, axis)
        middle = (TOP + self.height() - BOTTOM) / 2
        half = max(10.0, (self.height() - BOTTOM - TOP) / 2 - 4)
        if self.seen is not None:
            self._paint_sound(painter, layer, middle, half)
            self._paint_clashes(painter, loop, axis)
        self._paint_marks(painter, axis)

    def paint_moving(self, painter: QPainter) -> None:
        if self.layer is not None:
            x = self._axis(1.0).at_x(self._share)
            paint_playhead(painter, x, TOP - 12, self.height() - BOTTOM)

    def _paint_beats(self, painter: QPainter, loop: Loop, axis: TimeAxis) -> None:
        bar = bar_ticks(loop.metre)
        painter.setFont(figure_font(10.5))
        every = max(1, round(40 / max(1.0, axis.px(bar))))
        for tick in range(0, loop.ticks + 1, TICKS_PER_QUARTER):
            on_bar = tick % bar == 0
            if not on_bar and axis.px(TICKS_PER_QUARTER) < 7:
                continue
            painter.setPen(color("line" if on_bar else "hair"))
            x = axis.at_x(tick)
            painter.drawLine(QPointF(x, 16 if on_bar else TOP), QPointF(x, self.height() - BOTTOM))
            if on_bar and tick < loop.ticks and (tick // bar) % every == 0:
                painter.setPen(color("ink_soft"))
                painter.drawText(QPointF(x + 3, 12), f"{tick // bar + 1}")

    def _paint_sound(self, painter: QPainter, layer: Layer, middle: float, half: float) -> None:
        assert self.seen is not None
        low, high = self.seen.outline
        columns = len(low)
        axis = TimeAxis(LEFT, self.width() - LEFT - RIGHT, columns)
        xs = axis.at_x(np.arange(columns) + 0.5)
        upper = [QPointF(x, middle - half * float(y)) for x, y in zip(xs, high, strict=True)]
        lower = [QPointF(x, middle - half * float(y)) for x, y in zip(xs, low, strict=True)]
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(color(layer.role, 0.75))
        painter.drawPolygon(QPolygonF([*upper, *lower[::-1]]))
        painter.setPen(color("line"))
        painter.drawLine(QPointF(LEFT, middle), QPointF(self.width() - RIGHT, middle))
        painter.setFont(figure_font(9.5))
        painter.setPen(color("ink_soft"))
        for sign in (-1, 1):  # the axis: full height is its peak
            y = middle + sign * half
            painter.drawText(QRectF(0, y - 7, LEFT - 5, 14), RIGHT_ALIGNED, self.seen.peak_text)
        painter.drawText(QRectF(0, middle - 7, LEFT - 5, 14), RIGHT_ALIGNED, "0")

    def _paint_marks(self, painter: QPainter, axis: TimeAxis) -> None:
        painter.setFont(text_font(10))
        last_words = -1e9
        for mark in self.marks:
            x = axis.at_x(mark.tick % self._session.loop.ticks)
            name = "signal" if mark.is_off else "focus"
            long = 12 if mark.downbeat else 8
            painter.setPen(QPen(color(name), 2 if mark.downbeat else 1))
            painter.drawLine(QPointF(x, TOP - long), QPointF(x, self.height() - BOTTOM))
            painter.setBrush(color(name))
            size = 4.0 if mark.number == self.chosen and self.hasFocus() else 3.0
            painter.drawEllipse(QPointF(x, TOP - long), size, size)
            if mark.is_off and x - last_words > 54:
                painter.setPen(color("signal"))
                painter.drawText(QPointF(x + 5, TOP - 4), f"{number(mark.off_ms, '+.0f')} ms")
                last_words = x

    def _paint_clashes(self, painter: QPainter, loop: Loop, axis: TimeAxis) -> None:
        assert self.seen is not None
        painter.setFont(text_font(11))
        for clash in self.seen.clashes:
            left, right = axis.at_x(clash.start_tick), axis.at_x(clash.end_tick)
            room = QRectF(left + 2, self.height() - BOTTOM + 3, right - left - 4, BOTTOM - 6)
            painter.fillRect(room, color("signal", 0.12))
            painter.setPen(color("signal"))
            painter.drawText(
                room.adjusted(4, 0, 0, 0),
                Qt.AlignmentFlag.AlignVCenter,
                clash_words(clash, loop, self.own_key),
            )

    # --- hands --------------------------------------------------------------------------------

    def mark_at(self, x: float) -> Mark | None:
        """Return the beat whose line is under a place."""
        axis, ticks = self._axis(), self._session.loop.ticks
        near = min(self.marks, key=lambda m: abs(axis.at_x(m.tick % ticks) - x), default=None)
        if near is None or abs(axis.at_x(near.tick % ticks) - x) > NEAR_PX:
            return None
        return near

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        mark = self.mark_at(event.position().x())
        if mark is not None and event.button() == Qt.MouseButton.LeftButton:
            self.held = self.chosen = mark.number
            self.update()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        x = event.position().x()
        if self.held is None:
            over = self.mark_at(x) is not None
            self.setCursor(Qt.CursorShape.SizeHorCursor if over else Qt.CursorShape.ArrowCursor)
            return
        self._put(self.held, x)

    def _put(self, which: int, x: float) -> None:
        """Let a beat be at a place of the picture: that of the sound that is seen there."""
        layer = self.layer
        if layer is None:
            return
        # It is looked up where the sound lies now; beats that are pulled would run away under it.
        still = recordings.set_recording(self._session.loop, layer.id, pull=0.0)
        second = second_at(still, still.layer(layer.id), self._axis().nearest(x))
        self._session.apply(
            "move a beat",
            lambda loop: recordings.move_beat(loop, layer.id, which, second),
            merge=f"beat {layer.id} {which}",
            moving=True,
        )

    def mouseReleaseEvent(self, _event: QMouseEvent | None) -> None:
        if self.held is not None:
            self.held = None
            self._session.end_drag()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        """A beat that is pressed twice begins a bar."""
        assert event is not None
        mark, layer = self.mark_at(event.position().x()), self.layer
        if mark is not None and layer is not None:
            self._set_down(layer, mark.number)

    def _set_down(self, layer: Layer, which: int) -> None:
        assert layer.recorded is not None
        second = layer.recorded.facts.beats_s[which]
        self._session.apply(
            "downbeat", lambda loop: recordings.set_downbeat(loop, layer.id, second)
        )

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Left and right choose a beat, with Ctrl they move it; Enter lets it begin a bar."""
        assert event is not None
        layer, numbers = self.layer, [mark.number for mark in self.marks]
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()), 0)
        if layer is None or layer.recorded is None or not numbers:
            super().keyPressEvent(event)
        elif step and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            fine = event.modifiers() & Qt.KeyboardModifier.ShiftModifier
            by, which = step * (FINE_NUDGE_S if fine else NUDGE_S), self.chosen
            second = layer.recorded.facts.beats_s[which] + by
            self._session.apply(
                "move a beat",
                lambda loop: recordings.move_beat(loop, layer.id, which, second),
                merge=f"beat {layer.id} {which}",
            )
        elif step:
            at = numbers.index(self.chosen) if self.chosen in numbers else 0
            self.chosen = numbers[min(max(at + step, 0), len(numbers) - 1)]
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._set_down(layer, self.chosen)
        else:
            super().keyPressEvent(event)


def clash_words(clash: Clash, loop: Loop, own_key: Key | None = None) -> str:
    """Say what is at odds under a chord: ``F♯ outside, C rubs``.

    Notes of the recording's own key, as it sounds, are spelled in that.
    """

    def spelled(pcs: tuple[int, ...]) -> str:
        keys = [own_key if own_key and own_key.has(pc) else loop.key for pc in pcs]
        return " ".join(pretty(key.spell(pc)) for key, pc in zip(keys, pcs, strict=True))

    parts = [f"{spelled(clash.outside)} outside"] if clash.outside else []
    verb = "clashes" if len(clash.rubs) == 1 else "clash"
    parts += [f"{spelled(clash.rubs)} {verb}"] if clash.rubs else []
    return ", ".join(parts)


class RecordingView(QWidget):
    """The picture, and in a line what is known of the recording and what does not fit."""

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__()
        self._session, self._tasks = session, tasks
        self.picture = RecordingPicture(session)
        self.title = Elided(size=14)
        self.words = Elided(size=12, name="soft")
        self.pull = small_button(
            "Quantise beats",
            self._pull,
            tip="Moves each of its beats to the loop's; rest to hear it first",
        )
        self.take = QPushButton("Extract")
        self.take.setToolTip(
            "For a loop that starts from a recording: its tempo, key, chords, bass"
        )
        self.take.setProperty("fit", "small")
        menu = QMenu(self.take)
        for words, act in (
            ("Use its tempo", self._take_tempo),
            ("Use its key, transposing the rest", self._take_key),
            ("Use its chords", self._take_chords),
            ("Its bass as a layer", self._take_bass),
        ):
            action = menu.addAction(words)
            assert action is not None
            action.triggered.connect(lambda _c=False, act=act: act())
        self.take.setMenu(menu)
        Trying(self.pull, session, self._pulled, "beats quantised, preview")
        frame = panel()
        column = vertical(frame, (12, 8, 8, 8), 5)
        named, head = QWidget(), QWidget()
        fill(horizontal(named, FLUSH, 6), (self.title, 1), (self.words, 2))
        line = Flow(head, spacing=6)
        for one in (takes_rest(named, NAMED_PX), self.pull, self.take):
            line.addWidget(one)
        fill(column, head, (self.picture, 1))
        outer = vertical(self, FLUSH)
        outer.addWidget(frame)
        WhileShown(
            self,
            self._show,
            session.changed,
            session.opened,
            session.selected,
            session.hearing.shown_changed,
        )

    @property
    def layer(self) -> Layer | None:
        """The recording that is chosen, as it is shown: also while something is tried on it."""
        layer_id = self._session.selection.layer_id
        found = next((x for x in self._session.hearing.shown.layers if x.id == layer_id), None)
        return found if found is not None and found.recorded is not None else None

    def _show(self) -> None:
        loop, layer = self._session.hearing.shown, self.layer
        if layer is None or layer.recorded is None:
            return
        self.title.setText(layer.name)
        self.picture.show_layer(loop, layer)
        doubts = layer.recorded.facts.doubts
        laid_out = f"{layer.source.text}, arranged in Flip" if layer.flipped else ""
        self.words.setText("; ".join(doubts) or laid_out or known_words(layer.recorded))
        self.words.setToolTip(plain_tip(known_words(layer.recorded)))
        set_look(self.words, "signal" if doubts else "soft")
        off = [mark for mark in self.picture.marks if mark.is_off]
        beats = len(layer.recorded.facts.beats_s) > 1
        self.pull.setVisible(bool(off) and beats and layer.recorded.fit != "beats")
        laying, clips = layer_laying(loop, layer), self._session.clips

        def work(_stop: Callable[[], bool], _moved: object) -> Seen:
            audio = recorded_sound(loop, layer, clips)
            peak = to_db(float(np.abs(audio).max()))
            return Seen(laying, outline_of(audio, COLUMNS), peak, clashes(loop, layer, clips))

        self._tasks.run("recording", work, self.picture.show_seen)

    # --- what the loop takes from it ------------------------------------------------------------

    def _take_tempo(self) -> None:
        layer_id = self._session.selection.layer_id
        self._session.apply("its tempo", lambda loop: recordings.take_tempo(loop, layer_id))

    def _take_key(self) -> None:
        layer = self.layer
        if layer is None or layer.recorded is None or layer.recorded.facts.key is None:
            self._session.say("its key is not known; say it in the inspector first")
            return
        source, key = layer.recorded, layer.recorded.facts.key

        def edit(loop: Loop) -> Loop:
            loop = loop_edits.set_key(loop, key)
            return recordings.with_recording(loop, layer.id, recordings.shifted(source, 0.0))

        self._session.apply("its key", edit)

    def _take_chords(self) -> None:
        self._listen_for(chords_in, "its chords", lambda loop, _layer, row: put_row(loop, row))

    def _take_bass(self) -> None:
        self._listen_for(bass_in, "its bass", recordings.put_bass)

    def _listen_for(
        self,
        hear: Callable[[Loop, Layer, ClipStore], Any],
        words: str,
        put: Callable[[Loop, str, Any], Loop],
    ) -> None:
        """Hear something in the recording beside the interface, and put it into the loop."""
        loop, layer, clips = self._session.loop, self.layer, self._session.clips
        if layer is None:
            return
        layer_id = layer.id

        def came(heard: Any) -> None:
            if any(x.id == layer_id for x in self._session.loop.layers):
                self._session.apply(words, lambda p: put(p, layer_id, heard))

        self._tasks.run(
            words, lambda _stop, _moved: hear(loop, layer, clips), came, lane=Lane.READING
        )

    def _pulled(self, loop: Loop) -> Loop:
        layer_id = self._session.selection.layer_id
        return recordings.set_recording(loop, layer_id, fit="beats", pull=1.0)

    def _pull(self) -> None:
        self._session.apply("pull to the beat", self._pulled)

    def showEvent(self, _event: object) -> None:
        self._show()

    def show_place(self, share: float) -> None:
        """Move the playhead."""
        self.picture.show_place(share)
