"""What was heard in a recording: its tempo, key and chords, each to take or to leave."""

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QWidget

from cloudrift.desktop.kit.choice_box import ChoiceBox
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.parts import label
from cloudrift.notes.reference import Reference, first_bars
from cloudrift.theory.key import Key
from cloudrift.theory.naming import read_chord
from cloudrift.theory.symbols import WrittenChord

SHOWN_CHORDS = 24


class HeardIn(QWidget):
    """Likely tempos and keys to choose from, and the chords, named in the key that is chosen."""

    chosen = pyqtSignal()

    def __init__(self, found: Reference, bars: int) -> None:
        super().__init__()
        self._found, self._bars = found, bars
        column = vertical(self, FLUSH, 7)
        self.tempo, self.tempos = QCheckBox("Use its tempo"), ChoiceBox()
        self.key, self.keys = QCheckBox("Use its key"), ChoiceBox()
        self.tempos.setAccessibleName("Likely tempos")
        self.keys.setAccessibleName("Likely keys")
        for bpm in found.tempos:
            self.tempos.addItem(f"{bpm:g} BPM", bpm)
        for guess in found.keys:
            self.keys.addItem(f"{guess.key.text}, {guess.confidence:.0%} sure", guess.key)
        line = horizontal()
        for tick, choices in ((self.tempo, self.tempos), (self.key, self.keys)):
            tick.setChecked(True)
            fill(line, tick, (choices, 1))
        column.addLayout(line)
        self.chords = QCheckBox(f"Use its chords, for {bars} bars")
        self.names = label("", size=12, wrap=True)
        line = horizontal()
        fill(line, self.chords, (self.names, 1))
        column.addLayout(line)
        about = label(
            "An estimate: the tempo may be half or double, the key its relative; unclear passages "
            "are guesses. Inversions are not detected.",
            size=11.5,
            name="soft",
            wrap=True,
        )
        column.addWidget(about)
        self._name_chords()
        self.keys.currentIndexChanged.connect(self._name_chords)
        for choices in (self.tempos, self.keys):
            choices.currentIndexChanged.connect(self.chosen)
        for tick in (self.tempo, self.key, self.chords):
            tick.toggled.connect(self.chosen)

    @property
    def heard_key(self) -> Key:
        """The key that is chosen, taken or not: the chords are named in it."""
        key: Key = self.keys.currentData()
        return key

    @property
    def taken_key(self) -> Key | None:
        """The key, if it is to be taken."""
        return self.heard_key if self.key.isChecked() else None

    @property
    def taken_tempo(self) -> float | None:
        """The tempo (BPM), if it is to be taken."""
        return float(self.tempos.currentData()) if self.tempo.isChecked() else None

    @property
    def taken_chords(self) -> tuple[WrittenChord, ...]:
        """The chords that fit, if they are to be taken; none otherwise."""
        return first_bars(self._found.chords, self._bars) if self.chords.isChecked() else ()

    def _name_chords(self) -> None:
        """Name the chords, each with its root lowest."""
        names = [
            read_chord(_root_lowest(chord), self.heard_key, root_hint=chord.tones[0]).text
            for chord in self._found.chords[:SHOWN_CHORDS]
        ]
        more = " …" if len(self._found.chords) > SHOWN_CHORDS else ""
        self.names.setText("  ".join(names) + more)


def _root_lowest(chord: WrittenChord) -> tuple[int, ...]:
    root = chord.tones[0]
    return tuple(48 + root + (pc - root) % 12 for pc in chord.tones)
