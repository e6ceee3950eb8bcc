"""The page of rights: who made the loop, under which licence, and what went into it."""

from collections.abc import Callable

from msgspec.structs import replace
from PyQt6.QtWidgets import QCheckBox, QLineEdit, QVBoxLayout, QWidget

from cloudrift.deliver.rights import Entry, Sheet, rights_of
from cloudrift.desktop.kit.choice_box import ChoiceBox
from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.look import MEDIUM, SEMI
from cloudrift.desktop.kit.parts import (
    Inspector,
    WhileShown,
    button,
    clear,
    heading,
    label,
    panel,
    scrolling,
    set_look,
    small_button,
)
from cloudrift.desktop.kit.rows import row
from cloudrift.desktop.session.session import Session
from cloudrift.ground.settings import Field
from cloudrift.ground.words import NAME_TYPED, free_name, number
from cloudrift.loop.model.credits import (
    ALL_DID,
    ROYALTY_FREE,
    WHOLE,
    Credits,
    Person,
    confirmed,
    renamed,
    shared_evenly,
    with_person,
    without_person,
)
from cloudrift.loop.model.document import Document

SHARE = Field(name="share", label="Share", default=0, unit="%", low=0, high=WHOLE, step=0.5)
LICENCES = (ROYALTY_FREE, "royalty-free, name the maker", "for this film alone", "")
NEW = "Name"


class RightsPage(QWidget):
    """What went in, what is open above it; who made it is in the ``inspector``."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.maker = QLineEdit()
        self.maker.setMaxLength(NAME_TYPED)
        self.maker.setAccessibleName("Passed on by")
        self.maker.setPlaceholderText("the name in the files")
        self.licence = ChoiceBox()
        self.licence.setEditable(True)
        self.licence.addItems(LICENCES)
        self.licence.setAccessibleName("Licence it is passed on under")
        self.add = button("Add a person", self._add)
        self.even = button("Share evenly", self._share_evenly)
        self.shares = label("", size=12)
        self.open = label("", size=12.5, wrap=True)
        self.people: list[PersonRow] = []
        self.entries: list[EntryRow] = []
        self._people, self._entries = QVBoxLayout(), QVBoxLayout()
        self._shown: Sheet | None = None
        self.inspector = Inspector()
        self._lay_out()
        self.maker.editingFinished.connect(self._name_maker)
        self.licence.activated.connect(lambda _at: self._take_licence())
        line = self.licence.lineEdit()
        assert line is not None
        line.setMaxLength(NAME_TYPED)
        line.editingFinished.connect(self._take_licence)
        WhileShown(self, self._show, session.changed, session.opened)
        self._show()

    def _lay_out(self) -> None:
        self.inspector.title.setText("Who made it")
        fill(
            self.inspector.body,
            heading("Passed on by"),
            self.maker,
            heading("Licence it is passed on under"),
            self.licence,
            heading("People, roles, shares"),
            self._people,
            row((self.add, self.even)),
            self.shares,
            1,
        )
        right = panel()
        column = vertical(right, (14, 12, 6, 12))
        fill(column, label("What went in", size=14, weight=SEMI), self.open)
        holder = QWidget()
        inside = vertical(holder, (0, 4, 8, 0))
        fill(inside, self._entries, 1)
        column.addWidget(scrolling(holder), 1)
        outer = vertical(self, FLUSH)
        outer.addWidget(right)

    # --- changing -----------------------------------------------------------------------------

    def change(self, words: str, edit: Callable[[Credits], Credits], *, merge: str = "") -> None:
        """Change who made the loop, one step to undo."""

        def on_document(document: Document) -> Document:
            made = edit(document.credits)
            return document if made == document.credits else replace(document, credits=made)

        self._session.document.change(words, on_document, merge=merge)
        self._show()

    def _name_maker(self) -> None:
        name = self.maker.text().strip()
        self.change("passed on by", lambda credits: replace(credits, maker=name))

    def _take_licence(self) -> None:
        words = self.licence.currentText().strip()
        self.change("licence", lambda credits: replace(credits, licence=words))

    def _add(self) -> None:
        def edit(credits: Credits) -> Credits:
            rest = max(0.0, WHOLE - credits.shares)
            name = free_name(NEW, (one.name for one in credits.people))
            return with_person(credits, Person(name=name, share=round(rest, 2)))

        self.change("add a person", edit)
        if self.people:
            self.people[-1].name.setFocus()
            self.people[-1].name.selectAll()

    def _share_evenly(self) -> None:
        self.change("share evenly", shared_evenly)

    # --- showing ------------------------------------------------------------------------------

    def _show(self) -> None:
        sheet = rights_of(self._session.document.history.now)
        if sheet == self._shown:
            return
        self._shown = sheet
        credits = sheet.credits
        if self.maker.text() != credits.maker:
            self.maker.setText(credits.maker)
        if self.licence.currentText() != credits.licence:
            self.licence.setEditText(credits.licence)
        self._show_people(credits)
        self._show_entries(sheet)
        self.open.setText(
            "Open: " + "; ".join(sheet.open)
            if sheet.open
            else f"Nothing is open: {sheet.licence_words}"
        )
        set_look(self.open, "signal" if sheet.open else "good")
        self.even.setEnabled(bool(credits.people))
        self.shares.setText(f"{number(credits.shares, '.4g')} % in all" if credits.people else "")

    def _show_people(self, credits: Credits) -> None:
        if [one.of.name for one in self.people] != [one.name for one in credits.people]:
            clear(self._people)
            self.people = [PersonRow(one, self) for one in credits.people]
            for one in self.people:
                self._people.addWidget(one)
            if not credits.people:
                words = label("No people yet. Shares add up to 100 %.", size=12, name="soft")
                self._people.addWidget(words)
        for shown, person in zip(self.people, credits.people, strict=True):
            shown.show_person(person)

    def _show_entries(self, sheet: Sheet) -> None:
        if [one.entry.id for one in self.entries] != [one.id for one in sheet.entries]:
            clear(self._entries)
            self.entries = [EntryRow(one, self) for one in sheet.entries]
            for one in self.entries:
                self._entries.addWidget(one)
            if not sheet.entries:
                self._entries.addWidget(label("Nothing plays yet.", size=12, name="soft"))
        for shown, entry in zip(self.entries, sheet.entries, strict=True):
            shown.show_entry(entry)


class PersonRow(QWidget):
    """Somebody: their name, what they did, their share; and a way out."""

    def __init__(self, of: Person, page: RightsPage) -> None:
        super().__init__()
        self.of, self._page = of, page
        self.name = QLineEdit(of.name)
        self.name.setMaxLength(NAME_TYPED)
        self.name.setAccessibleName("Name")
        self.share = FieldWidget(SHARE, of.share)
        self.remove = small_button("Remove", self._remove, tip="Remove this person")
        self.did = {one: QCheckBox(one) for one in ALL_DID}
        column = vertical(self, (0, 2, 0, 8), 4)
        line = horizontal(spacing=4)
        fill(line, (self.share, 1), self.remove)
        fill(column, self.name, line, row(self.did.values()))
        self.name.editingFinished.connect(self._rename)
        self.share.edited.connect(self._set_share)
        for box in self.did.values():
            box.clicked.connect(lambda _on: self._set_did())

    def show_person(self, person: Person) -> None:
        """Show how it is now."""
        self.of = person
        if self.name.text() != person.name and not self.name.hasFocus():
            self.name.setText(person.name)
        self.share.set_value(person.share)
        for word, box in self.did.items():
            box.setChecked(word in person.did)

    def _rename(self) -> None:
        old, new = self.of.name, self.name.text().strip()
        if new and new != old:
            self._page.change(f"{old} is now {new}", lambda one: renamed(one, old, new))
        self.name.setText(self.of.name)

    def _set_share(self, value: object) -> None:
        person = replace(self.of, share=float(str(value)))
        self._page.change(
            f"share of {person.name}",
            lambda one: with_person(one, person),
            merge=f"share {person.name}",
        )

    def _set_did(self) -> None:
        did = tuple(word for word, box in self.did.items() if box.isChecked())
        person = replace(self.of, did=did)
        self._page.change(f"role of {person.name} did", lambda one: with_person(one, person))

    def _remove(self) -> None:
        name = self.of.name
        self._page.change(f"without {name}", lambda one: without_person(one, name))


class EntryRow(QWidget):
    """Something that went in; what is not clear can be confirmed by hand."""

    def __init__(self, entry: Entry, page: RightsPage) -> None:
        super().__init__()
        self.entry, self._page = entry, page
        self.title = label("", size=13, weight=MEDIUM)
        self.facts = label("", size=11.5, name="soft", wrap=True)
        self.state = label("", size=12, wrap=True)
        self.confirm = QCheckBox("I have checked: it may be passed on")
        self.confirm.clicked.connect(self._confirm)
        column = vertical(self, (0, 2, 0, 8), 1)
        for widget in (self.title, self.facts, self.state, self.confirm):
            column.addWidget(widget)

    def show_entry(self, entry: Entry) -> None:
        """Show how it is now."""
        self.entry = entry
        terms = entry.terms
        self.title.setText(f"{entry.name}  ·  {entry.what}")
        known = [x for x in (entry.maker, entry.licence) if x]
        if entry.source and entry.source != entry.licence:
            known.append(entry.source)
        known.append(f"used in {', '.join(entry.where)}")
        if entry.clip:
            known.append(f"recording {entry.clip[:12]}")
        self.facts.setText("; ".join(known))
        words = "" if terms.clear else f"not clear: {terms.why}"
        if terms.clear and terms.credit:
            words = f"clear; name {entry.maker or entry.name}"
        if terms.not_alone:
            words = f"{words or 'clear'}; not as a one-shot"
        self.state.setText(words)
        self.state.setVisible(bool(words))
        set_look(self.state, "good" if terms.clear else "signal")
        self.confirm.setVisible(not terms.clear or entry.confirmed)
        self.confirm.setChecked(entry.confirmed)

    def _confirm(self, on: bool) -> None:
        source = self.entry.id
        words = f"{self.entry.name} cleared" if on else f"{self.entry.name} to be cleared"
        self._page.change(words, lambda one: confirmed(one, source, on=on))
