"""What the inspector's pages share."""

from PyQt6.QtWidgets import QWidget

from cloudrift.desktop.kit.layouts import FLUSH, vertical
from cloudrift.desktop.stages.chords.moves import Moves
from cloudrift.loop.model.loop import Chord


class Page(QWidget):
    """A page about the chord in front. Its changes are for all selected chords."""

    def __init__(self, moves: Moves) -> None:
        super().__init__()
        self.moves = moves
        self.session = moves.session
        self.column = vertical(self, FLUSH, 5)

    def show_chord(self, chord: Chord) -> None:
        """Show a chord."""
        raise NotImplementedError

    def refresh(self) -> None:
        """Show the chord in front again, also where an edit was refused."""
        chord_id = self.session.selection.chord_id
        if chord_id:
            self.show_chord(self.session.loop.chord(chord_id))

    def put(self, *widgets: QWidget) -> None:
        """Put widgets one under another."""
        for widget in widgets:
            self.column.addWidget(widget)

    def finish(self) -> None:
        """Leave what room there is at the foot of the page."""
        self.column.addStretch(1)
