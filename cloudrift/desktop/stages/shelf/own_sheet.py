"""An own sound: files, the pitch each sounds, how they play, and where they are from."""

from msgspec.structs import replace
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QDialog, QLineEdit, QWidget

from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.layouts import fill, horizontal, vertical
from cloudrift.desktop.kit.parts import ChoiceRow, button, heading, label, scrolling
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.settings import Field
from cloudrift.ground.words import NAME_TYPED
from cloudrift.sound import CATALOGUE
from cloudrift.sound.own import OwnSound
from cloudrift.sound.own_import import ImportedRecordings
from cloudrift.theory import Key

NAMED_IN = Key("C", "major")


class OwnSheet(QDialog):
    """Asks for what the files do not say. ``made`` carries the sound."""

    made = pyqtSignal(object)

    def __init__(self, found: list[ImportedRecordings], name: str, parent: QWidget) -> None:
        super().__init__(parent)
        self._found = found
        self.setWindowTitle("An own sound")
        self.setMinimumSize(480, 420)
        self.name = QLineEdit(name)
        self.name.setMaxLength(NAME_TYPED)
        self.name.setAccessibleName("Name")
        self.licence = QLineEdit()
        self.licence.setMaxLength(NAME_TYPED)
        self.licence.setAccessibleName("Source and licence")
        self.licence.setPlaceholderText("e.g. own recording; CC0 by …")
        self.plays = ChoiceRow([("once", "once"), ("looped", "looped")], columns=2, name="Plays")
        looped = any(each.recording.loop_to for each in found)
        self._plays = "looped" if looped else "once"
        self.plays.show_choice(self._plays)
        self.plays.chosen.connect(self._choose)
        self.roots: list[FieldWidget] = []
        self.words = label("", size=11.5, name="signal", wrap=True)
        column = vertical(self, spacing=7)
        for title, widget in (
            ("Name", self.name),
            ("Plays", self.plays),
            ("Source and licence: stored in the sound", self.licence),
        ):
            fill(column, heading(title), widget)
        fill(
            column,
            heading("Recordings and their pitches (C4 is 60)"),
            (scrolling(self._list()), 1),
            self.words,
        )
        line = horizontal()
        fill(line, 1, button("Cancel", self.reject))
        self.make = button("Make the sound", self._make, name="strong")
        self.make.setDefault(True)
        line.addWidget(self.make)
        column.addLayout(line)

    def _list(self) -> QWidget:
        holder = QWidget()
        rows = vertical(holder, (0, 0, 8, 0))
        for each in self._found:
            root = each.recording.root
            field = Field(
                name="root",
                label=each.recording.name,
                default=root,
                unit="MIDI",
                low=0,
                high=127,
                step=0.01,
            )
            widget = FieldWidget(field, root)
            known = each.how != "not found"
            said = f"{_note(root)}, {each.how}" if known else "not found: type it"
            words = label(said, size=11, name="soft" if known else "signal")
            widget.edited.connect(lambda value, w=words: w.setText(f"{_note(value)}, typed"))
            fill(rows, widget, words)
            self.roots.append(widget)
        rows.addStretch(1)
        return holder

    def _choose(self, plays: str) -> None:
        self._plays = plays

    def _make(self) -> None:
        name = " ".join(self.name.text().split())
        if name.lower() in CATALOGUE:
            self.words.setText(f"{name} is a house sound; give yours another name.")
            return
        try:
            own = OwnSound(
                name=name,
                licence=self.licence.text().strip(),
                plays="looped" if self._plays == "looped" else "once",
                recordings=tuple(
                    replace(each.recording, root=float(widget.value))
                    for each, widget in zip(self._found, self.roots, strict=True)
                ),
            )
        except CloudriftError as error:
            self.words.setText(str(error))
            return
        self.made.emit(own)
        self.accept()


def _note(root: float) -> str:
    return NAMED_IN.spell_pitch(round(root))
