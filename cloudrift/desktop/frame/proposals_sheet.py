"""Chords proposed for a line: each is heard while one rests on it, and taken by a press."""

from functools import partial

from PyQt6.QtWidgets import QDialog, QPushButton, QWidget

from cloudrift.desktop.kit.layouts import fill, horizontal, vertical
from cloudrift.desktop.kit.parts import button, heading, label
from cloudrift.desktop.kit.trying import Trying
from cloudrift.desktop.session.session import Session
from cloudrift.loop.edits.chords.progression import put_row
from cloudrift.loop.edits.layers.from_notes import Proposal
from cloudrift.loop.model.loop import Loop
from cloudrift.style import way_of_voicing


class ProposalsSheet(QDialog):
    """A button a proposal, with its chords under it."""

    def __init__(self, proposals: tuple[Proposal, ...], session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self._session = session
        self.setWindowTitle("Chords for a line")
        self.setMinimumWidth(460)
        column = vertical(self, spacing=7)
        column.addWidget(heading("Chords that go with it"))
        words = label(
            "Rest on one to hear it with the loop; click to use it. The line stays, other layers "
            "follow.",
            size=11.5,
            name="soft",
            wrap=True,
        )
        column.addWidget(words)
        self.takes: list[QPushButton] = []
        for one in proposals:
            take = button(one.words.replace("&", "&&"), partial(self._take, one))
            take.setAutoDefault(False)
            Trying(take, session, partial(_with, one), f"{one.words}, preview")
            self.takes.append(take)
            column.addWidget(take)
            chords = label(self._chords(one), size=12.5, wrap=True)
            column.addWidget(chords)
        line = horizontal()
        fill(line, 1, button("Cancel", self.reject))
        column.addLayout(line)
        session.opened.connect(self.reject)

    def _chords(self, one: Proposal) -> str:
        loop = _with(one, self._session.loop)
        return "   ".join(chord.read(loop.key).text for chord in loop.chords)

    def _take(self, one: Proposal) -> None:
        if self._session.apply("chords for a line", partial(_with, one)):
            self._session.say(f"{one.words}: {self._chords(one)}", good=True)
        self.accept()


def _with(one: Proposal, loop: Loop) -> Loop:
    return put_row(loop, one.row, **way_of_voicing(loop.style))
