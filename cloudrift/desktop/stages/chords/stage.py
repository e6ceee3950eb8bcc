"""The Chords stage: the row bar, tiles over threads over onsets, what could come next."""

from PyQt6.QtCore import QEvent, Qt
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import QLabel, QSizePolicy, QToolTip, QWidget

from cloudrift.desktop.kit.commands import Command
from cloudrift.desktop.kit.dropped import MIDI_FILES, dropped
from cloudrift.desktop.kit.flow import flow
from cloudrift.desktop.kit.grid import Grid
from cloudrift.desktop.kit.layouts import FLUSH, fill, vertical
from cloudrift.desktop.kit.look import look, text_font
from cloudrift.desktop.kit.own_words import why
from cloudrift.desktop.kit.parts import panel, small_button
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.stages.chords.bass_line import BassLine
from cloudrift.desktop.stages.chords.heard_edits import HeardEdits
from cloudrift.desktop.stages.chords.inspector import ChordInspector
from cloudrift.desktop.stages.chords.moves import Moves
from cloudrift.desktop.stages.chords.next import NextChords
from cloudrift.desktop.stages.chords.onsets import Onsets
from cloudrift.desktop.stages.chords.row_bar import RowBar
from cloudrift.desktop.stages.chords.thread_paint import LEFT
from cloudrift.desktop.stages.chords.threads import HINT, Threads
from cloudrift.desktop.stages.chords.tiles import ChordTiles

LOW_PX = 560  # a stage lower than this shows one row of next chords


class ChordsStage(QWidget):
    """Everything about chords; what is chosen is in the ``inspector``, beside it."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.moves = Moves(session, Grid())
        self._heard = HeardEdits(session, self)
        self.row_bar = RowBar(self.moves)
        self.tiles = ChordTiles(self.moves)
        self.threads = Threads(self.moves)
        self.onsets = Onsets(self.moves)
        self.next = NextChords(self.moves)
        self.bass = BassLine(session)
        self.inspector = ChordInspector(self.moves)
        self.moves.grid.changed.append(self.inspector.refresh)
        self.setAcceptDrops(True)
        middle = panel()
        inside = vertical(middle, (6, 7, 8, 7), 3)
        fill(
            inside,
            self.row_bar,
            self.tiles,
            (self.threads, 1),
            self._under_threads(),
            self.bass,
            self.onsets,
            self.next,
        )
        outer = vertical(self, FLUSH)
        outer.addWidget(middle)

    def _under_threads(self) -> QWidget:
        threads = self.threads
        keys = small_button("Hands and keys", lambda: None, tip=HINT)
        keys.clicked.connect(lambda _c=False: _show_tip(keys))
        return flow(
            _Legend(),
            why("thread"),
            small_button("−", lambda: threads.zoom(1.25), tip="Show more pitches (−, Ctrl+wheel)"),
            small_button("+", lambda: threads.zoom(0.8), tip="Show fewer pitches (+, Ctrl+wheel)"),
            small_button("All", threads.fit, tip="Show all voices (0)"),
            keys,
        )

    def fold(self, height: int) -> None:
        """Where there is little room the voices have it."""
        self.next.be_low(on=height < LOW_PX)

    @staticmethod
    def commands() -> tuple[Command, ...]:
        """What can be done here, for the menus."""
        return (
            Command(
                "&Type a progression", lambda it: it.row_bar.typed.setFocus(), "Ctrl+R", goes=True
            ),
            Command("&Suggest a progression", lambda it: it.row_bar.suggest_row(), "Ctrl+D"),
            Command("Chords from a &MIDI file…", lambda it: it.row_bar.choose_midi(), "Ctrl+M"),
            Command("&Nearest voicing for all", lambda it: it.inspector.all_nearest()),
            Command("&Every other one late", lambda it: it.moves.every_second_late()),
        )

    def focus_first(self) -> None:
        """Put the keyboard where the work is."""
        if self.moves.session.loop.chords:
            self.threads.setFocus()
        else:
            self.row_bar.typed.setFocus()

    def show_place(self, share: float) -> None:
        """Move the playhead."""
        self.threads.show_place(share)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        assert event is not None
        if dropped(event.mimeData(), MIDI_FILES):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        assert event is not None
        path = next(iter(dropped(event.mimeData(), MIDI_FILES)), None)
        if path is not None:
            self.row_bar.midi_chosen.emit(path)


def _show_tip(widget: QWidget) -> None:
    QToolTip.showText(widget.mapToGlobal(widget.rect().topLeft()), widget.toolTip(), widget)


class _Legend(QLabel):
    """What the lines mean, in the colours of the theme in use."""

    def __init__(self) -> None:
        super().__init__()
        self.setFont(text_font(11))
        self.setObjectName("soft")
        self.setContentsMargins(LEFT, 0, 0, 0)
        self.setTextFormat(Qt.TextFormat.RichText)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self._fill()

    def _fill(self) -> None:
        signal = look.tokens.signal
        self.setText(
            f"<span style='color:{signal}'>━</span> half step &nbsp; ─ whole step or common tone "
            f"&nbsp; ┄ leap &nbsp; <span style='color:{signal}'>▭</span> out of key"
        )

    def changeEvent(self, event: QEvent | None) -> None:
        if event is not None and event.type() == QEvent.Type.PaletteChange:
            self._fill()
        super().changeEvent(event)
