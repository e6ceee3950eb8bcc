"""The style card's page: marks as rows, moves as presses, a card learnt from files."""

from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QHideEvent, QKeyEvent, QShowEvent
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from cloudrift.desktop.kit.flow import Flow, takes_rest
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.own_words import why
from cloudrift.desktop.kit.parts import (
    ChoiceRow,
    Elided,
    Pages,
    WhileShown,
    button,
    clear,
    heading,
    label,
    panel,
    scrolling,
    search_field,
)
from cloudrift.desktop.kit.trying import Trying
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.marking import Marking
from cloudrift.desktop.session.work.printing import Printing
from cloudrift.desktop.session.work.tasks import Tasks
from cloudrift.desktop.stages.style.card_tab import CardTab
from cloudrift.desktop.stages.style.learning import Learning
from cloudrift.desktop.stages.style.mark_row import MarkRow
from cloudrift.desktop.stages.style.sketches import Sketches
from cloudrift.style.marks import GROUPS, Mark, change_for
from cloudrift.style.marks.searching import find_marks
from cloudrift.style.moves import Move, moves_of, with_print_laid

TABS = (
    ("marks", "Marks"),
    ("card", "Card"),
    ("moves", "Moves"),
    ("sketches", "Sketches"),
    ("learn", "Learn"),
)
SHOWN = (("all", "all"), ("missed", "missed"))
NO_MARK = "No mark found; use another word, or “all”."


NAMED_PX = 240  # that a card's name has at least, and what it is about


class StylePage(QWidget):
    """The page. ``closed`` asks for what was shown before it."""

    closed = pyqtSignal()

    def __init__(self, session: Session, tasks: Tasks, marking: Marking) -> None:
        super().__init__()
        self._session, self._marking = session, marking
        self.rows: dict[str, MarkRow] = {}
        self._rows_of: tuple[str, tuple[str, ...]] | None = None
        self._moves_of: object = None
        self._titles: dict[str, QWidget] = {}
        self.title = Elided(size=17)
        self.about = Elided(size=12, name="soft")
        self.tabs = ChoiceRow(list(TABS), name="Page of the card", even=False)
        self.tabs.chosen.connect(self.show_tab)
        self.words = label("", size=11.5, name="soft", wrap=True)
        self.filter = ChoiceRow(list(SHOWN), name="Which marks", even=False)
        self.filter.chosen.connect(self._filter)
        self.filter.show_choice("all")
        self._only_missed = False
        self.search = search_field("Search: loudness, swing, reverb …")
        self.search.setAccessibleName("Find a mark")
        self.search.textChanged.connect(lambda _t: self.refresh())
        self.marks = vertical()
        self.moves = vertical()
        self.learning = Learning(session, tasks, marking)
        self.stack = Pages()
        self.card = CardTab(session, marking)
        self.stack.addWidget(_scrolled(self.marks))
        self.stack.addWidget(self.card)
        self.stack.addWidget(_scrolled(self.moves))
        self.sketches = Sketches(session, tasks, marking)
        self.stack.addWidget(self.sketches)
        self.stack.addWidget(self.learning)
        self.printing = Printing(session, tasks)
        self.printing.busy.connect(self._show_busy)
        self.doing = label("", size=11.5, name="soft")
        self.stop = button("Cancel", self.printing.cancel)
        self.stop.hide()
        self._lay_out()
        self._again = WhileShown(self, self.refresh, marking.changed)
        self.show_tab("marks")

    def _lay_out(self) -> None:
        inside = panel()
        column = vertical(inside, (14, 10, 12, 10), 6)
        named, head = QWidget(), QWidget()
        fill(horizontal(named, FLUSH, 12), (self.title, 2), (self.about, 3))
        line = Flow(head, spacing=8)
        close = button("Close", self.closed.emit, tip="Back to the stage (Esc)")
        for one in (takes_rest(named, NAMED_PX), self.tabs, close):
            line.addWidget(one)
        under = horizontal()
        fill(under, (self.words, 1), why("mark"), self.doing, self.stop, self.search, self.filter)
        fill(column, head, under, (self.stack, 1))
        outer = vertical(self, FLUSH)
        outer.addWidget(inside)

    def show_tab(self, tab: object) -> None:
        """Show the marks, the moves, or what a card is learnt from."""
        self.tabs.show_choice(tab)
        self.stack.setCurrentIndex([name for name, _ in TABS].index(str(tab)))
        self.filter.setVisible(tab == "marks")
        self.search.setVisible(tab == "marks")
        self._again.ask()

    def show_missed(self) -> None:
        """Show only what is missed."""
        self.filter.show_choice("missed")
        self._filter("missed")

    def _filter(self, which: object) -> None:
        self._only_missed = which == "missed"
        self.refresh()

    # --- showing ------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the marks as they are now."""
        card, marking = self._marking.card, self._marking
        if card is None:
            style = self._session.loop.style
            self.title.setText(style or "No style card")
            self.about.setText("")
            self.words.setText(
                f"There is no card called {style}; learn one, or choose another in the heading."
                if style
                else "Choose a card in the heading, or learn one from loops."
            )
        else:
            self.title.setText(card.name)
            self.about.setText(card.about)
            problems = f" {' '.join(marking.problems)}" if marking.problems else ""
            self.words.setText(
                f"{marking.words}. The bar is the range the card asks for; the dot is your loop. "
                f"Rest on a change to hear it.{problems}"
            )
        if self.tabs_at == "marks":
            self._show_marks(self._marking.marks)
        elif self.tabs_at == "moves":
            self._show_moves()
        elif self.tabs_at == "card":
            self.card.show_card(card)

    @property
    def tabs_at(self) -> str:
        """The name of the tab that is shown."""
        return TABS[self.stack.currentIndex()][0]

    def _show_marks(self, marks: tuple[Mark, ...]) -> None:
        which = (
            self._marking.card.name if self._marking.card else "",
            tuple(mark.kind.name for mark in marks),
        )
        if which != self._rows_of:
            self._rows_of = which
            self._build(marks)
        loop, sound = self._session.loop, self._marking.sound
        found = {match.of.name for match in find_marks(self.search.text())}
        shown = {
            mark.kind.name
            for mark in marks
            if mark.kind.name in found and (mark.missed or not self._only_missed)
        }
        for mark in marks:
            row = self.rows[mark.kind.name]
            row.show_mark(mark, change_for(mark, loop, sound))
            row.setVisible(mark.kind.name in shown)
        for group, title in self._titles.items():
            title.setVisible(any(x.kind.name in shown and x.kind.group == group for x in marks))
        self.nothing.setVisible(not shown and bool(marks))

    def _build(self, marks: tuple[Mark, ...]) -> None:
        clear(self.marks)
        self.rows, self._titles = {}, {}
        for group in GROUPS:
            of = [mark for mark in marks if mark.kind.group == group]
            if not of:
                continue
            self._titles[group] = heading(group)
            self.marks.addWidget(self._titles[group])
            for mark in of:
                self.rows[mark.kind.name] = MarkRow(mark, self._session)
                self.marks.addWidget(self.rows[mark.kind.name])
        self.nothing = label(NO_MARK, size=12, name="soft", wrap=True)
        self.marks.addWidget(self.nothing)
        self.marks.addStretch(1)

    def _show_moves(self) -> None:
        card = self._marking.card
        if card == self._moves_of:
            return
        self._moves_of = card
        clear(self.moves)
        if card is None:
            return
        group = ""
        for move in moves_of(card, self._session.loop.variation):
            if move.group != group:
                group = move.group
                self.moves.addWidget(heading(group))
            tip = "Rest to hear it; click to apply it, one undo step"
            if move.lay is not None:
                tip = "Prints the loop and uses the print instead of the layers, one undo step"
            one = button(move.words.replace("&", "&&"), partial(self._move, move), tip=tip)
            one.setProperty("fit", "line")
            if move.edit is not None:
                Trying(one, self._session, move.edit, move.words)
            self.moves.addWidget(one)
        self.moves.addStretch(1)

    def _move(self, move: Move) -> None:
        words, lay = move.words, move.lay
        if lay is not None:
            self.printing.print_what(
                (), then=lambda loop, layer_id: with_print_laid(loop, layer_id, lay)
            )
        elif move.edit and self._session.apply(f"move: {words}"[:60], move.edit):
            self._session.say(f"{words[:1].upper()}{words[1:]}", good=True)

    def _show_busy(self, words: str) -> None:
        self.doing.setText(words)
        self.stop.setVisible(bool(words))

    def show_place(self, share: float) -> None:
        """Nothing here follows the sound."""

    # --- keys ---------------------------------------------------------------------------------

    def focus_first(self) -> None:
        """Take the focus to the tabs."""
        self.tabs.button(self.tabs_at).setFocus()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if event.key() == Qt.Key.Key_Escape:
            self.closed.emit()
        else:
            super().keyPressEvent(event)

    def showEvent(self, _event: QShowEvent | None) -> None:
        self.refresh()

    def hideEvent(self, _event: QHideEvent | None) -> None:
        self.printing.cancel()
        self.learning.cancel()
        self.sketches.cancel()


def _scrolled(layout: QVBoxLayout) -> QWidget:
    """What scrolls a column of rows."""
    layout.setContentsMargins(0, 0, 10, 0)
    layout.setSpacing(2)
    holder = QWidget()
    holder.setLayout(layout)
    return scrolling(holder)
