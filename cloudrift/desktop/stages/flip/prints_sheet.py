"""All prints of the document: what each was made from, what is cut from it, and letting it go."""

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QListWidget, QListWidgetItem, QWidget

from cloudrift.desktop.kit.asking import ask_for_name
from cloudrift.desktop.kit.layouts import fill, horizontal, vertical
from cloudrift.desktop.kit.parts import WhileShown, button, label
from cloudrift.desktop.session.session import Session
from cloudrift.ground.words import number, plural
from cloudrift.loop.edits.flip.prints import followers, forget_print, recipe_of, rename_print
from cloudrift.loop.model.document import Document, Print
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.sounding import key_heard


class PrintsSheet(QDialog):
    """Stands beside the window. ``flip_anew`` makes another flip of a print, by its id."""

    def __init__(self, session: Session, flip_anew: Callable[[str], object], parent: QWidget):
        super().__init__(parent)
        self._session, self._flip_anew = session, flip_anew
        self.setWindowTitle("Prints")
        self.resize(620, 340)
        self.list = QListWidget()
        self.list.setAccessibleName("Prints of this loop")
        self.list.currentRowChanged.connect(lambda _row: self._tell())
        self.says = label("", size=11.5, name="soft", wrap=True)
        column = vertical(self)
        fill(column, (self.list, 1), self.says)
        row = horizontal()
        self.anew = button(
            "New flip", self._anew, tip="Another flip of this print, in its original order"
        )
        self.rename = button("Rename…", self._rename)
        self.forget = button(
            "Delete",
            self.forget_it,
            tip="Its flips stay; its source loop is deleted. Undo restores it",
        )
        for one in (self.anew, self.rename, self.forget):
            one.setAutoDefault(False)
            row.addWidget(one)
        row.addStretch(1)
        column.addLayout(row)
        WhileShown(self, self._fill, session.changed)
        session.opened.connect(self.close)
        self._fill()

    @property
    def _document(self) -> Document:
        return self._session.document.history.now

    @property
    def chosen(self) -> Print | None:
        """The print that is chosen."""
        item = self.list.currentItem()
        wanted = None if item is None else item.data(Qt.ItemDataRole.UserRole)
        return next((one for one in self._document.prints if one.id == wanted), None)

    def _fill(self) -> None:
        at = max(0, self.list.currentRow())
        self.list.clear()
        for one in self._document.prints:
            _print, loop = recipe_of(self._document, one.id)
            item = QListWidgetItem(f"{one.name}\n{self._words(one, loop)}")
            item.setData(Qt.ItemDataRole.UserRole, one.id)
            self.list.addItem(item)
        self.list.setCurrentRow(min(at, self.list.count() - 1))
        self._tell()

    def _words(self, one: Print, loop: Loop) -> str:
        """What is known of a print, in a line."""
        turns = max(1, len(one.recipe.passes))
        bars = turns * loop.bars
        seconds = turns * loop.sounding_frames / loop.rate
        size = self._session.clips.size_bytes([one.clip]) / 1e6
        return (
            f"{key_heard(loop).text}, {loop.sounding_tempo:.5g} BPM, {plural(bars, 'bar')}, "
            f"{seconds:.1f} s, {number(size, '.1f')} MB"
        )

    def _tell(self) -> None:
        one = self.chosen
        for widget in (self.anew, self.rename, self.forget):
            widget.setEnabled(one is not None)
        if one is None:
            self.says.setText("No prints yet. Choose Print on the Flip stage.")
            return
        document = self._document
        cut = [x.name for x in document.loop.layers if x.flipped and x.flipped.print_id == one.id]
        later = [recipe_of(document, other)[0].name for other in followers(document, one.id)]
        parts = [f"Flips of it: {', '.join(cut)}" if cut else "No flips of it"]
        parts += [f"Prints made from it: {', '.join(later)}"] if later else []
        if one.recipe.passes:
            parts.append(f"Passes: {', '.join(x.name for x in one.recipe.passes)}")
        self.says.setText(". ".join(parts) + ".")

    # --- acts ---------------------------------------------------------------------------------

    def _anew(self) -> None:
        one = self.chosen
        if one is not None:
            self._flip_anew(one.id)

    def _rename(self) -> None:
        one = self.chosen
        name = "" if one is None else ask_for_name(self, "Rename", "Name of the print", one.name)
        if one is not None and name:
            self._session.document.change(
                "rename a print", lambda document: rename_print(document, one.id, name)
            )

    def forget_it(self) -> None:
        """Take the chosen print off the document."""
        one = self.chosen
        if one is not None and self._session.document.change(
            "delete a print", lambda document: forget_print(document, one.id)
        ):
            self._session.say(
                f"{one.name} is deleted; its flips stay, and undo restores it", good=True
            )
