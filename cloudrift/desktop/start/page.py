"""The start page: a card, a key, a tempo, a length, a draw; the loop turns while one chooses."""

from msgspec.structs import replace
from PyQt6.QtCore import QEvent, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from cloudrift.desktop.field import FieldWidget
from cloudrift.desktop.look import SEMI
from cloudrift.desktop.parts import ChoiceRow, button, heading, label, panel
from cloudrift.desktop.session import Session
from cloudrift.desktop.tiles import TEMPO
from cloudrift.ground.draws import MAX_DRAW
from cloudrift.ground.settings import Field, Value
from cloudrift.loop.model import Loop
from cloudrift.style import Card, house_cards, sketch, without_chords
from cloudrift.theory.key import SCALES, Key
from cloudrift.theory.pitch import FLAT_NAMES, SHARP_NAMES, pretty

DRAW = Field(name="draw", label="Draw", default=1, unit="№", low=1, high=MAX_DRAW)
BARS = ((4, "4 bars"), (8, "8 bars"), (16, "16 bars"))
AS_DRAWN = "as the card draws it"


class CardButton(QPushButton):
    """A style card to choose."""

    def __init__(self, card: Card) -> None:
        super().__init__(f"{card.name}\n{card.about}")
        self.setCheckable(True)
        self.setAutoExclusive(True)
        self.setMinimumSize(100, 54)
        self.setAccessibleName(f"Style card {card.name}: {card.about}")
        self.setStyleSheet("QPushButton { text-align: left; padding: 7px 12px; }")


class StartPage(QWidget):
    """Everything a first loop needs. ``begun`` carries the loop, ``left`` means: never mind."""

    begun = pyqtSignal(object)
    left = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._card = next(iter(house_cards().values()))
        self._loop: Loop | None = None
        self._key: Key | None = None
        self._tempo: float | None = None
        self._bars = 8
        self._draw = 1
        self.title = QLineEdit("Untitled loop")
        self.title.setAccessibleName("Name of the loop")
        self.cards: dict[str, CardButton] = {}
        self.tonic = QComboBox()
        self.tonic.setAccessibleName("Tonic")
        self.mode = QComboBox()
        self.mode.setAccessibleName("Scale")
        self.tempo = FieldWidget(TEMPO, 120.0)
        self.bars = ChoiceRow(BARS, columns=3, name="Length")
        self.draw = FieldWidget(DRAW, 1.0)
        self.another = button(
            "Another draw", self.another_draw, tip="Another loop in this style (D)"
        )
        self.listen = button("Play it", self._listen, tip="Play or stop (Space)")
        self.begin = button("Begin with this loop", self.begin_loop, name="strong")
        self.begin_empty = button(
            "Begin without chords", self.begin_without_chords,
            tip="Its key, tempo and sounds; the chords are yours to write",
        )  # fmt: skip
        self.never_mind = button("Back to the open loop", self.leave)
        self.summary = label("", size=13)
        self.summary.setWordWrap(True)
        self._lay_out()
        self._connect()

    def _lay_out(self) -> None:
        middle = panel()
        middle.setMaximumWidth(760)
        column = QVBoxLayout(middle)
        column.setContentsMargins(26, 18, 26, 18)
        column.setSpacing(7)
        column.addWidget(label("Start a loop", size=20, weight=SEMI))
        about = label("Choose a style card; press Play it to hear its first loop. Change "
                      "what you like, or take another draw.", size=12.5, name="soft")  # fmt: skip
        column.addWidget(about)
        column.addWidget(heading("Style card"))
        row = QHBoxLayout()
        for card in house_cards().values():
            one = CardButton(card)
            one.clicked.connect(lambda _c, name=card.name: self.choose_card(name))
            self.cards[card.name] = one
            row.addWidget(one, 1)
        column.addLayout(row)
        column.addWidget(heading("Name"))
        column.addWidget(self.title)
        pair = QHBoxLayout()
        left, right = QVBoxLayout(), QVBoxLayout()
        left.addWidget(heading("Key"))
        keys = QHBoxLayout()
        keys.addWidget(self.tonic)
        keys.addWidget(self.mode, 1)
        left.addLayout(keys)
        left.addWidget(heading("Length, in 4/4"))
        left.addWidget(self.bars)
        right.addWidget(heading("Tempo"))
        right.addWidget(self.tempo)
        right.addWidget(heading("Draw: the same number is the same loop"))
        draws = QHBoxLayout()
        draws.addWidget(self.draw, 1)
        draws.addWidget(self.another)
        right.addLayout(draws)
        pair.addLayout(left, 1)
        pair.addSpacing(18)
        pair.addLayout(right, 1)
        column.addLayout(pair)
        column.addWidget(heading("This loop"))
        column.addWidget(self.summary)
        column.addStretch(1)
        row = QHBoxLayout()
        row.addWidget(self.never_mind)
        row.addStretch(1)
        row.addWidget(self.listen)
        row.addWidget(self.begin_empty)
        row.addWidget(self.begin)
        column.addLayout(row)
        outer = QHBoxLayout(self)
        outer.setContentsMargins(8, 6, 8, 6)
        outer.addStretch(1)
        outer.addWidget(middle, 10)
        outer.addStretch(1)

    def _connect(self) -> None:
        self.tonic.addItem(AS_DRAWN, None)
        for pc in range(12):
            names = sorted({SHARP_NAMES[pc], FLAT_NAMES[pc]})
            for name in names:
                self.tonic.addItem(pretty(name), name)
        for mode in SCALES:
            self.mode.addItem(mode, mode)
        self.tonic.activated.connect(lambda _i: self._choose_key())
        self.mode.activated.connect(lambda _i: self._choose_key())
        self.tempo.edited.connect(self._choose_tempo)
        self.bars.chosen.connect(self._choose_bars)
        self.draw.edited.connect(self._choose_draw)
        self._session.playing_changed.connect(
            lambda on: self.listen.setText("Stop" if on else "Play it")
        )

    # --- choices ------------------------------------------------------------------------------

    def enter(self) -> None:
        """Come here: sketch and let it be heard."""
        self.listen.setText("Stop" if self._session.player.playing else "Play it")
        self.title.setText("Untitled loop")
        self._sketch()
        self.cards[self._card.name].setFocus()

    def choose_card(self, name: str) -> None:
        """Take another card; tempo is drawn anew."""
        self._card = house_cards()[name]
        self._tempo = None
        self._sketch()

    def _choose_key(self) -> None:
        tonic = self.tonic.currentData()
        if tonic is None:
            self._key = None
        else:
            self._key = Key(tonic, self.mode.currentData())
        self._sketch()

    def _choose_tempo(self, value: Value) -> None:
        self._tempo = float(value)
        self._sketch()

    def _choose_bars(self, bars: int) -> None:
        self._bars = bars
        self._sketch()

    def _choose_draw(self, value: Value) -> None:
        self._draw = int(float(value))
        self._sketch()

    def another_draw(self) -> None:
        """Take the next draw."""
        self._draw = self._draw % MAX_DRAW + 1
        self._sketch()

    def _sketch(self) -> None:
        loop = sketch(self._card, self._key, self._tempo, self._draw, bars=self._bars)
        self._loop = loop
        self.cards[self._card.name].setChecked(True)
        self.tempo.set_value(loop.tempo)
        self.draw.set_value(float(self._draw))
        self.bars.show_choice(self._bars)
        self.mode.setCurrentIndex(self.mode.findData(loop.key.mode))
        self.mode.setEnabled(self._key is not None)
        chords = "   ".join(chord.read(loop.key).text for chord in loop.chords)
        layers = ", ".join(layer.name for layer in loop.layers)
        self.summary.setText(f"{loop.key.text}, {loop.tempo:g} BPM, {loop.bars} bars\n"
                             f"{chords}\n{layers}")  # fmt: skip
        if self.isVisible():
            self._session.preview(loop, alone=frozenset())

    def _listen(self) -> None:
        self._session.toggle_playing()

    def begin_loop(self) -> None:
        """Take the loop that is shown."""
        if self._loop is not None:
            self._take(self._loop)

    def begin_without_chords(self) -> None:
        """Take the loop that is shown, to write its chords oneself."""
        if self._loop is not None:
            self._take(without_chords(self._loop))

    def _take(self, loop: Loop) -> None:
        title = self.title.text().strip() or "Untitled loop"
        self._session.preview(None)
        self.begun.emit(replace(loop, title=title))

    def leave(self) -> None:
        """Go back to the open loop."""
        self._session.preview(None)
        self.left.emit()

    def showEvent(self, event: QEvent | None) -> None:
        if self._loop is not None:
            self._session.preview(self._loop, alone=frozenset())

    def show_place(self, share: float) -> None:
        """Nothing moves here."""
