"""The start page: what to begin from, key, tempo, length; the loop turns while one chooses."""

from collections.abc import Callable
from pathlib import Path

from msgspec.structs import replace
from PyQt6.QtCore import QEvent, pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import QComboBox, QLineEdit, QVBoxLayout, QWidget

from cloudrift.desktop.kit.dropped import MIDI_FILES, RECORDED, dropped, is_midi
from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.look import SEMI
from cloudrift.desktop.kit.parts import (
    ChoiceRow,
    button,
    heading,
    label,
    panel,
    scrolling,
    set_look,
)
from cloudrift.desktop.kit.tiles import TEMPO, MetreChoice
from cloudrift.desktop.session.hearing.preview import Preview
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.tasks import Tasks
from cloudrift.desktop.stages.start.recording_source import RecordingSource
from cloudrift.desktop.stages.start.sources import (
    UNTITLED,
    CardSource,
    Choice,
    EmptySource,
    MidiSource,
    PhraseSource,
    Source,
    TemplateSource,
    made,
    summary,
)
from cloudrift.ground.draws import MAX_DRAW
from cloudrift.ground.settings import Field, Value
from cloudrift.ground.words import NAME_TYPED
from cloudrift.loop.model.loop import Loop
from cloudrift.style import without_chords
from cloudrift.style.beginnings import empty_loop
from cloudrift.theory.key import SCALES, Key
from cloudrift.theory.pitch import FLAT_NAMES, SHARP_NAMES, pretty

DRAW = Field(name="draw", label="Draw", default=1, unit="№", low=1, high=MAX_DRAW)
BARS = ((4, "4 bars"), (8, "8 bars"), (16, "16 bars"))
CARD, EMPTY, MIDI, RECORDING, PHRASE, TEMPLATE = range(6)
FROM = (
    (CARD, "A style card"),
    (EMPTY, "Nothing"),
    (MIDI, "A MIDI file"),
    (RECORDING, "A recording"),
    (PHRASE, "A phrase"),
    (TEMPLATE, "A template"),
)


class StartPage(QWidget):
    """Everything a first loop needs. ``begun`` carries the loop, ``left`` means: never mind."""

    begun = pyqtSignal(object)
    left = pyqtSignal()

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__()
        self._session = session
        self._preview = Preview(session.hearing.previews, self)
        self.setAcceptDrops(True)
        self._loop: Loop | None = None
        self._choice = Choice()
        self._named = False  # whether the title has been typed
        self.title = QLineEdit(UNTITLED)
        self.title.setMaxLength(NAME_TYPED)
        self.title.setAccessibleName("Name of the loop")
        self.title.textEdited.connect(self._name)
        self.card, self.empty = CardSource(), EmptySource()
        self.midi, self.recording = MidiSource(session, tasks), RecordingSource(session, tasks)
        self.phrase = PhraseSource()
        self.template = TemplateSource(session, session.say)
        self.sources: tuple[Source, ...] = (
            self.card,
            self.empty,
            self.midi,
            self.recording,
            self.phrase,
            self.template,
        )
        self.begin_from = ChoiceRow(FROM, columns=6, name="Begin from")
        self.source: Source = self.card  # what the loop is begun from
        self.tonic = QComboBox()
        self.tonic.setAccessibleName("Tonic")
        self.mode = QComboBox()
        self.mode.setAccessibleName("Scale")
        self.tempo = FieldWidget(TEMPO, 120.0)
        self.bars = ChoiceRow(BARS, columns=3, name="Length")
        self.metre = MetreChoice()
        self.draw = FieldWidget(DRAW, 1.0)
        self.another = button("Another draw", self.another_draw, tip="Another loop in this style")
        self.listen = button("Play it", self._listen, tip="Play or stop (Space)")
        self.begin = button("Begin with this loop", self.begin_loop, name="strong")
        self.begin_empty = button(
            "Begin without chords",
            self.begin_without_chords,
            tip="Its key, tempo and sounds; the chords are yours to write",
        )
        self.never_mind = button("Back to the open loop", self.leave)
        self.summary = label("", size=13, wrap=True)
        self.draws = QWidget()
        self._lay_out()
        self._connect()

    def _lay_out(self) -> None:
        middle = panel()
        middle.setMaximumWidth(760)
        page = vertical(middle, (26, 18, 26, 18), 7)
        page.addWidget(label("Start a loop", size=20, weight=SEMI))
        inside = QWidget()
        page.addWidget(scrolling(inside), 1)  # in a small window not all of it has room
        column = vertical(inside, FLUSH, 7)
        fill(column, heading("From"), self.begin_from)
        for source in self.sources:  # of these, one is shown
            column.addWidget(source)
        fill(column, heading("Name"), self.title)
        pair = horizontal()
        left, right = QVBoxLayout(), QVBoxLayout()
        left.addWidget(heading("Key"))
        keys = horizontal()
        fill(keys, (self.tonic, 1), (self.mode, 1))
        left.addLayout(keys)
        left.addWidget(heading("Length and metre"))
        lengths = horizontal()
        fill(lengths, (self.bars, 1), self.metre)
        left.addLayout(lengths)
        right.addWidget(heading("Tempo"))
        right.addWidget(self.tempo)
        drawing = vertical(self.draws, FLUSH)
        drawing.addWidget(heading("Draw: the same number is the same loop"))
        draws = horizontal()
        fill(draws, (self.draw, 1), self.another)
        drawing.addLayout(draws)
        right.addWidget(self.draws)
        right.addStretch(1)
        pair.addLayout(left, 1)
        pair.addSpacing(18)
        pair.addLayout(right, 1)
        fill(column, pair, heading("This loop"), self.summary, 1)
        row = horizontal()
        fill(row, self.never_mind, 1, self.listen, self.begin_empty, self.begin)
        page.addLayout(row)
        outer = horizontal(self, (8, 6, 8, 6))
        fill(outer, 1, (middle, 10), 1)

    def _connect(self) -> None:
        self.tonic.addItem("", None)
        for pc in range(12):
            names = sorted({SHARP_NAMES[pc], FLAT_NAMES[pc]})
            for name in names:
                self.tonic.addItem(pretty(name), name)
        for mode in SCALES:
            self.mode.addItem(mode, mode)
        self.begin_from.chosen.connect(self.choose_source)
        for source in self.sources:
            source.changed.connect(self._source_changed)
        self.tonic.activated.connect(lambda _i: self._choose_key())
        self.mode.activated.connect(lambda _i: self._choose_key())
        self.tempo.edited.connect(self._choose_tempo)
        self.bars.chosen.connect(self._choose_bars)
        self.metre.chosen.connect(self._choose_metre)
        self.draw.edited.connect(self._choose_draw)
        self._session.transport.playing_changed.connect(
            lambda on: self.listen.setText("Stop" if on else "Play it")
        )

    # --- choices ------------------------------------------------------------------------------

    @property
    def plays_in(self) -> bool:
        """Whether the first thing to do with the loop is to play something in."""
        return self.source.plays_in

    def enter(self) -> None:
        """Come here: sketch and let it be heard."""
        self.listen.setText("Stop" if self._session.player.playing else "Play it")
        self._named = False
        self.source.enter()
        self._make()
        self.source.first().setFocus()

    def choose_source(self, number: int) -> None:
        """Begin from something else; what was chosen for the other goes."""
        self.source = self.sources[number]
        self._choice = Choice(draw=self._choice.draw)
        self.source.enter()
        self._make()
        self.source.first().setFocus()

    def choose_card(self, name: str) -> None:
        """Begin from a style card."""
        self.source = self.card
        self.card.choose(name)

    def read(self, path: Path) -> None:
        """Begin from a file: MIDI or a recording."""
        source = self.midi if is_midi(path) else self.recording
        self.choose_source(self.sources.index(source))
        source.read(path)

    def _source_changed(self) -> None:
        """Another card or file: its own tempo and key count, not those chosen for the other."""
        if self.sender() is self.source:
            self._choice.tempo = None
            if self.source is not self.card:
                self._choice = Choice(draw=self._choice.draw)
            self._make()

    def _choose_key(self) -> None:
        tonic = self.tonic.currentData() or self.source.own_tonic or None
        self._choice.key = None if tonic is None else Key(tonic, self.mode.currentData())
        self._make()

    def _choose_tempo(self, value: Value) -> None:
        self._choice.tempo = float(value)
        self._make()

    def _choose_bars(self, bars: int) -> None:
        self._choice.bars = bars
        self._make()

    def _choose_metre(self, metre: tuple[int, int]) -> None:
        self._choice.metre = metre
        self._make()

    def _choose_draw(self, value: Value) -> None:
        self._choice.draw = int(float(value))
        self._make()

    def another_draw(self) -> None:
        """Take the next draw."""
        self._choice.draw = self._choice.draw % MAX_DRAW + 1
        self._make()

    def _name(self) -> None:
        self._named = True

    def _make(self) -> None:
        """Make the loop of what is chosen, show it, and let it be heard."""
        source = self.source
        loop, problem = made(source, self._choice)
        self._loop = loop
        self.begin_from.show_choice(self.sources.index(source))
        for one in self.sources:
            one.setVisible(one is source)
        if not self._named:
            self.title.setText(source.title)
        self.draws.setVisible(source.draws)
        self.begin_empty.setVisible(source.draws)
        for widget in (self.begin, self.listen, self.tonic, self.tempo, self.bars, self.metre):
            widget.setEnabled(loop is not None)
        self.tonic.setItemText(0, source.own_key)
        chosen = bool(self._choice.key or source.own_tonic)
        self.mode.setEnabled(loop is not None and chosen)
        if self._choice.key is None:
            self.tonic.setCurrentIndex(0)
        shown = loop or empty_loop()
        self.tempo.set_value(shown.tempo)
        self.draw.set_value(float(self._choice.draw))
        self.bars.show_choice(shown.bars)
        self.metre.show_choice(shown.metre)
        self.mode.setCurrentIndex(self.mode.findData(shown.key.mode))
        set_look(self.summary, "signal" if problem else "")
        self.summary.setText(problem or (summary(loop) if loop else "nothing to begin with yet"))
        if self.isVisible():
            self._show_loop()

    def _show_loop(self) -> None:
        """Let what is chosen be heard and shown in the place of the open loop."""
        self._preview.put(
            self._loop or empty_loop(), "not begun yet", alone=frozenset(), instead=True
        )

    def _listen(self) -> None:
        self._session.transport.toggle()

    def begin_loop(self) -> None:
        """Take the loop that is shown."""
        self._take(lambda loop: loop)

    def begin_without_chords(self) -> None:
        """Take the loop that is shown, to write its chords oneself."""
        self._take(without_chords)

    def _take(self, change: Callable[[Loop], Loop]) -> None:
        if self._loop is None:
            self._session.say(
                "there is nothing to begin with yet; choose a file, or begin from nothing"
            )
            return
        title = self.title.text().strip() or UNTITLED
        self._preview.end()
        self.begun.emit(replace(change(self._loop), title=title))

    @property
    def has_loop(self) -> bool:
        """Whether there is a loop to begin with."""
        return self._loop is not None

    def show_again(self) -> None:
        """Stay here after all: the loop that is chosen is heard again."""
        self._show_loop()

    def leave(self) -> None:
        """Go back to the open loop."""
        self._preview.end()
        self.left.emit()

    # --- Qt -----------------------------------------------------------------------------------

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """A MIDI file or a recording may be dropped here."""
        assert event is not None
        if dropped(event.mimeData(), MIDI_FILES | RECORDED):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        assert event is not None
        self.read(dropped(event.mimeData(), MIDI_FILES | RECORDED)[0])

    def showEvent(self, event: QEvent | None) -> None:
        self._show_loop()

    def show_place(self, share: float) -> None:
        """Nothing moves here."""
