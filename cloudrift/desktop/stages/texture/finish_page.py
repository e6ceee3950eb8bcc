"""Finishes, beside the line: heard on it in place before one is laid, searched, saved as files."""

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen, QShowEvent
from PyQt6.QtWidgets import QAbstractButton, QLineEdit, QSizePolicy, QWidget

from cloudrift.desktop.kit.fold import Fold
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.look import MEDIUM, SEMI, color, text_font
from cloudrift.desktop.kit.own_words import why
from cloudrift.desktop.kit.parts import (
    ChoiceRow,
    Inspector,
    WhileShown,
    button,
    clear,
    label,
    menu_of,
    search_field,
    small_button,
)
from cloudrift.desktop.kit.trying import Trying
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.stages.texture.targets import line_owners
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.search import Match
from cloudrift.ground.words import NAME_TYPED
from cloudrift.loop.edits.layers.finishes import lay_finish
from cloudrift.loop.sounding import key_heard
from cloudrift.texture.finish import USES, Finish
from cloudrift.texture.finish_files import (
    forget_finish,
    house_finishes,
    own_finishes,
    own_folder,
    save_finish,
)
from cloudrift.texture.searching import find_finishes

EVERY, OWN = "all", "own"
# The use that a layer's role is looked for under.
USE_OF_ROLE = {
    "keys": "keys", "pad": "pads", "strings": "pads", "pluck": "plucks", "bell": "plucks",
    "lead": "leads", "voice": "voices", "bass": "bass", "grain": "pads",
}  # fmt: skip


class FinishCard(QAbstractButton):
    """One finish: its name, what it is for, its treatments."""

    def __init__(self, finish: Finish, found_by: str = "") -> None:
        super().__init__()
        self.finish = finish
        self._kinds = ", ".join(t.of.label.lower() for t in finish.line)
        if found_by:
            self._kinds = f"{found_by} · {self._kinds}"
        self.setFixedHeight(58)
        self.setMinimumWidth(160)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(f"{finish.name}: {finish.purpose} {self._kinds}")
        self.setToolTip("Rest on it to hear it in place; click to replace the line with it")

    def sizeHint(self) -> QSize:
        return QSize(200, 58)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = self.rect().adjusted(1, 1, -2, -2)
        warm = self.hasFocus() or self.underMouse()
        painter.setPen(QPen(color("focus" if warm else "line"), 2 if self.hasFocus() else 1))
        painter.setBrush(color("card"))
        painter.drawRoundedRect(box, 5, 5)
        inner = box.adjusted(12, 5, -12, -5)
        lines = (
            (self.finish.name, 12.5, SEMI, "ink"),
            (self.finish.purpose, 11.5, MEDIUM, "ink"),
            (self._kinds, 11, MEDIUM, "ink_soft"),
        )
        for i, (words, size, weight, tone) in enumerate(lines):
            painter.setFont(text_font(size, weight))
            painter.setPen(color(tone))
            fitting = painter.fontMetrics().elidedText(
                words, Qt.TextElideMode.ElideRight, inner.width()
            )
            painter.drawText(inner.left(), inner.top() + 12 + 16 * i, fitting)


class FinishPage(Inspector):
    """Finishes for the line that is shown."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._use = EVERY
        self._own: list[Finish] = []
        self._shown_for: tuple[object, ...] = ()  # a line, its name and length
        self.cards: list[FinishCard] = []
        self.where = self.under
        self.search = search_field("Find a finish: dark, tape, far…")
        self.search.setAccessibleName("Find a finish")
        self.search.textChanged.connect(lambda _t: self._fill())
        self.uses = ChoiceRow([(use, use) for use in (EVERY, *USES, OWN)], name="For", even=False)
        self.uses.chosen.connect(self._choose_use)
        line = horizontal(spacing=6)
        fill(line, (self.search, 1), why("finish"))
        fill(self.top, line, self.uses)
        self._list = self.body
        self.saving = Fold("Save this line as a finish", self._saving())
        self.foot.addWidget(self.saving)
        WhileShown(self, self._follow, session.changed, session.opened, session.selected)

    def _saving(self) -> QWidget:
        holder = QWidget()
        column = vertical(holder, FLUSH, 4)
        self.name, self.purpose = QLineEdit(), QLineEdit()
        self.name.setMaxLength(NAME_TYPED)
        self.name.setPlaceholderText("Name for this line")
        self.name.setAccessibleName("Name for this line as a finish")
        self.purpose.setPlaceholderText("What it is for; words with # become tags")
        self.purpose.setAccessibleName("What the finish is for")
        self.name.returnPressed.connect(self.save)
        self.purpose.returnPressed.connect(self.save)
        self.keep = button("Save this line", self.save, tip=f"As a TOML file in {own_folder()}")
        fill(column, self.name, self.purpose, self.keep)
        return holder

    # --- showing ------------------------------------------------------------------------------

    def enter(self) -> None:
        """Put the keyboard on the search, over what is for this line."""
        self._shown_for = ()
        self._follow()
        self.search.setFocus()
        self.search.selectAll()

    def _follow(self) -> None:
        """Show the finishes for the line that is shown, those for what plays it first."""
        loop, line_of = self._session.loop, self._line_of
        name = loop.name_of(line_of)
        shown_for = (line_of, name, len(loop.line_of(line_of)))
        if shown_for == self._shown_for:
            return
        if not self._shown_for or line_of != self._shown_for[0]:
            role = next((one.role for one in line_owners(loop) if one.id == line_of), "")
            self._use = "whole loop" if line_of is None else USE_OF_ROLE.get(role, EVERY)
        self._shown_for = shown_for
        self.title.setText(f"Finishes for {name}")
        self._fill()

    def showEvent(self, event: QShowEvent | None) -> None:
        """Look for finishes again: there may be others of one's own."""
        own, wrong = own_finishes()
        if wrong:
            self._session.say("; ".join(wrong))
        if own != self._own:
            self._own, self._shown_for = own, ()
        self._follow()
        super().showEvent(event)

    def _choose_use(self, use: object) -> None:
        self._use = str(use)
        self._fill()

    def _fits(self, finish: Finish) -> bool:
        if self._use == OWN:
            return not finish.house
        return self._use == EVERY or self._use in finish.tags

    def _found(self) -> list[Match[Finish]]:
        among = filter(self._fits, (*self._own, *house_finishes()))
        return find_finishes(self.search.text(), among)

    def _fill(self) -> None:
        self.uses.show_choice(self._use)
        clear(self._list)
        self.cards = []
        for match in self._found():
            self._add_card(match.of, match.words)
        if not self.cards:
            words = (
                "No finishes of yours yet: name this line below and save it."
                if self._use == OWN and not self.search.text()
                else "No finish found; try another word, or “all”."
            )
            self._list.addWidget(label(words, size=12, name="soft", wrap=True))
        self._list.addStretch(1)
        count = len(self._session.loop.line_of(self._line_of))
        self.where.setText(
            f"Rest on one to hear it in place; click to replace the {count} treatments of the line."
            if count
            else "Rest on one to hear it in place; click to use it."
        )

    def _add_card(self, finish: Finish, found_by: str) -> None:
        session, line_of = self._session, self._line_of
        card = FinishCard(finish, found_by)
        Trying(
            card,
            session,
            lambda loop: lay_finish(loop, line_of, finish, behind=False),
            f"playing {finish.name}",
        )
        card.clicked.connect(lambda _c: self.lay(finish, behind=False))
        acts = [("Append it to the line", lambda: self.lay(finish, behind=True))]
        if not finish.house:
            acts.append(("Delete its file", lambda: self._forget(finish)))
        more = small_button("…", lambda: None, tip="More")
        more.setAccessibleName(f"{finish.name}: more")
        more.clicked.connect(
            lambda _on=False: menu_of(more, acts).popup(more.mapToGlobal(more.rect().bottomLeft()))
        )
        row = horizontal(spacing=4)
        fill(row, (card, 1), more)
        self._list.addLayout(row)
        self.cards.append(card)

    @property
    def _line_of(self) -> str | None:
        return self._session.selection.line_of

    # --- acts ---------------------------------------------------------------------------------

    def lay(self, finish: Finish, *, behind: bool) -> None:
        """Lay a finish on the line."""
        session, line_of = self._session, self._line_of
        session.apply(
            f"finish: {finish.name}", lambda loop: lay_finish(loop, line_of, finish, behind=behind)
        )

    def save(self) -> None:
        """Save the line as it is as a finish of one's own."""
        loop = self._session.loop
        words = self.purpose.text().split()
        tags = tuple(word[1:].lower() for word in words if word.startswith("#") and len(word) > 1)
        try:
            finish = Finish(
                name=self.name.text().strip(),
                purpose=" ".join(word for word in words if not word.startswith("#")),
                tags=(*tags, *((self._use,) if self._use in USES else ())),
                line=loop.line_of(self._line_of),
                tempo=loop.tempo,
                key=key_heard(loop),
            )
            saved = save_finish(finish)
        except CloudriftError as error:
            self._session.say(str(error))
            return
        taken = "" if saved.name == finish.name else f": {finish.name} already exists"
        self._session.say(f"Saved as {saved.name}{taken}", good=True)
        for line in (self.name, self.purpose, self.search):
            line.clear()
        self._own, _ = own_finishes()
        self._use = OWN
        self._fill()

    def _forget(self, finish: Finish) -> None:
        forget_finish(finish)
        self._own, _ = own_finishes()
        self._fill()
