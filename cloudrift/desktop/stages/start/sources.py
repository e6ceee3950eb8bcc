"""What a loop can be started from: a style card, nothing, a file, a phrase, a template."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QListWidget, QVBoxLayout, QWidget

from cloudrift.desktop.kit.asking import MIDI_KINDS, ask_for_file
from cloudrift.desktop.kit.flow import Flow
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.lead import LeadTile
from cloudrift.desktop.kit.parts import ChoiceRow, button, clear, label
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.trouble import error_words
from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.desktop.stages.start.card_tile import SIZE, CardTile
from cloudrift.ground.cancel import Cancelled
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.paths import shown
from cloudrift.ground.words import NAME_TYPED, plural
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.chords.metre import set_metre
from cloudrift.loop.files.kept import Kept, forget, kept_in, template_folder
from cloudrift.loop.files.storage import load
from cloudrift.loop.model.loop import Loop
from cloudrift.notes.from_midi import TEMPO_FROM, Song, read_song
from cloudrift.style import Card, house_cards, known_cards, sketch
from cloudrift.style.beginnings import BARS, KEY, TEMPO, empty_loop, from_song
from cloudrift.style.pictures import CardPicture, card_pictures
from cloudrift.theory.key import Key

UNTITLED = "Untitled loop"
CARDS_A_ROW = 4


@dataclass
class Choice:
    """What is chosen on the page; None is what the source has by itself."""

    key: Key | None = None
    tempo: float | None = None
    bars: int | None = None
    metre: tuple[int, int] | None = None
    variation: int = 1


class Source(QWidget):
    """One of the things to start from, with what there is to choose about it.

    ``changed`` says that another loop would come of it. ``own_key`` names the key that it has by
    itself, ``own_tonic`` the tonic where only that is given and its scale is free to choose.
    ``card`` is whose style it is in, if anybody's; ``draws`` says whether the variation counts,
    ``plays_in`` that the first thing to do is play.
    """

    changed = pyqtSignal()
    own_key = "as it is"
    own_tonic = ""
    draws = False
    card: Card | None = None
    plays_in = False
    title = UNTITLED
    problem = ""

    def make(self, choice: Choice) -> Loop | None:
        """Return the loop that would be begun; None as long as there is none."""
        raise NotImplementedError

    def enter(self) -> None:
        """The start page is entered."""

    def first(self) -> QWidget:
        """Return what has the keyboard first."""
        return self


def altered(loop: Loop, choice: Choice) -> Loop:
    """Return a loop that is there already with what was chosen for it."""
    if choice.metre is not None:
        loop = set_metre(loop, choice.metre)
    if choice.bars is not None:
        loop = loop_edits.set_bars(loop, choice.bars)
    if choice.key is not None:
        loop = loop_edits.set_key(loop, choice.key)
    return loop if choice.tempo is None else loop_edits.set_tempo(loop, choice.tempo)


def _words(text: str) -> QWidget:
    made = label(text, size=12.5, name="soft", wrap=True)
    return made


def _column(source: Source) -> QVBoxLayout:
    column = vertical(source, FLUSH, 7)
    return column


# --- a style card ---------------------------------------------------------------------------------


class CardSource(Source):
    """A first loop in a producer's style. ``rested`` carries a card to be heard, or None."""

    own_key = "from the card"
    draws = True
    rested = pyqtSignal(object)
    learn_wanted = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.cards: dict[str, CardTile] = {}
        self._grid = Flow(self, spacing=8, even=True, columns=CARDS_A_ROW)
        self._known = house_cards()
        self.card: Card = next(iter(self._known.values()))
        self._fill()

    def _fill(self) -> None:
        """A tile for each card, those of one's own after the house's; then a way to another."""
        clear(self._grid)
        self.cards = {}
        pictures = card_pictures()
        for card in self._known.values():
            one = CardTile(card, pictures.get(card.name) or _chords_of(card))
            one.clicked.connect(lambda _c, name=card.name: self.choose(name))
            one.rested.connect(lambda card=card: self.rested.emit(card))
            one.gone.connect(lambda: self.rested.emit(None))
            self.cards[card.name] = one
            self._grid.addWidget(one)
        self.learn = LeadTile(
            "Learn one…", "Drafts a card from your loops, MIDI files or recordings.",
            self.learn_wanted.emit, lambda _painter, _box: None,
        )  # fmt: skip
        self.learn.setFixedHeight(SIZE.height())
        self._grid.addWidget(self.learn)
        self.card = self._known.get(self.card.name, next(iter(self._known.values())))
        self.cards[self.card.name].setChecked(True)

    def choose(self, name: str) -> None:
        """Take another card."""
        self.card = self._known[name]
        self.cards[name].setChecked(True)
        self.changed.emit()

    def show_place(self, card: Card | None, share: float) -> None:
        """Show on the tile of the card that is heard where its sketch is."""
        for tile in self.cards.values():
            tile.show_place(share if tile.card is card else -1.0)

    def showEvent(self, event: QShowEvent | None) -> None:
        known = {**house_cards(), **known_cards()}
        if known != self._known:  # one has been learnt or kept meanwhile
            self._known = known
            self._fill()
        super().showEvent(event)

    def make(self, choice: Choice) -> Loop:
        return self.sketch_of(self.card, choice)

    @staticmethod
    def sketch_of(card: Card, choice: Choice) -> Loop:
        """Return a sketch in a card's style with what is chosen."""
        return sketch(
            card,
            choice.key,
            choice.tempo,
            choice.variation,
            bars=choice.bars or BARS,
            metre=choice.metre or (4, 4),
        )

    def first(self) -> QWidget:
        return self.cards[self.card.name]


def _chords_of(card: Card) -> CardPicture:
    """The picture of a card of one's own: the chords of a sketch, without its sound."""
    loop = sketch(card)
    return CardPicture(
        chords=tuple((c.read(loop.key).text, c.start_tick / loop.ticks) for c in loop.chords)
    )


# --- nothing, and a phrase ------------------------------------------------------------------------


class EmptySource(Source):
    """No card, no chords, no layers, no treatments."""

    own_key, own_tonic = f"{KEY.tonic}, not selected", KEY.tonic
    about = (
        "No card, no sounds, no treatments. Type, draw or record the chords, then add layers: "
        "each follows the chords."
    )

    def __init__(self) -> None:
        super().__init__()
        _column(self).addWidget(_words(self.about))

    def make(self, choice: Choice) -> Loop:
        return empty_loop(
            choice.key or KEY,
            choice.tempo or TEMPO,
            bars=choice.bars or BARS,
            metre=choice.metre or (4, 4),
        )


class PhraseSource(EmptySource):
    """Empty, with the keys open to play a phrase in."""

    plays_in = True
    about = (
        "Start, and the keys open: record a phrase to a click, on a MIDI keyboard or the "
        "computer's keys. It becomes a layer; its chords are found from its notes."
    )


# --- files ----------------------------------------------------------------------------------------


class FileSource(Source):
    """Something that a file is read for, beside the interface."""

    ask, kinds, reading = "", "", ""

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__()
        self._session, self._tasks = session, tasks
        self._name = f"start from {type(self).__name__}"
        self.path: Path | None = None
        self.choose_file = button("Choose a file…", self._choose_or_stop)
        self.says = label("", size=12.5, name="soft", wrap=True)
        self._reading = False
        self.column = _column(self)
        line = horizontal()
        fill(line, self.choose_file, (self.says, 1))
        self.column.addLayout(line)
        self.says.setText(self.ask)

    def _choose_or_stop(self) -> None:
        if self._reading:
            self._tasks.cancel(self._name)
            self._stands(self.ask)
            return
        chosen = ask_for_file(self, self._session, self.ask, self.kinds)
        if chosen:
            self.read(chosen)

    def read(self, path: Path) -> None:
        """Read a file; what it holds becomes the loop."""
        self.path = path
        self.title = shown(path.stem)[:NAME_TYPED]
        self.forget()
        self._reading = True
        self.choose_file.setText("Stop")
        self.says.setText(f"{self.reading} {path.name}…")
        self._tasks.run(
            self._name,
            lambda cancelled, _progress: self.work(path, cancelled),
            self._came,
            self._failed,
            lane=Lane.READING,
        )
        self.changed.emit()

    def _stands(self, words: str) -> None:
        self._reading = False
        self.choose_file.setText("Choose a file…" if self.path is None else "Choose another…")
        self.says.setText(words)

    def _came(self, found: Any) -> None:
        assert self.path is not None
        self._stands(self.path.name)
        self.found(found)
        self.changed.emit()

    def _failed(self, error: Exception) -> None:
        if isinstance(error, Cancelled):
            return
        self.problem = error_words(error)
        self._stands(self.ask)
        self.changed.emit()

    def work(self, path: Path, cancelled: Callable[[], bool]) -> Any:
        """Read it, as long as it is wanted; on another thread."""
        raise NotImplementedError

    def found(self, what: Any) -> None:
        """Take what was read."""
        raise NotImplementedError

    def forget(self) -> None:
        """Another file is read."""
        self.problem = ""

    def first(self) -> QWidget:
        return self.choose_file


class MidiSource(FileSource):
    """A MIDI file's chords, or its parts as layers."""

    own_key = "as in the file"
    ask = "A MIDI file to start from; or drop one here"
    kinds, reading = MIDI_KINDS, "Finding chords in"

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__(session, tasks)
        self._song: Song | None = None
        self.parts = False
        self.take = ChoiceRow(
            [
                (False, "Its chords, and a layer that plays them"),
                (True, "Its parts, one layer each"),
            ],
            columns=2,
            name="Use",
        )
        self.take.show_choice(False)
        self.take.chosen.connect(self._take)
        self.column.addWidget(self.take)
        self.estimated = label("", size=11.5, name="soft")
        self.column.addWidget(self.estimated)

    def _take(self, parts: bool) -> None:
        self.parts = parts
        self.changed.emit()

    def work(self, path: Path, cancelled: Callable[[], bool]) -> Song:
        return read_song(path, cancelled=cancelled)

    def found(self, what: Song) -> None:
        self._song = what
        self.estimated.setText(
            f"Key estimated, {what.key_confidence:.0%} sure; tempo {TEMPO_FROM[what.tempo_from]}"
        )

    def forget(self) -> None:
        super().forget()
        self._song = None
        self.estimated.setText("")

    def make(self, choice: Choice) -> Loop | None:
        if self._song is None:
            return None
        origin = f"the file {self.path.name}" if self.path else ""
        loop = from_song(self._song, self.title, parts=self.parts, origin=origin)
        return altered(loop, choice)


# --- templates ------------------------------------------------------------------------------------


class TemplateSource(Source):
    """A loop that was kept to begin others from."""

    def __init__(self, session: Session, say: Callable[[str], None]) -> None:
        super().__init__()
        self._session, self._say = session, say
        self._kept: Sequence[Kept] = ()
        self._chosen: Loop | None = None  # with its recordings in the session's store
        self.list = QListWidget()
        self.list.setAccessibleName("Templates")
        self.list.setFixedHeight(96)
        self.list.currentRowChanged.connect(lambda _i: self._choose())
        self.remove = button("Remove", self._remove, tip="Delete the selected template's file")
        self.none = _words(
            "No templates yet. File, Keep as a template saves the open loop with its chords, "
            "layers and treatments."
        )
        column = _column(self)
        row = horizontal()
        fill(row, (self.list, 1), self.remove)
        fill(column, row, self.none)

    def enter(self) -> None:
        """Read the folder again."""
        self._kept, wrong = kept_in(template_folder())
        if wrong:
            self._say(wrong[0])
        at = max(self.list.currentRow(), 0)
        self.list.blockSignals(True)
        self.list.clear()
        self.list.addItems([f"{one.name}: {one.about}" for one in self._kept])
        self.list.setCurrentRow(min(at, len(self._kept) - 1))
        self.list.blockSignals(False)
        for widget in (self.list, self.remove):
            widget.setVisible(bool(self._kept))
        self.none.setVisible(not self._kept)
        self._choose()

    def _choose(self) -> None:
        at = self.list.currentRow()
        chosen = self._kept[at] if 0 <= at < len(self._kept) else None
        self.title = chosen.name if chosen else UNTITLED
        self._chosen = None
        if chosen:
            try:
                self._chosen = load(chosen.file, self._session.clips)
            except CloudriftError as error:
                self._say(str(error))
        self.changed.emit()

    def _remove(self) -> None:
        try:
            forget(self._kept[self.list.currentRow()])
        except OSError as error:
            self._say(f"could not delete the template: {error.strerror}")
        self.enter()

    def make(self, choice: Choice) -> Loop | None:
        return altered(self._chosen, choice) if self._chosen else None

    def first(self) -> QWidget:
        return self.list if self._kept else self


def made(source: Source, choice: Choice) -> tuple[Loop | None, str]:
    """Return a source's loop, and in words why there is none."""
    try:
        return source.make(choice), source.problem
    except CloudriftError as error:
        return None, str(error)


def summary(loop: Loop) -> str:
    """Say what a loop holds, in three lines."""
    chords = "   ".join(chord.read(loop.key).text for chord in loop.chords[:24])
    layers = ", ".join(layer.name for layer in loop.layers)
    more = " …" if len(loop.chords) > 24 else ""
    return (
        f"{loop.key.text}, {loop.tempo:g} BPM, {plural(loop.bars, 'bar')}\n"
        f"{chords + more or 'no chords yet'}\n{layers or 'no layers yet'}"
    )
