"""The start page: what to begin from, key, tempo, length; the loop turns while one chooses."""

from collections.abc import Callable
from pathlib import Path

from msgspec.structs import replace
from PyQt6.QtCore import QEvent, Qt, pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDropEvent, QKeyEvent
from PyQt6.QtWidgets import QFrame, QLineEdit, QWidget

from cloudrift.desktop.kit.choice_box import ChoiceBox
from cloudrift.desktop.kit.dropped import MIDI_FILES, RECORDED, dropped, is_midi
from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.flow import Flow, flow, takes_rest
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
from cloudrift.desktop.stages.start.card_tile import CardTile
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
from cloudrift.ground.draws import MAX_VARIATION
from cloudrift.ground.settings import Field, Value
from cloudrift.ground.words import NAME_TYPED
from cloudrift.loop.model.loop import Loop
from cloudrift.style import Card, without_chords
from cloudrift.style.beginnings import empty_loop
from cloudrift.theory.key import SCALES, Key
from cloudrift.theory.pitch import FLAT_NAMES, SHARP_NAMES, pretty

VARIATION = Field(
    name="variation", label="Variation", default=1, unit="№", low=1, high=MAX_VARIATION
)
BARS = ((4, "4 bars"), (8, "8 bars"), (16, "16 bars"))
CARD, EMPTY, MIDI, RECORDING, PHRASE, TEMPLATE = range(6)
FROM = (
    (CARD, "From a style card"),
    (EMPTY, "From nothing"),
    (MIDI, "MIDI file"),
    (RECORDING, "Recording"),
    (PHRASE, "Record a phrase"),
    (TEMPLATE, "Template"),
)


KIT_WORDS = (
    "The demo kit: five loops for a planetarium's winter programme, with a flip, a recording, an "
    "arrangement, rides and people in them."
)
HINT = "Rest on a card: its sketch plays. Enter starts with it."
DRAW_PX, NAME_PX, KEY_PX = 120, 150, 96  # that fields have at least


class StartPage(QWidget):
    """Everything a first loop needs.

    ``begun`` carries the loop, ``left`` means: never mind; ``demo_wanted`` asks for the demo kit,
    ``learn_wanted`` for the page on which a card is learnt.
    """

    begun = pyqtSignal(object)
    left = pyqtSignal()
    demo_wanted = pyqtSignal()
    learn_wanted = pyqtSignal()

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__()
        self._session = session
        self._preview = Preview(session.hearing.previews, self)
        self.setAcceptDrops(True)
        self._loop: Loop | None = None
        self._heard_card: Card | None = None  # that somebody rests on
        self._started = False  # whether resting has set the loop going
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
        self.begin_from = ChoiceRow(FROM, name="Start from", even=False)
        self.source: Source = self.card  # what the loop is begun from
        self.tonic = ChoiceBox("Tonic")
        self.mode = ChoiceBox("Scale")
        self.tempo = FieldWidget(TEMPO, 120.0)
        self.bars = ChoiceRow(BARS, columns=3, name="Length")
        self.metre = MetreChoice()
        self.variation = FieldWidget(VARIATION, 1.0)
        self.another = button(
            "Another sketch", self.another_variation, tip="Another variation in this style"
        )
        self.demo = button("Open the demo kit", self.demo_wanted.emit, tip=KIT_WORDS)
        self.listen = button("Play it", self._listen, tip="Play or stop (Space)")
        self.begin = button("Start with this loop", self.begin_loop, name="strong")
        self.begin_empty = button(
            "Only its settings",
            self.begin_without_chords,
            tip="Its key, tempo and sounds, without chords",
        )
        self.never_mind = button("Back to the open loop", self.leave)
        self.summary = label("", size=13, wrap=True)
        self.draws = QWidget()
        self._lay_out()
        self._connect()

    def _lay_out(self) -> None:
        middle, inside = panel(), QWidget()
        page = vertical(inside, (0, 0, 6, 0), 8)
        self.hint = label(HINT, size=12, name="soft")
        fill(
            page,
            flow(label("Start a loop", size=20, weight=SEMI), self.hint, spacing=14),
            flow(self.begin_from, self.demo, spacing=6),
            label(KIT_WORDS, size=11.5, name="soft", wrap=True),
        )
        for source in self.sources:  # of these, one is shown
            page.addWidget(source)
        below = QWidget()
        halves = Flow(below, spacing=18, even=True, columns=2)
        for half in (self._sketch_half(), self._choice_half()):
            halves.addWidget(half)
        fill(page, 1, _line(), below)
        hands = flow(self.never_mind, takes_rest(QWidget(), 1), self.listen, self.begin_empty,
                     self.begin, spacing=6)  # fmt: skip
        column = vertical(middle, (18, 10, 12, 12), 8)
        fill(column, (scrolling(inside), 1), hands)
        outer = vertical(self, FLUSH)
        outer.addWidget(middle)

    def _sketch_half(self) -> QWidget:
        """What the loop is that would be begun."""
        holder = QWidget()
        column = vertical(holder, FLUSH, 5)
        self.variation.setMinimumWidth(DRAW_PX)
        inside = horizontal(self.draws, FLUSH, 6)
        fill(inside, self.another, self.variation, 1)
        fill(column, heading("This loop"), self.summary, self.draws, 1)
        return holder

    def _choice_half(self) -> QWidget:
        """Name, key, tempo, length and metre."""
        holder = QWidget()
        column = vertical(holder, FLUSH, 6)
        for line in (
            (label("Name", size=11.5, name="soft"), takes_rest(self.title, NAME_PX)),
            (label("Key", size=11.5, name="soft"), takes_rest(self.tonic, KEY_PX),
             takes_rest(self.mode, KEY_PX), takes_rest(self.tempo, NAME_PX)),
            (label("Length", size=11.5, name="soft"), self.bars, self.metre),
        ):  # fmt: skip
            column.addWidget(flow(*line, spacing=6))
        return holder

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
        self.variation.edited.connect(self._choose_variation)
        self.card.rested.connect(self._hear_card)
        self.card.learn_wanted.connect(self.learn_wanted)
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
        self._choice = Choice(variation=self._choice.variation)
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
                self._choice = Choice(variation=self._choice.variation)
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

    def _choose_variation(self, value: Value) -> None:
        self._choice.variation = int(float(value))
        self._make()

    def another_variation(self) -> None:
        """Take the next draw."""
        self._choice.variation = self._choice.variation % MAX_VARIATION + 1
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
        self.hint.setVisible(source is self.card)
        for widget in (self.begin, self.listen, self.tonic, self.tempo, self.bars, self.metre):
            widget.setEnabled(loop is not None)
        self.tonic.setItemText(0, source.own_key)
        chosen = bool(self._choice.key or source.own_tonic)
        self.mode.setEnabled(loop is not None and chosen)
        if self._choice.key is None:
            self.tonic.setCurrentIndex(0)
        shown = loop or empty_loop()
        self.tempo.set_value(shown.tempo)
        self.variation.set_value(float(self._choice.variation))
        self.bars.show_choice(shown.bars)
        self.metre.show_choice(shown.metre)
        self.mode.setCurrentIndex(self.mode.findData(shown.key.mode))
        set_look(self.summary, "signal" if problem else "")
        self.summary.setText(problem or (summary(loop) if loop else "nothing to start with yet"))
        if self.isVisible():
            self._show_loop()

    def _show_loop(self) -> None:
        """Let what is chosen be heard and shown in the place of the open loop."""
        self._preview.put(
            self._loop or empty_loop(), "not started yet", alone=frozenset(), instead=True
        )

    def _hear_card(self, card: Card | None) -> None:
        """While somebody rests on another card, its sketch is heard and shown; it plays by that."""
        if card is None:
            self._heard_card = None
            self._show_loop()
            if self._started:
                self._session.transport.set_playing(False)
            self._started = False
            return
        self._heard_card = card
        loop = self.card.sketch_of(card, Choice(variation=self._choice.variation))
        self._preview.put(loop, f"{card.name}: a sketch", alone=frozenset(), instead=True)
        if not self._session.player.playing:
            self._started = True
            self._session.transport.set_playing(True)

    def _listen(self) -> None:
        self._session.transport.toggle()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        enters = event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
        if enters and isinstance(self.focusWidget(), CardTile) and self.begin.isEnabled():
            self.begin_loop()
        else:
            super().keyPressEvent(event)

    def begin_loop(self) -> None:
        """Take the loop that is shown."""
        self._take(lambda loop: loop)

    def begin_without_chords(self) -> None:
        """Take the loop that is shown, to write its chords oneself."""
        self._take(without_chords)

    def _take(self, change: Callable[[Loop], Loop]) -> None:
        if self._loop is None:
            self._session.say(
                "there is nothing to start with yet; choose a file, or begin from nothing"
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
        """Follow the sound on the card that is heard."""
        plays = self._session.player.playing and self.source is self.card
        self.card.show_place(self._heard_card or self.card.card, share if plays else -1.0)


def _line() -> QFrame:
    made = QFrame()
    made.setObjectName("rule")
    made.setFixedHeight(1)
    return made
