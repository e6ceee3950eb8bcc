"""The Play keys drawer: keys to play, and playing in against a click."""

from enum import Enum

from PyQt6.QtCore import QEvent, QRectF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QComboBox, QFrame, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from cloudrift.desktop.field import FieldWidget
from cloudrift.desktop.keys.layout import chord_caps, note_caps, pitches_of
from cloudrift.desktop.look import MEDIUM, SEMI, color, figure_font, text_font
from cloudrift.desktop.parts import button, heading, label
from cloudrift.desktop.session import Session
from cloudrift.ground.settings import Field, Value
from cloudrift.loop.from_notes import put_played
from cloudrift.notes.played import Played
from cloudrift.notes.time import NOTE_VALUES
from cloudrift.style import without_chords
from cloudrift.theory.naming import read_chord

HEIGHT = 176
FOLLOW_MS = 15
AS_PLAYED = "as played"
LOUDNESS = Field(name="velocity", label="Loudness", default=88, unit="vel", low=20, high=127,
                 step=1)  # fmt: skip
OCTAVES = range(-2, 3)


class State(Enum):
    """What playing in is at."""

    STANDS = "stands"
    COUNT_IN = "count-in"
    TAKES = "takes"


class Keys(QWidget):
    """The keys themselves. ``went_down`` and ``went_up`` carry pitches."""

    went_down = pyqtSignal(int)
    went_up = pyqtSignal(int)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.octave = 0
        self._held: dict[object, tuple[int, ...]] = {}  # a letter or the mouse -> pitches
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(560, 140)
        self.setAccessibleName("Keys of the scale")
        self.setToolTip("Letters play the scale, one row an octave; 1 to 7 its chords; "
                        "with Shift a semitone higher")  # fmt: skip
        session.changed.connect(lambda _b, _a: self.update())

    def boxes(self) -> list[tuple[QRectF, str, str, tuple[int, ...], int]]:
        """Return each key's box, letter, name, pitches and degree."""
        key = self._session.loop.key
        height = self.height() / 4
        out: list[tuple[QRectF, str, str, tuple[int, ...], int]] = []
        caps = chord_caps(key, self.octave)
        width = self.width() / len(caps)
        for i, (letter, voices) in enumerate(caps):
            box = QRectF(i * width, 0, width, height).adjusted(1, 1, -2, -3)
            name = read_chord(voices, key, root_hint=voices[0] % 12).text
            out.append((box, letter, name, voices, i + 1))
        for r, row in enumerate(note_caps(key, self.octave), 1):
            width = self.width() / len(row)
            for i, cap in enumerate(row):
                box = QRectF(i * width, r * height, width, height).adjusted(1, 1, -2, -2)
                name = key.spell_pitch(cap.pitch)
                out.append((box, cap.letter, name, (cap.pitch,), cap.degree))
        return out

    def let_go(self) -> None:
        """Let every key go."""
        for held in list(self._held):
            self._up(held)

    def _down(self, who: object, pitches: tuple[int, ...]) -> None:
        if who in self._held or not pitches:
            return
        self._held[who] = pitches
        for pitch in pitches:
            self.went_down.emit(pitch)
        self.update()

    def _up(self, who: object) -> None:
        for pitch in self._held.pop(who, ()):
            self.went_up.emit(pitch)
        self.update()

    def event(self, event: QEvent | None) -> bool:
        """Letters are notes here, whatever command they stand for elsewhere."""
        override = event is not None and event.type() == QEvent.Type.ShortcutOverride
        if override and isinstance(event, QKeyEvent) and self._pitches(event):
            event.accept()
            return True
        return super().event(event)

    def _pitches(self, event: QKeyEvent) -> tuple[int, ...]:
        taken = Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier
        if event.modifiers() & taken or not 0x20 < event.key() < 0x7F:
            return ()
        raised = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        return pitches_of(chr(event.key()), self._session.loop.key, self.octave, raised=raised)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        pitches = self._pitches(event)
        if not pitches:
            super().keyPressEvent(event)
        elif not event.isAutoRepeat():
            self._down(event.key(), pitches)

    def keyReleaseEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if event.key() in self._held and not event.isAutoRepeat():
            self._up(event.key())
        else:
            super().keyReleaseEvent(event)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        raised = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        for box, _, _, pitches, _ in self.boxes():
            if box.contains(event.position()):
                single = raised and len(pitches) == 1
                self._down("mouse", (pitches[0] + 1,) if single else pitches)

    def mouseReleaseEvent(self, _event: QMouseEvent | None) -> None:
        self._up("mouse")

    def focusOutEvent(self, _event: QFocusEvent | None) -> None:
        self.let_go()

    def focusInEvent(self, _event: QFocusEvent | None) -> None:
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        sounding = {pitch for pitches in self._held.values() for pitch in pitches}
        for box, letter, name, pitches, degree in self.boxes():
            down = set(pitches) <= sounding
            home = degree == 1
            painter.setPen(QPen(color("focus" if self.hasFocus() else "line"), 1))
            painter.setBrush(color("focus") if down else color("focus_soft" if home else "card"))
            painter.drawRoundedRect(box, 4, 4)
            inner = box.adjusted(8, 0, -8, 0)
            painter.setPen(color("on_ink" if down else "ink"))
            painter.setFont(text_font(12.5, SEMI if home else MEDIUM))
            painter.drawText(inner, Qt.AlignmentFlag.AlignVCenter, name)
            painter.setPen(color("on_ink" if down else "ink_soft"))
            painter.setFont(figure_font(10.5))
            right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
            painter.drawText(inner, right, letter)


class KeysDrawer(QFrame):
    """Keys, click, playing in."""

    closed = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("panel")
        self._session = session
        self.state = State.STANDS
        self._played: Played | None = None
        self._last_share = 0.0
        self.setFixedHeight(HEIGHT)
        self.keys = Keys(session)
        self.keys.went_down.connect(self._down)
        self.keys.went_up.connect(self._up)
        self.click = QPushButton("Click")
        self.click.setCheckable(True)
        self.click.setToolTip("A click on every beat, while the loop plays")
        self.click.toggled.connect(session.set_click)
        self.take = QPushButton("Play in")
        self.take.setCheckable(True)
        self.take.setToolTip("One bar of click, then what you play becomes the loop's chords")
        self.take.clicked.connect(self._toggle_take)
        self.grid = QComboBox()
        self.grid.addItems([AS_PLAYED, "1/4", "1/8", "1/16"])
        self.grid.setCurrentText("1/8")
        self.grid.setAccessibleName("Quantise")
        self.velocity = FieldWidget(LOUDNESS, 88.0)
        self.words = label("", size=11.5, name="soft")
        self.words.setWordWrap(True)
        self._clock = QTimer(self)
        self._clock.setInterval(FOLLOW_MS)
        self._clock.setTimerType(Qt.TimerType.PreciseTimer)
        self._clock.timeout.connect(self._follow)
        self._lay_out()
        self._say()
        session.opened.connect(self._drop)
        session.playing_changed.connect(self._on_playing)

    def _lay_out(self) -> None:
        line = QHBoxLayout(self)
        line.setContentsMargins(12, 8, 12, 8)
        line.setSpacing(12)
        side = QVBoxLayout()
        side.setSpacing(5)
        head = QHBoxLayout()
        head.addWidget(heading("Play keys"), 1)
        head.addWidget(button("Close", self.close_drawer, tip="Close the drawer (Esc)"))
        side.addLayout(head)
        acts = QHBoxLayout()
        acts.addWidget(self.take, 1)
        acts.addWidget(self.click, 1)
        side.addLayout(acts)
        ways = QHBoxLayout()
        ways.addWidget(label("Quantise", size=11.5, name="soft"))
        ways.addWidget(self.grid, 1)
        ways.addWidget(button("−1 oct", lambda: self._octave(-1)))
        ways.addWidget(button("+1 oct", lambda: self._octave(1)))
        side.addLayout(ways)
        side.addWidget(self.velocity)
        side.addWidget(self.words, 1)
        holder = QWidget()
        holder.setLayout(side)
        side.setContentsMargins(0, 0, 0, 0)
        holder.setFixedWidth(330)
        line.addWidget(holder)
        line.addWidget(self.keys, 1)

    # --- keys ---------------------------------------------------------------------------------

    def _octave(self, by: int) -> None:
        self.keys.octave = min(max(self.keys.octave + by, OCTAVES[0]), OCTAVES[-1])
        self.keys.let_go()
        self.keys.update()
        self.keys.setFocus()

    def _tick(self) -> int:
        return int(self._session.player.share * self._session.loop.ticks)

    def _down(self, pitch: int) -> None:
        velocity = _whole(self.velocity.value)
        self._session.once.key_down(pitch, velocity)
        if self.state is State.TAKES and self._played is not None:
            self._played.down(self._tick(), pitch, velocity)
            self._say()

    def _up(self, pitch: int) -> None:
        self._session.once.key_up(pitch)
        if self.state is State.TAKES and self._played is not None:
            self._played.up(self._tick(), pitch)

    # --- playing in ---------------------------------------------------------------------------

    def _toggle_take(self) -> None:
        if self.state is State.STANDS:
            self.begin()
        else:
            self.finish()

    def begin(self) -> None:
        """Count in from the loop's last bar; from its first beat on, keys are taken."""
        session = self._session
        self.state = State.COUNT_IN
        self._played = Played(session.loop.ticks)
        self.take.setChecked(True)
        self.click.setChecked(True)
        session.preview(without_chords(session.loop), "playing in")
        session.player.hear_part(0.0, 1.0)
        session.player.seek(1 - 1 / session.loop.bars)
        self._last_share = 1 - 1 / session.loop.bars
        session.set_playing(True)
        self.keys.setFocus()
        self._clock.start()
        self._say()

    def _follow(self) -> None:
        share = self._session.player.share
        if self.state is State.COUNT_IN and share < self._last_share - 0.01:
            self.state = State.TAKES
            for pitches in self.keys._held.values():  # pressed just before the first beat
                for pitch in pitches:
                    if self._played is not None:
                        self._played.down(0, pitch, _whole(self.velocity.value))
        self._last_share = share
        self._say()

    def finish(self) -> None:
        """Stop, and put what was played in the place of the loop's chords."""
        played, took = self._played, self.state is State.TAKES
        tick = self._tick()
        self._drop()
        self._session.set_playing(False)
        if not took or played is None or not played.count:
            self.words.setText("Nothing was played, so nothing was changed.")
            return
        grid = NOTE_VALUES.get(self.grid.currentText(), 0)
        notes = played.notes(tick, grid)
        if self._session.apply("play in", lambda loop: put_played(loop, notes)):
            loop = self._session.loop
            names = "  ".join(c.read(loop.key).text for c in loop.chords)
            self.words.setText(f"Put down: {names}")
            self._session.select(chord_id=loop.chords[0].id)

    def _drop(self) -> None:
        """Take no more, and leave the loop as it is."""
        if self.state is State.STANDS:
            return
        self.state = State.STANDS
        self._played = None
        self._clock.stop()
        self.take.setChecked(False)
        self.click.setChecked(False)
        self._session.preview(None)
        self._say()

    def _on_playing(self, on: bool) -> None:
        if not on and self.state is not State.STANDS:
            self.finish()

    def _say(self) -> None:
        if self.state is State.STANDS:
            text = "Letters play the scale, 1 to 7 its chords. Play in replaces the loop's chords."
        elif self.state is State.COUNT_IN:
            text = "Counting in: play from the next bar on."
        else:
            bar = int(self._session.player.share * self._session.loop.bars) + 1
            count = self._played.count if self._played else 0
            text = (f"Taking bar {bar} of {self._session.loop.bars} · {count} notes. Press Play in "
                    "or Space to end.")  # fmt: skip
        if text != self.words.text():
            self.words.setText(text)

    # --- drawer -------------------------------------------------------------------------------

    def close_drawer(self) -> None:
        """Close; a take under way is dropped."""
        self.keys.let_go()
        self._drop()
        self.click.setChecked(False)
        self.hide()
        self.closed.emit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if event.key() == Qt.Key.Key_Escape:
            self.close_drawer()
        else:
            super().keyPressEvent(event)


def _whole(value: Value) -> int:
    return round(float(value))
