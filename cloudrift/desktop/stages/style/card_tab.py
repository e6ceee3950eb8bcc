"""The card itself: its text, edited and kept as one's own; shared, brought in, compared."""

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QPlainTextEdit, QStackedWidget, QTreeWidgetItem, QWidget

from cloudrift.audio.files import write_atomically
from cloudrift.desktop.kit.asking import ask_for_file
from cloudrift.desktop.kit.choice_box import ChoiceBox
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.look import figure_font
from cloudrift.desktop.kit.parts import ChoiceRow, button, label, scrolling, set_look
from cloudrift.desktop.kit.tables import table
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.timers import single_shot
from cloudrift.desktop.session.trouble import error_words
from cloudrift.desktop.session.work.marking import Marking
from cloudrift.desktop.stages.style.card_fields import CardFields
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.reading import read_words
from cloudrift.loop.edits import loop_edits
from cloudrift.style.card import Card
from cloudrift.style.card_files import blank_card, read_card, save_card, write_card
from cloudrift.style.compare import differences
from cloudrift.style.marks import checked

CARDS = "Style cards (*.toml)"
LOOK_MS = 400  # a hand that types is left alone for so long


class CardTab(QWidget):
    """A card as text at the left, what is wrong with it or differs from another at the right."""

    def __init__(self, session: Session, marking: Marking) -> None:
        super().__init__()
        self._session, self._marking = session, marking
        self._of: Card | None = None
        self.text = QPlainTextEdit()
        self.text.setAccessibleName("The card as text (TOML)")
        self.text.setFont(figure_font(11.5))
        self.text.setTabChangesFocus(True)
        self._clock = single_shot(self, self.look, LOOK_MS)
        self.text.textChanged.connect(self._clock.start)
        self.says = label("", size=11.5, name="soft", wrap=True)
        self.keep = button(
            "Save as my card",
            self.keep_it,
            name="strong",
            tip="Saves a copy and uses it in this loop; rename it in its first line",
        )
        self.again = button("Revert", self.again_as_it_was)
        self.blank = button("Blank", self._begin_blank, tip="Start an empty card")
        self.share = button("Share…", self._ask_to_share, tip="Export it to a file")
        self.bring = button("Import…", self._ask_to_bring, tip="Read a card from a file")
        self.other = ChoiceBox("Compared with")
        self.other.currentIndexChanged.connect(lambda _at: self.look())
        self.table = table(
            ("Mark", "This card", "The other"),
            (170, 130, 130),
            "Where they differ, biggest difference first",
        )
        line = horizontal(self, FLUSH, 10)
        left = vertical()
        self.fields = CardFields()
        self.fields.edited.connect(self._edit)
        self.pages = QStackedWidget()
        self.pages.addWidget(scrolling(self.fields))
        self.pages.addWidget(self.text)
        self.how = ChoiceRow([(0, "Fields"), (1, "Text")], columns=2, name="The card as")
        self.how.setFixedWidth(170)
        self.how.chosen.connect(self.show_as)
        self.how.show_choice(0)
        fill(left, self.how, (self.pages, 1), self.says)
        row = horizontal()
        for one in (self.keep, self.again, self.blank, self.share, self.bring):
            row.addWidget(one)
        row.addStretch(1)
        left.addLayout(row)
        line.addLayout(left, 3)
        right = vertical()
        head = horizontal()
        fill(head, label("Compared with", size=11.5, name="soft"), (self.other, 1))
        fill(right, head, (self.table, 1))
        line.addLayout(right, 2)

    def show_card(self, card: Card | None) -> None:
        """Show a card, unless its text is being changed."""
        names = [name for name in self._marking.cards if card is None or name != card.name]
        if names != [self.other.itemText(i) for i in range(self.other.count())]:
            self.other.clear()
            self.other.addItems(names)
        if card == self._of:
            return
        self._of = card
        self.again_as_it_was()

    def show_as(self, page: object) -> None:
        """Show the card as fields (0) or as text (1)."""
        self.how.show_choice(page)
        self.pages.setCurrentIndex(int(str(page)))
        self.look()

    def _edit(self, edit: Callable[[Card], Card]) -> None:
        """Change a field: the text is what the card is, so that is written again."""
        try:
            text = write_card(edit(self.typed))
            read_card(text, "the card")
        except (CloudriftError, ValueError) as error:
            self.says.setText(error_words(error))
            set_look(self.says, "signal")
            self.fields.show_card(self.typed)
            return
        self.text.setPlainText(text)
        self.look()

    def again_as_it_was(self) -> None:
        """Take back what was typed."""
        self.text.setPlainText("" if self._of is None else write_card(self._of))
        self.look()

    def _begin_blank(self) -> None:
        self.text.setPlainText(write_card(blank_card()))
        self.look()

    @property
    def typed(self) -> Card:
        """The card as its text says; raise CloudriftError with the place of what is wrong."""
        return read_card(self.text.toPlainText(), "the card")

    def look(self) -> None:
        """Read the text: say what is wrong with it, or how it differs."""
        self._clock.stop()
        try:
            if not self.text.toPlainText().strip():
                self.says.setText("Choose a card in the heading, or import one.")
                self.keep.setEnabled(False)
                return
            card = self.typed
        except CloudriftError as error:
            self.table.clear()
            self.says.setText(str(error))
            set_look(self.says, "signal")
            self.keep.setEnabled(False)
            return
        wrong = checked(card.marks, "marks")[1]
        words = "Saved." if card == self._of else "Changed; save it as your card."
        self.fields.show_card(card)
        self.says.setText(" ".join([words, *wrong]))
        set_look(self.says, "signal" if wrong else "soft")
        self.keep.setEnabled(True)
        self._compare(card)

    def _compare(self, card: Card) -> None:
        self.table.clear()
        other = self._marking.cards.get(self.other.currentText())
        if other is None:
            return
        for one in differences(
            checked(card.marks, "marks")[0], checked(other.marks, other.name)[0]
        ):
            asked = [one.kind.asks(x) if x is not None else "open" for x in (one.one, one.other)]
            self.table.addTopLevelItem(QTreeWidgetItem([one.kind.label, *asked]))

    # --- keeping ------------------------------------------------------------------------------

    def keep_it(self) -> None:
        """Keep what is typed as an own card, and let the loop be in its style."""
        try:
            self._take(self.typed)
        except CloudriftError as error:
            self._session.say(str(error))

    def _take(self, card: Card) -> None:
        kept = save_card(card)
        self._marking.read_cards()
        self._session.apply(
            f"style card {kept.name}", lambda loop: loop_edits.set_style(loop, kept.name)
        )
        self._session.say(f"{kept.name} is saved, and used in this loop", good=True)

    def _ask_to_share(self) -> None:
        name = self._of.name if self._of else "card"
        suggested = str(self._session.preferences.folder / f"{name}.toml")
        chosen, _kind = QFileDialog.getSaveFileName(self, "Share the card", suggested, CARDS)
        if chosen:
            self.write(Path(chosen))

    def write(self, path: Path) -> None:
        """Write the card into a file."""
        try:
            text = write_card(self.typed).encode()
            write_atomically(path, lambda file: file.write(text))
        except CloudriftError as error:
            self._session.say(str(error))
            return
        self._session.say(f"saved {path}", good=True)

    def _ask_to_bring(self) -> None:
        path = ask_for_file(self, self._session, "Import a card", CARDS)
        if path is not None:
            self.read(path)

    def read(self, path: Path) -> None:
        """Read a card from a file and keep it."""
        try:
            self._take(read_card(read_words(path, "style card"), path.name))
        except CloudriftError as error:
            self._session.say(str(error))
