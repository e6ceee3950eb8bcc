"""Tempo, key and chords from a recording: what was heard, and what of it to take."""

from pathlib import Path

from PyQt6.QtWidgets import QCheckBox, QComboBox, QDialog, QHBoxLayout, QVBoxLayout, QWidget

from cloudrift.desktop.parts import button, heading, label
from cloudrift.desktop.session import Session
from cloudrift.loop import edits
from cloudrift.loop.model import Loop
from cloudrift.loop.progression import put_row
from cloudrift.notes.reference import Reference, first_bars
from cloudrift.style import way_of_voicing
from cloudrift.theory.key import Key
from cloudrift.theory.naming import read_chord
from cloudrift.theory.symbols import WrittenChord

SHOWN_CHORDS = 24


def _root_lowest(chord: WrittenChord) -> tuple[int, ...]:
    root = chord.tones[0]
    return tuple(48 + root + (pc - root) % 12 for pc in chord.tones)


class ReferenceSheet(QDialog):
    """Shows what was heard; tempo, key and chords can each be taken or left."""

    def __init__(self, found: Reference, path: Path, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self._found, self._session = found, session
        self.setWindowTitle(f"Heard in {path.name}")
        self.setMinimumWidth(460)
        column = QVBoxLayout(self)
        column.setSpacing(7)
        column.addWidget(heading(f"Heard in {path.name}"))
        self.tempo = QCheckBox("Take its tempo")
        self.tempo.setChecked(True)
        self.tempos = QComboBox()
        self.tempos.setAccessibleName("Likely tempos")
        for bpm in found.tempos:
            self.tempos.addItem(f"{bpm:g} BPM", bpm)
        line = QHBoxLayout()
        line.addWidget(self.tempo)
        line.addWidget(self.tempos, 1)
        column.addLayout(line)
        self.key = QCheckBox("Take its key")
        self.key.setChecked(True)
        self.keys = QComboBox()
        self.keys.setAccessibleName("Likely keys")
        for guess in found.keys:
            self.keys.addItem(f"{guess.key.text}, {guess.confidence:.0%} sure", guess.key)
        self.keys.currentIndexChanged.connect(self._name_chords)
        line = QHBoxLayout()
        line.addWidget(self.key)
        line.addWidget(self.keys, 1)
        column.addLayout(line)
        self.chords = QCheckBox(f"Take its chords, for {session.loop.bars} bars")
        column.addWidget(self.chords)
        self.names = label("", size=12)
        self.names.setWordWrap(True)
        column.addWidget(self.names)
        self._name_chords()
        about = label("Heard, not known: a tempo may be half or double, a key its relative, and "
                      "what is not played plainly is guessed. Which note of a chord is lowest is "
                      "not told. Undo brings everything back.",
                      size=11.5, name="soft")  # fmt: skip
        about.setWordWrap(True)
        column.addWidget(about)
        line = QHBoxLayout()
        line.addStretch(1)
        line.addWidget(button("Leave it", self.reject))
        self.take = button("Take what is ticked", self.accept, name="strong")
        self.take.setDefault(True)
        line.addWidget(self.take)
        column.addLayout(line)
        self.accepted.connect(self._put)

    def _name_chords(self) -> None:
        """Name the chords in the key that is chosen, each with its root lowest."""
        names = [
            read_chord(_root_lowest(chord), self._key, root_hint=chord.tones[0]).text
            for chord in self._found.chords[:SHOWN_CHORDS]
        ]
        more = " …" if len(self._found.chords) > SHOWN_CHORDS else ""
        self.names.setText("  ".join(names) + more)

    @property
    def _key(self) -> Key:
        key: Key = self.keys.currentData()
        return key

    def _put(self) -> None:
        found, key = self._found, self._key
        tempo = float(self.tempos.currentData()) if self.tempo.isChecked() else None
        take_key, take_chords = self.key.isChecked(), self.chords.isChecked()

        def edit(loop: Loop) -> Loop:
            own = loop.key
            if take_chords:
                loop = edits.rename_key(loop, key)
                row = first_bars(found.chords, loop.bars)
                loop = put_row(loop, row, **way_of_voicing(loop.style))
                if not take_key:
                    loop = edits.set_key(loop, own)
            elif take_key:
                loop = edits.set_key(loop, key)
            return loop if tempo is None else edits.set_tempo(loop, tempo)

        self._session.apply("from a recording", edit)
