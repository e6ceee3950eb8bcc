"""Tempo, key and chords from a recording: what was heard, and what of it to take."""

from pathlib import Path

from PyQt6.QtWidgets import QDialog, QWidget

from cloudrift.desktop.kit.heard_in import HeardIn
from cloudrift.desktop.kit.layouts import fill, horizontal, vertical
from cloudrift.desktop.kit.parts import button, heading, label
from cloudrift.desktop.session.session import Session
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.chords.progression import put_row
from cloudrift.loop.edits.layers.from_notes import put_heard
from cloudrift.loop.model.loop import Loop
from cloudrift.notes.reference import Reference
from cloudrift.style import way_of_voicing


class ReferenceSheet(QDialog):
    """Shows what was heard; tempo, key and chords can each be taken or left."""

    def __init__(self, found: Reference, path: Path, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self._session = session
        self.setWindowTitle(f"Estimated from {path.name}")
        self.setMinimumWidth(460)
        column = vertical(self, spacing=7)
        column.addWidget(heading(f"Estimated from {path.name}"))
        self.heard = HeardIn(found, session.loop.bars)
        fill(column, self.heard, label("One undo takes everything back.", size=11.5, name="soft"))
        line = horizontal()
        fill(line, 1, button("Cancel", self.reject))
        self.take = button("Use selected", self.accept, name="strong")
        self.take.setDefault(True)
        line.addWidget(self.take)
        column.addLayout(line)
        self.accepted.connect(self._put)

    def _put(self) -> None:
        heard = self.heard
        tempo, key, row = heard.taken_tempo, heard.taken_key, heard.taken_chords
        heard_key = heard.heard_key

        def edit(loop: Loop) -> Loop:
            if row:
                way = way_of_voicing(loop.style)
                loop = put_heard(
                    loop,
                    heard_key,
                    lambda there: put_row(there, row, **way),
                    take_key=key is not None,
                )
            elif key is not None:
                loop = loop_edits.set_key(loop, key)
            return loop if tempo is None else loop_edits.set_tempo(loop, tempo)

        self._session.apply("from a recording", edit)
