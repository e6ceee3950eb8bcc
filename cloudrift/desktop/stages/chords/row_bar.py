"""The row bar: type a row of chords, draw one, take one from the shelf or a file; the grid."""

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QLineEdit, QMenu, QPushButton, QWidget

from cloudrift.desktop.kit.asking import MIDI_KINDS, ask_for_file
from cloudrift.desktop.kit.flow import Flow
from cloudrift.desktop.kit.grid import GridChoice
from cloudrift.desktop.kit.parts import button
from cloudrift.desktop.stages.chords.moves import Moves
from cloudrift.ground.draws import MAX_VARIATION
from cloudrift.loop.edits.chords import progression
from cloudrift.loop.edits.chords.chord_edits import set_tones
from cloudrift.loop.files.kept import Kept, forget, kept_in, row_folder, take_row
from cloudrift.loop.model.loop import Loop
from cloudrift.style import Card, house_cards, suggest_chords, typed_row
from cloudrift.theory.pitch import pretty
from cloudrift.theory.symbols import parse_progression

EXAMPLE = "Type a progression: i VI iv7 V7,  4 2 3,  or Dm9 G13 | Cmaj7"


class RowBar(QWidget):
    """Everything that puts a whole row of chords down. ``midi_chosen`` carries a file's path."""

    midi_chosen = pyqtSignal(object)
    keys_wanted = pyqtSignal()
    keep_wanted = pyqtSignal()

    def __init__(self, moves: Moves) -> None:
        super().__init__()
        self._moves = moves
        self._session = moves.session
        self._variation = 0
        self.typed = QLineEdit()
        self.typed.setPlaceholderText(EXAMPLE)
        self.typed.setAccessibleName("Progression: degrees, numbers or names")
        self.typed.setToolTip(
            "Degrees (i VI7 bII V7/iv), scale numbers or names; chords between bar lines share a "
            "bar, % repeats. Enter replaces the progression."
        )
        self.typed.setClearButtonEnabled(True)
        self.typed.returnPressed.connect(self.put_typed)
        self.put = button("Replace", self.put_typed, tip="Replace the progression with this one")
        self.variation = button(
            "Suggest", self.suggest_row, tip="Suggest a progression from the style card"
        )
        self.more = QPushButton("Progression")
        self.more.setToolTip("Typical progressions, MIDI files, duplicate, mirror")
        self.menu = QMenu(self.more)
        self.menu.aboutToShow.connect(self._fill_menu)
        self.more.setMenu(self.menu)
        self.play_in = button("Record", self.keys_wanted.emit, tip="Record chords to a click")
        self.grid = GridChoice(moves.grid)
        self.typed.setMinimumWidth(180)
        line = Flow(self, spacing=6)
        for one in (self.typed, self.put, self.variation, self.more, self.play_in, self.grid):
            line.addWidget(one)

    @property
    def _card(self) -> Card:
        cards = house_cards()
        return cards.get(self._session.loop.style) or next(iter(cards.values()))

    # --- rows ---------------------------------------------------------------------------------

    def put_typed(self) -> None:
        """Put down what is typed; what is no chord is said, and nothing changes."""
        text = self.typed.text()
        if self._put("type a progression", lambda loop: typed_row(loop, text)):
            self.typed.clear()

    def _put(self, what: str, edit: Callable[[Loop], Loop]) -> bool:
        """Apply an edit of the whole row, and select its first chord."""
        done = self._session.apply(what, edit)
        chords = self._session.loop.chords
        if done and chords:
            self._session.select(chord_id=chords[0].id, more=(), voice=-1)
        return done

    def _put_row(self, row: str) -> None:
        self._put("use a saved progression", lambda loop: typed_row(loop, row))

    def suggest_row(self) -> None:
        """Draw another row from the card's grammar."""
        self._variation = self._variation % MAX_VARIATION + 1
        card, variation = self._card, self._variation
        self.variation.setText(f"Variation {variation}")
        self._put(
            f"variation {variation} from {card.name}",
            lambda loop: progression.put_chords(loop, suggest_chords(card, loop, variation)),
        )

    def _copy_block(self) -> bool:
        last = self._session.make("duplicate the progression", progression.copy_block)
        if last:
            self._session.select(chord_id=last)
        return last is not None

    def _vary_end(self) -> None:
        """Copy the block and draw another end for the copy from the card."""
        if not self._copy_block():
            return
        chord_id, loop = self._session.selection.chord_id, self._session.loop
        now = loop.chord(chord_id).read(loop.key).degree
        ends = [e for e in self._card.chords.ends if e != now] or list(self._card.chords.ends)
        self._variation = self._variation % MAX_VARIATION + 1
        end = ends[self._variation % len(ends)]
        tones = parse_progression(end, loop.key)[0].tones
        self._moves.apply("vary the ending", lambda p: set_tones(p, chord_id, tones))

    def choose_midi(self) -> None:
        """Ask for a MIDI file."""
        if chosen := ask_for_file(self, self._session, "Chords from a MIDI file", MIDI_KINDS):
            self.midi_chosen.emit(chosen)

    def _fill_menu(self) -> None:
        menu = self.menu
        menu.clear()
        card = self._card
        if self._session.loop.style:  # a loop of no style has nothing that is typical
            title = menu.addAction(f"Typical of {card.name}")
            assert title is not None
            title.setEnabled(False)
            for name, row in card.chords.shelf.items():
                self._add(f"{name}\t{pretty(row)}", partial(self._put_row, row))
        self._add_kept()
        menu.addSeparator()
        self._add("Duplicate", self._copy_block)
        self._add("Duplicate with another ending", self._vary_end)
        self._add("Mirror: append it reversed", lambda: self._put("mirror", progression.mirror))
        menu.addSeparator()
        self._add("Chords from a MIDI file…", self.choose_midi)

    def _add_kept(self) -> None:
        """The rows that somebody has put on the shelf, and a way to put one there or off it."""
        rows, wrong = kept_in(row_folder())
        self.menu.addSeparator()
        for row in rows:
            chords = "  ".join(c.read(row.loop.key).text for c in row.loop.chords[:8])
            more = " …" if len(row.loop.chords) > 8 else ""
            self._add(
                f"{row.name}\t{chords}{more}".replace("&", "&&"),
                partial(self._put, "a saved progression", partial(_taken, row.loop)),
            )
        for words in wrong:
            self._session.say(words)
        self._add("Save this progression…", self.keep_wanted.emit)
        if rows:
            menu = self.menu.addMenu("Delete a saved progression")
            assert menu is not None
            for row in rows:
                action = menu.addAction(row.name.replace("&", "&&"))
                assert action is not None
                action.triggered.connect(lambda _c=False, row=row: self._forget(row))

    def _forget(self, row: Kept) -> None:
        try:
            forget(row)
        except OSError as error:
            self._session.say(f"could not take {row.name} off: {error.strerror}")

    def _add(self, text: str, act: Callable[[], object]) -> None:
        action = self.menu.addAction(text)
        assert action is not None
        action.triggered.connect(lambda _c=False: act())

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if event.key() == Qt.Key.Key_Escape:
            self.typed.clear()
        else:
            super().keyPressEvent(event)


def _taken(row: Loop, loop: Loop) -> Loop:
    return take_row(loop, row)
