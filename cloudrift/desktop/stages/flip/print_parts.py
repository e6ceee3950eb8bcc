"""The layers inside a print: off, alone, louder, less treated; the print is made again so."""

from collections.abc import Callable
from functools import partial

from msgspec.structs import replace
from PyQt6.QtWidgets import QMenu, QPushButton, QVBoxLayout, QWidget

from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.fold import Fold
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.look import SEMI
from cloudrift.desktop.kit.parts import Elided, clear, label, small_button
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.printing import Printing
from cloudrift.ground.settings import Field
from cloudrift.ground.words import plural, some_of
from cloudrift.loop.edits.flip.prints import (
    can_be_remade,
    part_words,
    recipe_of,
    soloed_parts,
    with_part,
)
from cloudrift.loop.model.document import Print, PrintedPart
from cloudrift.loop.model.flip import Flipped
from cloudrift.loop.model.loop import Loop
from cloudrift.texture.treatment import Line

LEVEL = Field(
    name="level_db", label="Level", default=0, unit="dB", low=-36, high=12, step=0.5,
    hint="against its level in the source loop",
)  # fmt: skip
WHOLE = ""


class PrintParts(Fold):
    """A row for each layer of the print's source loop, and one for that loop's line."""

    def __init__(self, session: Session, printing: Printing) -> None:
        inside = QWidget()
        super().__init__("Layers in this print", inside)
        self._session, self._printing = session, printing
        self._shown: object = None
        self._wanted: tuple[PrintedPart, ...] | None = None  # until the print has followed
        self._print: Print | None = None
        self._loop: Loop | None = None
        self.rows: dict[str, PartRow] = {}
        column = vertical(inside, FLUSH, 5)
        self.reason = label("", size=11.5, name="signal", wrap=True)
        self.differs = label("", size=11.5, name="signal", wrap=True)
        self.back = small_button(
            "As in its source loop", self.restore, tip="Prints it again with nothing changed in it"
        )
        self._list = QVBoxLayout()
        self._list.setSpacing(6)
        column.addWidget(self.reason)
        column.addLayout(self._list)
        fill(column, self.differs, self.back)
        printing.busy.connect(self._follow)
        self.opened.connect(self._prepare)

    # --- showing ------------------------------------------------------------------------------

    def show_flip(self, flip: Flipped | None) -> None:
        """Show what is in the print that a flip is cut from; nothing of a recording."""
        self.setVisible(flip is not None and bool(flip.print_id))
        if flip is None or not flip.print_id:
            return
        document = self._session.document.history.now
        reason = can_be_remade(document, flip.print_id)
        there = any(one.id == flip.print_id for one in document.prints)
        self._print, self._loop = recipe_of(document, flip.print_id) if there else (None, None)
        self.reason.setText(reason)
        self.reason.setVisible(bool(reason))
        shown = (flip.print_id, self._print and self._print.recipe.loop, reason)
        if shown != self._shown:
            self._shown, self._wanted = shown, None
            self._build()
            self._prepare()
        self._show_parts()

    def _prepare(self) -> None:
        self._printing.prepare(on=self.is_open and self._print is not None)

    def _build(self) -> None:
        clear(self._list)
        self.rows = {}
        loop = self._loop
        for owner in loop.heard() if loop is not None else ():
            self._add(PartRow(owner.id, owner.name, owner.line, self._change, self._solo))
        if loop is not None and any(x.known and x.on for x in loop.line):
            self._add(PartRow(WHOLE, "Whole loop", loop.line, self._change, None))
        for row in self.rows.values():
            row.setEnabled(not self.reason.text())

    def _add(self, row: "PartRow") -> None:
        row.level.settled.connect(self._session.end_drag)
        self.rows[row.owner_id] = row
        self._list.addWidget(row)

    def _follow(self, words: str) -> None:
        if not words:
            self._wanted = None
            self._show_parts()

    @property
    def parts(self) -> tuple[PrintedPart, ...]:
        """In what the print differs, or will as soon as it has been made again."""
        if self._wanted is not None:
            return self._wanted
        return self._print.recipe.parts if self._print else ()

    def _show_parts(self) -> None:
        kept, loop = self._print, self._loop
        if kept is None or loop is None:
            self.say("")
            self.differs.hide()
            self.back.hide()
            return
        recipe = replace(kept.recipe, parts=self.parts)
        on = [x.id for x in loop.heard() if recipe.part(x.id).on]
        for row in self.rows.values():
            row.show_part(recipe.part(row.owner_id), alone=on == [row.owner_id])
        words = [one for one in (part_words(loop, part) for part in recipe.parts) if one]
        count = plural(len(loop.heard()), "layer")
        self.say(
            f"{count}, {plural(len(words), 'difference')}" if words else f"{count}, as printed"
        )
        self.differs.setText(f"Differs from its source loop: {some_of(words, 6)}" if words else "")
        self.differs.setVisible(bool(words))
        self.back.setVisible(bool(words))

    # --- changing -----------------------------------------------------------------------------

    def _change(self, owner: str, words: str, edit: Callable[[PrintedPart], PrintedPart]) -> None:
        if self._print is not None:
            recipe = replace(self._print.recipe, parts=self.parts)
            self._put(words, with_part(recipe, edit(recipe.part(owner))))

    def _solo(self, owner: str, on: bool) -> None:
        if self._print is not None and self._loop is not None:
            recipe = replace(self._print.recipe, parts=self.parts)
            ids = frozenset({owner}) if on else frozenset()
            self._put("one layer of a print", soloed_parts(recipe, self._loop, ids))

    def restore(self) -> None:
        """Make the print again with nothing changed in it."""
        self._put("a print as its source loop", ())

    def _put(self, words: str, parts: tuple[PrintedPart, ...]) -> None:
        self._wanted = parts
        self._show_parts()
        self._printing.change_parts(words, parts)


class PartRow(QWidget):
    """A layer of a print: its name, solo and mute, its level, its treatments."""

    def __init__(
        self,
        owner_id: str,
        name: str,
        line: Line,
        change: Callable[[str, str, Callable[[PrintedPart], PrintedPart]], None],
        solo: Callable[[str, bool], None] | None,
    ) -> None:
        super().__init__()
        self.owner_id, self._name, self._change = owner_id, name, change
        self.name = Elided(name, size=12, weight=SEMI)
        self.hear, self.off = QPushButton("solo"), QPushButton("mute")
        for one in (self.hear, self.off):
            one.setCheckable(True)
            one.setFixedSize(46, 26)
            one.setProperty("fit", "narrow")
            one.setAccessibleName(f"{name} in the print: {one.text()}")
        self.hear.setToolTip(f"Only {name} in this print; the other layers are left out of it")
        self.off.setToolTip(f"Leave {name} out of this print")
        self.level = FieldWidget(LEVEL, 0.0)
        self.level.edited.connect(self._set_level)
        self.treatments = QPushButton("Treatments")
        self.treatments.setProperty("fit", "small")
        self.treatments.setToolTip("Bypass treatments that it was printed with")
        self._menu = QMenu(self.treatments)
        self.treatments.setMenu(self._menu)
        self._known = {x.id: x.of.label for x in line if x.known and x.on}
        for at, words in self._known.items():
            action = self._menu.addAction(words)
            assert action is not None
            action.setCheckable(True)
            action.setData(at)
            action.triggered.connect(partial(self._bypass, at))
        if solo is None:
            self.hear.hide()
            self.off.hide()
            self.level.hide()
        else:
            self.hear.clicked.connect(lambda on: solo(owner_id, on))
            self.off.clicked.connect(self._set_off)
        column = vertical(self, FLUSH, 3)
        top, below = horizontal(margins=FLUSH, spacing=4), horizontal(margins=FLUSH, spacing=4)
        fill(top, (self.name, 1), self.hear, self.off)
        fill(below, (self.level, 1), self.treatments)
        column.addLayout(top)
        column.addLayout(below)
        self.treatments.setVisible(bool(self._known))

    def show_part(self, part: PrintedPart, *, alone: bool) -> None:
        """Show what it does in the print; ``alone``: nothing else is on."""
        self.hear.setChecked(alone)
        self.off.setChecked(not part.on)
        self.level.set_value(part.level_db)
        out = [x for x in part.bypassed if x in self._known]
        self.treatments.setText(f"{len(out)} bypassed" if out else "Treatments")
        for action in self._menu.actions():
            action.setChecked(action.data() not in out)

    def _set_level(self, value: object) -> None:
        level = float(str(value))
        self._change(
            self.owner_id, f"level of {self._name} in a print"[:60],
            lambda part: replace(part, level_db=level),
        )  # fmt: skip

    def _set_off(self, off: bool) -> None:
        self._change(
            self.owner_id, f"{self._name} {'off' if off else 'on'} in a print"[:60],
            lambda part: replace(part, on=not off),
        )  # fmt: skip

    def _bypass(self, at: str, on: bool) -> None:
        def edit(part: PrintedPart) -> PrintedPart:
            others = tuple(x for x in part.bypassed if x != at)
            return replace(part, bypassed=others if on else (*others, at))

        self._change(self.owner_id, f"{self._known[at].lower()} in a print"[:60], edit)
