"""Play keys, a strip at the foot: keys to play, and playing in against a click."""

from PyQt6.QtCore import QEvent, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QShowEvent
from PyQt6.QtWidgets import QFrame, QGridLayout, QPushButton, QWidget

from cloudrift.desktop.kit.choice_box import ChoiceBox
from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.held import held
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.look import MEDIUM, SEMI, color, figure_font, text_font
from cloudrift.desktop.kit.parts import Elided, ScrollingPage, button, heading, small_button
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.stages.keys.layout import chord_caps, note_caps, pitches_of
from cloudrift.desktop.stages.keys.recorder import Recorder, State
from cloudrift.devices import Keyboard, MidiKeyboard, keyboards
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.settings import Field
from cloudrift.ground.words import plural
from cloudrift.loop.edits.layers.takes import Becomes
from cloudrift.notes.time import NOTE_VALUES, bar_ticks
from cloudrift.render.plan.trying import left_out
from cloudrift.theory.naming import read_chord

HEIGHT = 150
SIDE_PX = 420
OWN_KEYS = "computer"
SAYS = {
    Becomes.CHORDS: "Recording replaces the loop's chords.",
    Becomes.NEW: "Recording makes a layer with the selected layer's sound.",
    Becomes.NOTES: "Recording replaces the selected layer's notes.",
    Becomes.MORE: "Recording adds to the selected layer's notes.",
}
AS_PLAYED = "as played"
LOUDNESS = Field(
    name="velocity", label="Velocity", default=88, unit="vel", low=20, high=127, step=1
)
OCTAVES = range(-2, 3)


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
        self.setMinimumSize(460, 112)
        self.setAccessibleName("Scale keys")
        self.setToolTip(
            "Letters play the scale, one octave per row; 1 to 7 its chords; Shift a semitone up"
        )
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

    def detach(self) -> None:
        """Let every key go."""
        for who in list(self._held):
            self._up(who)

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
        raised, ctrl, alt = held(event)
        if ctrl or alt or not 0x20 < event.key() < 0x7F:
            return ()
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
        raised = held(event).shift
        for box, _, _, pitches, _ in self.boxes():
            if box.contains(event.position()):
                single = raised and len(pitches) == 1
                self._down("mouse", (pitches[0] + 1,) if single else pitches)

    def mouseReleaseEvent(self, _event: QMouseEvent | None) -> None:
        self._up("mouse")

    def focusOutEvent(self, _event: QFocusEvent | None) -> None:
        self.detach()

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


class KeysStrip(QFrame):
    """Keys, click, playing in, takes; all of it scrolls where a window is narrow."""

    closed = pyqtSignal()
    _midi_down = pyqtSignal(int, int)  # from the keyboard's thread
    _midi_up = pyqtSignal(int)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("panel")
        self._session = session
        self.recorder = Recorder(session)
        self.keyboard: Keyboard | None = None
        self.setFixedHeight(HEIGHT)
        self.keys = Keys(session)
        self.keys.went_down.connect(lambda pitch: self.recorder.down(pitch, self._velocity()))
        self.keys.went_up.connect(self.recorder.up)
        self._midi_down.connect(self.recorder.down)
        self._midi_up.connect(self.recorder.up)
        self.click = QPushButton("Click")
        self.click.setCheckable(True)
        self.click.setToolTip("A click on every beat while the loop plays")
        self.click.toggled.connect(session.transport.set_click)
        self.take = QPushButton("Record")
        self.take.setCheckable(True)
        self.take.setToolTip(
            "One bar of count-in, then what you play becomes what is selected beside"
        )
        self.take.clicked.connect(self._toggle_take)
        self.becomes = ChoiceBox("Record as", [one.value for one in Becomes])
        self.becomes.currentIndexChanged.connect(self._choose_becomes)
        self.grid = ChoiceBox()
        self.grid.addItems([AS_PLAYED, "1/4", "1/8", "1/8 triplet", "1/16"])
        self.grid.setCurrentText("1/8")
        self.grid.setAccessibleName("Quantise")
        self.grid.setToolTip("Also after recording: requantises the current take")
        self.grid.currentTextChanged.connect(self._choose_grid)
        self.takes = ChoiceBox("Takes")
        self.takes.setToolTip(
            "Takes are kept, each an undo step: choosing one replaces another of its kind"
        )
        self.takes.activated.connect(self._choose_take)
        self.source = ChoiceBox("Keyboard")
        self.source.activated.connect(self._choose_keyboard)
        self.velocity = FieldWidget(LOUDNESS, 88.0)
        self.words = Elided(size=11.5, name="soft")
        self._lay_out()
        self._show_takes()
        self._say()
        self.recorder.moved.connect(self._say)
        self.recorder.ended.connect(lambda: self.click.setChecked(False))
        self.recorder.put_down.connect(self._said_put)
        session.changed.connect(lambda _b, _a: self._say() if self.isVisible() else None)

    def _lay_out(self) -> None:
        inside = QWidget()
        line = horizontal(inside, (12, 5, 12, 5), 12)
        outer = vertical(self, FLUSH)
        outer.addWidget(ScrollingPage(inside))
        grid = QGridLayout()
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(4)
        head = horizontal()
        fill(
            head,
            (heading("Play keys"), 1),
            small_button("−1 oct", lambda: self._octave(-1)),
            small_button("+1 oct", lambda: self._octave(1)),
            button("Close", self.leave, tip="Close the keys (Esc, F6)"),
        )
        grid.addLayout(head, 0, 0, 1, 4)
        grid.addWidget(self.take, 1, 0)
        grid.addWidget(self.becomes, 1, 1)
        grid.addWidget(self.click, 1, 2)
        grid.addWidget(self.source, 1, 3)
        grid.addWidget(Elided("Quantise", size=11.5, name="soft"), 2, 0)
        grid.addWidget(self.grid, 2, 1)
        grid.addWidget(self.takes, 2, 2, 1, 2)
        grid.addWidget(self.velocity, 3, 0, 1, 2)
        grid.addWidget(self.words, 3, 2, 1, 2)
        grid.setRowStretch(4, 1)
        for column, share in enumerate((2, 3, 2, 3)):
            grid.setColumnStretch(column, share)
        holder = QWidget()
        holder.setLayout(grid)
        holder.setFixedWidth(SIDE_PX)
        fill(line, holder, (self.keys, 1))

    # --- keys ---------------------------------------------------------------------------------

    def _octave(self, by: int) -> None:
        self.keys.octave = min(max(self.keys.octave + by, OCTAVES[0]), OCTAVES[-1])
        self.keys.detach()
        self.keys.update()
        self.keys.setFocus()

    def _velocity(self) -> int:
        return round(float(self.velocity.value))

    def show_keyboards(self, names: tuple[str, ...]) -> None:
        """List the keyboards that can be read now, after the computer's own keys."""
        self.source.clear()
        self.source.addItems([OWN_KEYS, *names])
        self.source.setEnabled(bool(names))
        self.source.setToolTip(
            "Keyboard" if names else "No MIDI keyboard found; the computer's keys play"
        )
        if self.keyboard is not None:
            self.source.setCurrentText(self.keyboard.name)

    def _choose_keyboard(self, at: int) -> None:
        if self.keyboard is not None:
            self.keyboard.close()
            self.keyboard = None
        if at == 0:
            return
        try:
            self.keyboard = MidiKeyboard(
                self.source.itemText(at), self._midi_down.emit, self._midi_up.emit
            )
        except CloudriftError as error:
            self.source.setCurrentIndex(0)
            self._session.say(str(error))

    # --- playing in ---------------------------------------------------------------------------

    def _choose_becomes(self, at: int) -> None:
        self.recorder.becomes = list(Becomes)[at]
        self._say()

    def choose(self, becomes: Becomes) -> None:
        """Choose what is played becomes."""
        self.becomes.setCurrentIndex(list(Becomes).index(becomes))

    def _choose_grid(self, text: str) -> None:
        self.recorder.grid_ticks = NOTE_VALUES.get(text, 0)
        self.recorder.put_again()

    def _choose_take(self, at: int) -> None:
        if not 0 <= at < len(self.recorder.takes):
            return
        take = self.recorder.takes[at]
        if not self.recorder.choose(take):
            self.words.setText(f"{take.text} is already in the loop.")

    def _show_takes(self) -> None:
        texts = [take.text for take in self.recorder.takes] or ["no takes yet"]
        if texts != [self.takes.itemText(i) for i in range(self.takes.count())]:
            self.takes.clear()
            self.takes.addItems(texts)
            self.takes.setCurrentIndex(len(texts) - 1)
        self.takes.setEnabled(bool(self.recorder.takes))

    def _toggle_take(self) -> None:
        if self.recorder.state is State.STANDS:
            self.begin()
        else:
            self.finish()

    def begin(self) -> None:
        """Count in with a click."""
        self.recorder.begin()
        if self.recorder.state is not State.STANDS:
            self.click.setChecked(True)
            self.keys.setFocus()

    def finish(self) -> None:
        """Stop, and put what was played where it belongs."""
        if not self.recorder.finish():
            self.words.setText("Nothing was played; nothing changed.")

    def _said_put(self) -> None:
        self._show_takes()
        loop, take = self._session.loop, self.recorder.takes[self.takes.currentIndex()]
        if take.becomes is Becomes.CHORDS:
            names = "  ".join(c.read(loop.key).text for c in loop.chords)
            self.words.setText(f"Recorded: {names}")
        else:
            self.words.setText(f"{take.text} recorded as {take.becomes.value}.")

    def _say(self) -> None:
        recorder = self.recorder
        self._show_takes()
        standing = recorder.state is State.STANDS
        self.take.setChecked(not standing)
        if standing:
            out = left_out(self._session.loop, recorder.layer)
            through = f" Ignored: {' and '.join(out)}." if out else ""
            text = f"{SAYS[recorder.becomes]}{through}"
        elif recorder.state is State.COUNT_IN:
            text = "Count-in: play from the next bar."
        else:
            bar = recorder.tick() // bar_ticks(self._session.loop.metre) + 1
            count = recorder.played.count if recorder.played else 0
            text = (
                f"Recording bar {bar} of {self._session.loop.bars} · {plural(count, 'note')}. "
                "Press Record or Space to stop."
            )
        if text != self.words.text():
            self.words.setText(text)

    # --- the strip -------------------------------------------------------------------------------

    def showEvent(self, _event: QShowEvent | None) -> None:
        self.show_keyboards(keyboards())
        wanted = self.source.findText(self._session.preferences.now.keyboard)
        if self.keyboard is None and wanted > 0:
            self.source.setCurrentIndex(wanted)
            self._choose_keyboard(wanted)

    def leave(self) -> None:
        """Have it put away; a take under way is dropped."""
        self.keys.detach()
        self.recorder.drop()
        self.click.setChecked(False)
        if self.keyboard is not None:
            self.keyboard.close()
            self.keyboard = None
        self.closed.emit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if event.key() == Qt.Key.Key_Escape:
            self.leave()
        else:
            super().keyPressEvent(event)
