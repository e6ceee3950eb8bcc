"""Help: the keys of the stage that is open and those that count everywhere; what this is."""

from collections.abc import Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QDialog, QGridLayout, QLabel, QWidget

import cloudrift
from cloudrift.desktop.kit.commands import keys_of, name_of
from cloudrift.desktop.kit.layouts import fill, vertical
from cloudrift.desktop.kit.look import SEMI, figure_font
from cloudrift.desktop.kit.parts import close_line, heading, label, scrolling

Keys = tuple[tuple[str, str], ...]

FIELD_KEYS: Keys = (
    ("Arrows", "One step up or down; with Shift, a fine step"),
    ("Digits", "Type a value; Enter opens the field"),
    ("Backspace", "The default value"),
    ("R", "Draw a ride over the loop, or remove it"),
)
THREAD_KEYS: Keys = (
    ("Left, Right", "The chord before or after; with Shift, select more"),
    ("Page Up, Page Down", "The next voice up or down"),
    ("Up, Down", "Move the chord or voice by a scale step"),
    ("Shift+Up, Shift+Down", "Move by a semitone"),
    ("Ctrl+Up, Ctrl+Down", "Move by an octave"),
    (
        "Ctrl+Left, Ctrl+Right",
        "End earlier or later by a grid step; with Shift, start earlier or later",
    ),
    ("1 to 7", "The chord on that degree"),
    ("Insert, Delete", "Add a voice; delete the voice or the chord"),
    ("M", "Mute a voice"),
    ("Y", "Tie a voice to the chord before"),
    ("T", "Select the voice through all chords"),
    ("L", "Late by a grid step"),
    ("R", "Add a half-step clash"),
    ("Enter", "Play the chord"),
    ("Ctrl+A", "Select all chords"),
    ("Plus, Minus, 0", "Zoom in, zoom out, fit"),
)
NEXT_KEYS: Keys = (
    ("Arrows", "The next suggestion"),
    ("Enter", "Play it"),
    ("Insert", "Insert it after the chord; with Shift, replace the chord"),
)
NOTE_KEYS: Keys = (
    ("Arrows", "Move the selected notes by the grid and the scale"),
    ("Shift+Arrows", "Move by half the grid and by semitones"),
    ("Ctrl+Up, Ctrl+Down", "Move by an octave"),
    ("Ctrl+Left, Ctrl+Right", "Shorter or longer"),
    ("Page Up, Page Down", "Select the note before or after"),
    ("Ctrl+A", "Select all"),
    ("V, P, E", "Select the same voice, the same pitch, every other note"),
    ("Ctrl+C, Ctrl+V, Ctrl+J", "Copy, paste at the playhead, duplicate"),
    ("M, X, Delete", "Mute, split at the playhead, delete"),
    ("Plus, Minus, 0", "Zoom in, zoom out, fit"),
)
ROOM_KEYS: Keys = (("Left, Right", "The low cut, the high cut"), ("Up, Down", "Move it"))
ROW_KEYS: Keys = (
    ("Enter", "Open the treatment"),
    ("Alt+Up, Alt+Down", "Earlier or later in the line"),
    ("Ctrl+C, Ctrl+X, Ctrl+V", "Copy, cut and paste the treatment"),
    ("Ctrl+Shift+C", "Copy the whole line"),
    ("Delete", "Remove it"),
    ("Shift+B", "Compare two strips side by side"),
)
RIDE_KEYS: Keys = (
    ("Page Up, Page Down", "The point before or after"),
    ("Arrows", "Move it; with Shift finely"),
    ("Alt+Up, Alt+Down", "Bend the curve to the next point"),
    ("Enter, Delete", "Add a point; delete this one"),
)
SHELF_KEYS: Keys = (
    ("Arrows", "The next sound"),
    ("Enter", "Play it in the layer's place; press again to stop"),
    ("Ctrl+Enter", "Use it; with Shift, as a new layer"),
    ("*", "Favourite on or off"),
)
RIBBON_KEYS: Keys = (
    ("Left, Right", "Move a beat back or forward"),
    ("Shift+Left, Shift+Right", "Loop a shorter or longer part"),
    ("Home, Esc", "To its start; back to the whole loop"),
)
PIECE_KEYS: Keys = (
    ("left, right", "select the piece before or after"),
    ("Ctrl + left, right", "swap places with it"),
    ("a to z", "play that piece here, and move to the next place"),
    ("-", "reverse it"),
    ("2 to 9, 1", "repeat its start that many times; once"),
    (". or Del", "leave a rest"),
    (
        "drag",
        "drag a piece from above to a place below, or a place elsewhere; with Shift they swap",
    ),
    ("double-click above", "cut there, or remove the cut"),
)
SECTION_KEYS: Keys = (
    ("Left, Right", "The next section"),
    ("Up, Down", "The next layer or lane"),
    ("Enter", "Turn it off in the section, or on"),
    ("+, −", "A dB louder or quieter there"),
    ("Ctrl+Left, Ctrl+Right", "Move the section earlier or later"),
    ("S", "The seam before it, or back to the section"),
    ("H", "Play the bars around the seam"),
    ("Delete", "Delete the section"),
)
LANE_KEYS: Keys = (
    ("Arrows", "The next hit or lane; a grid step"),
    ("Enter, Delete", "Draw a hit; delete it"),
    ("Plus, Minus", "Louder or quieter"),
    ("2 to 9", "A roll of that many hits"),
    ("Ctrl+Left, Ctrl+Right", "Move the selected hits by the grid"),
    ("Alt+Left, Alt+Right", "A little earlier or later"),
    ("Shift+Up, Shift+Down", "A semitone higher or lower"),
    ("M", "Turn the lane on or off"),
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
        everywhere = tuple((keys_of(one), name_of(one)) for one in commands if keys_of(one))
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
                "House sounds and treatments are computed, not played back from recordings: what "
                "you make with them is yours, royalty-free."
            ),
        )
        for what, where in places:
            fill(column, heading(what), _plain(where))
        column.addLayout(close_line(self))


def _plain(text: str) -> QLabel:
    made = label(text, size=12.5, name="soft", wrap=True)
    made.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
    return made
