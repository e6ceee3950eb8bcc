"""Help: the keys of the stage that is open and those that count everywhere; what this is."""

from collections.abc import Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QDialog, QGridLayout, QLabel, QWidget

import cloudrift
from cloudrift.desktop.kit.layouts import fill, vertical
from cloudrift.desktop.kit.look import SEMI, figure_font
from cloudrift.desktop.kit.parts import close_line, heading, label, scrolling

Keys = tuple[tuple[str, str], ...]

FIELD_KEYS: Keys = (
    ("Arrows", "A step more or less; with Shift a fine one"),
    ("Figures", "Type the value; Enter opens it"),
    ("Backspace", "The usual value"),
    ("R", "Let it ride over the loop, or no longer"),
)
THREAD_KEYS: Keys = (
    ("Left, Right", "The chord before or behind; with Shift choose more"),
    ("Page Up, Page Down", "A voice of the chord, up or down"),
    ("Up, Down", "Chord or voice by a step of the scale"),
    ("Shift+Up, Shift+Down", "By a semitone"),
    ("Ctrl+Up, Ctrl+Down", "By an octave"),
    ("Ctrl+Left, Ctrl+Right", "End sooner or later by a step of the grid; with Shift begin so"),
    ("1 to 7", "The chord on that degree"),
    ("Insert, Delete", "One more voice; take out the voice or the chord"),
    ("M", "Mute a voice"),
    ("Y", "Tie a voice to the chord before"),
    ("T", "A voice through all chords"),
    ("L", "Late by a step of the grid"),
    ("R", "A half-step rub"),
    ("Enter", "Hear the chord"),
    ("Ctrl+A", "Choose all chords"),
    ("Plus, Minus, 0", "Look closer, farther, at all of it"),
)
NEXT_KEYS: Keys = (
    ("Arrows", "Another proposal"),
    ("Enter", "Hear it"),
    ("Insert", "Put it behind; with Shift in the place of the chosen chord"),
)
NOTE_KEYS: Keys = (
    ("Arrows", "Move the picked notes by the grid and the scale"),
    ("Shift+Arrows", "By half the grid and by semitones"),
    ("Ctrl+Up, Ctrl+Down", "By an octave"),
    ("Ctrl+Left, Ctrl+Right", "Shorter or longer"),
    ("Page Up, Page Down", "Pick the note before or behind"),
    ("Ctrl+A", "Pick all"),
    ("V, P, E", "Pick the same voice, the same pitch, every second one"),
    ("Ctrl+C, Ctrl+V, Ctrl+J", "Copy, paste at the playhead, copy behind"),
    ("M, X, Delete", "Mute, cut at the playhead, take out"),
    ("Plus, Minus, 0", "Look closer, farther, at all of it"),
)
ROOM_KEYS: Keys = (("Left, Right", "The low cut, the high cut"), ("Up, Down", "Move it"))
ROW_KEYS: Keys = (
    ("Enter", "Open the card"),
    ("Alt+Up, Alt+Down", "Earlier or later in the line"),
    ("Ctrl+C, Ctrl+X, Ctrl+V", "Copy, cut and paste the card"),
    ("Ctrl+Shift+C", "Copy the whole line"),
    ("Delete", "Take it out"),
    ("Shift+B", "Two strips side by side"),
)
RIDE_KEYS: Keys = (
    ("Page Up, Page Down", "The point before or behind"),
    ("Arrows", "Move it; with Shift finely"),
    ("Alt+Up, Alt+Down", "Bend the way to the next"),
    ("Enter, Delete", "One point more; this one less"),
)
SHELF_KEYS: Keys = (
    ("Arrows", "Another sound"),
    ("Enter", "Hear it in the layer's place; again: no longer"),
    ("Ctrl+Enter", "Use it; with Shift as a new layer"),
    ("*", "A favourite, or no longer"),
)
RIBBON_KEYS: Keys = (
    ("Left, Right", "Go a beat back or on"),
    ("Shift+Left, Shift+Right", "Hear a shorter or longer part"),
    ("Home, Esc", "To its start; the whole loop again"),
)
PIECE_KEYS: Keys = (
    ("left, right", "choose the piece before or behind"),
    ("Ctrl + left, right", "change places with it"),
    ("a to z", "let that piece from above play here, and go on to the next place"),
    ("-", "turn it round"),
    ("2 to 9, 1", "strike its start so often; once"),
    (". or Del", "leave a gap"),
    ("drag", "a piece from above to a place below, or a place elsewhere; with Shift they swap"),
    ("double-click above", "cut there, or take the cut out"),
)
SECTION_KEYS: Keys = (
    ("Left, Right", "Another section"),
    ("Up, Down", "Another layer or lane"),
    ("Enter", "Take it out of the section, or in"),
    ("+, −", "A dB louder or softer there"),
    ("Ctrl+Left, Ctrl+Right", "The section earlier or later"),
    ("S", "The change into it, or the section again"),
    ("H", "Hear the bars around that change"),
    ("Delete", "Take the section out"),
)
LANE_KEYS: Keys = (
    ("Arrows", "Another hit or lane; a step of the grid"),
    ("Enter, Delete", "Draw a hit; delete it"),
    ("Plus, Minus", "Louder or softer"),
    ("2 to 9", "A roll of that many hits"),
    ("Ctrl+Left, Ctrl+Right", "Move the chosen hits by the grid"),
    ("Alt+Left, Alt+Right", "A little earlier or later"),
    ("Shift+Up, Shift+Down", "A semitone higher or lower"),
    ("M", "The lane on or off"),
)
STAGE_KEYS: dict[str, tuple[tuple[str, Keys], ...]] = {
    "Chords": (("Chords and voices", THREAD_KEYS), ("Next chord", NEXT_KEYS)),
    "Layers": (
        ("Notes", NOTE_KEYS),
        ("Room", ROOM_KEYS),
        ("Rides", RIDE_KEYS),
        ("Shelf", SHELF_KEYS),
    ),
    "Texture": (("Treatments", ROW_KEYS), ("Rides", RIDE_KEYS)),
    "Flip": (("Pieces below", PIECE_KEYS),),
    "Groove": (("Hit lanes", LANE_KEYS),),
    "Arrange": (("Sections", SECTION_KEYS),),
    "Deliver": (),
}


class KeysSheet(QDialog):
    """Stands beside the window; the work goes on."""

    def __init__(self, stage: str, commands: Sequence[QAction], parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle(f"Keys in {stage}" if stage else "Keys")
        self.resize(560, 620)
        inside = QWidget()
        grid = QGridLayout(inside)
        grid.setColumnStretch(1, 1)
        grid.setVerticalSpacing(3)
        everywhere = tuple(
            (one.shortcut().toString(), one.text().replace("&", ""))
            for one in commands
            if not one.shortcut().isEmpty()
        )
        parts = (
            *STAGE_KEYS.get(stage, ()),
            ("Every field", FIELD_KEYS),
            ("The ribbon", RIBBON_KEYS),
            ("Everywhere", everywhere),
        )
        for name, keys in parts:
            grid.addWidget(heading(name), grid.rowCount(), 0, 1, 2)
            for key, what in keys:
                row = grid.rowCount()
                shown = label(key, size=12)
                shown.setFont(figure_font(11))
                grid.addWidget(shown, row, 0, Qt.AlignmentFlag.AlignTop)
                said = label(what, size=12, wrap=True)
                grid.addWidget(said, row, 1)
        grid.setRowStretch(grid.rowCount(), 1)
        column = vertical(self)
        fill(column, (scrolling(inside), 1), close_line(self))


class AboutSheet(QDialog):
    """What Cloudrift is, its version, and where it keeps things."""

    def __init__(self, places: Sequence[tuple[str, str]], parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("About Cloudrift")
        self.setFixedWidth(520)
        column = vertical(self)
        fill(
            column,
            label(f"Cloudrift {cloudrift.__version__}", size=20, weight=SEMI),
            _plain((cloudrift.__doc__ or "").strip().replace("Cloudrift: write", "Write")),
            _plain(
                "House sounds and treatments are computed, not played back from "
                "recordings: what you write with them is yours, without royalties."
            ),
        )
        for what, where in places:
            fill(column, heading(what), _plain(where))
        column.addLayout(close_line(self))


def _plain(text: str) -> QLabel:
    made = label(text, size=12.5, name="soft", wrap=True)
    made.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
    return made
