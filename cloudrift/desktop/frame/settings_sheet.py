"""The settings of the program: speaker, buffer, keyboard, folder, theme, size; kept at once."""

from pathlib import Path
from typing import Any

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication, QDialog, QFileDialog, QGridLayout, QLineEdit, QWidget

from cloudrift.desktop.kit import look
from cloudrift.desktop.kit.choice_box import ChoiceBox
from cloudrift.desktop.kit.layouts import fill, horizontal, vertical
from cloudrift.desktop.kit.parts import ChoiceRow, button, close_line, heading, label
from cloudrift.desktop.session.preferences import SIZES
from cloudrift.desktop.session.session import Session
from cloudrift.devices import keyboards, speakers
from cloudrift.devices.speaker import BUFFERS_MS
from cloudrift.ground.errors import CloudriftError, in_a_sentence
from cloudrift.ground.paths import path_of, path_text
from cloudrift.ground.words import plural

THEME_WORDS = (
    ("", "Follow the desktop"),
    ("Daybreak", "Daybreak: light"),
    ("Nightfall", "Nightfall: dark"),
)
SYSTEM, ANY = "system default", "chosen in Play keys"


class SettingsSheet(QDialog):
    """Each choice holds at once; what needs a new start says so."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self._session = session
        self.setWindowTitle("Settings")
        self.setMinimumWidth(520)
        now = session.preferences.now
        self.speaker = _names("Speaker", SYSTEM, speakers(), now.speaker)
        self.speaker.activated.connect(lambda _i: self._play_through())
        self.buffer = ChoiceRow([(ms, f"{ms} ms") for ms in BUFFERS_MS], columns=5, name="Buffer")
        self.buffer.show_choice(session.transport.buffer_ms)  # it may have grown
        self.buffer.chosen.connect(self._play_through)
        self.gaps = label("", size=11.5, name="soft")
        self.gaps.setAccessibleName("Dropouts")
        self.gaps.setWordWrap(True)
        self._clock = QTimer(self)
        self._clock.timeout.connect(self._show_gaps)
        self._clock.start(1000)
        self._show_gaps()
        self.keyboard = _names("MIDI keyboard", ANY, keyboards(), now.keyboard)
        self.keyboard.activated.connect(lambda _i: self._keep(keyboard=self.keyboard.currentData()))
        self.files = QLineEdit(str(path_of(now.files)) if now.files else "")
        self.files.setPlaceholderText(str(Path.home()))
        self.files.setAccessibleName("Folder for files")
        self.files.editingFinished.connect(self._files_typed)
        self.theme = ChoiceRow(THEME_WORDS, columns=3, name="Theme")
        self.theme.show_choice(now.theme)
        self.theme.chosen.connect(self._put_theme)
        self.size_of = ChoiceRow([(p, f"{p} %") for p in SIZES], columns=5, name="Size")
        self.size_of.show_choice(now.size_percent)
        self.size_of.chosen.connect(self._put_size)
        self.words = label("", size=12, name="soft", wrap=True)
        self._lay_out()

    def _lay_out(self) -> None:
        column = vertical(self, spacing=8)
        grid = QGridLayout()
        grid.setVerticalSpacing(9)
        grid.setColumnStretch(1, 1)
        files = horizontal()
        fill(files, (self.files, 1), button("Choose…", self._choose_folder))
        silent = self._session.transport.speaker.silent
        rows: tuple[tuple[str, Any, str], ...] = (
            (
                "Speaker",
                self.speaker,
                "No sound card was found; playback is silent" if silent else "",
            ),
            ("Buffer", self.buffer, "Shorter responds faster; after dropouts it grows"),
            ("Dropouts", self.gaps, ""),
            ("MIDI keyboard", self.keyboard, "Opened with Play keys"),
            ("Folder for files", files, "Where file dialogs open"),
            ("Theme", self.theme, ""),
            ("Text and controls", self.size_of, "A new size applies from the next start"),
        )
        for i, (name, what, about) in enumerate(rows):
            grid.addWidget(heading(name), 2 * i, 0)
            if isinstance(what, QWidget):
                grid.addWidget(what, 2 * i, 1)
            else:
                grid.addLayout(what, 2 * i, 1)
            if about:
                grid.addWidget(label(about, size=11.5, name="soft"), 2 * i + 1, 1)
        fill(column, grid, self.words, close_line(self))
        self.speaker.setFocus()

    def _show_gaps(self) -> None:
        player = self._session.player
        longest = f"{1e3 * max(player.waits_s, default=0):.0f} ms"
        if player.gaps:
            self.gaps.setText(
                f"{plural(player.gaps, 'gap')} since the start; the longest wait for sound was "
                f"{longest}. Its buffer of {self._session.transport.buffer_ms} ms grows "
                "by itself where that goes on."
            )
        else:
            self.gaps.setText(f"None since the start. The longest wait for sound was {longest}.")

    def _keep(self, **what: Any) -> None:
        try:
            self._session.preferences.change(**what)
            self.words.setText(f"Kept in {self._session.preferences.file}")
        except CloudriftError as error:
            self.words.setText(in_a_sentence(str(error)))

    def _play_through(self, buffer_ms: int = 0) -> None:
        session = self._session
        self._keep(
            speaker=self.speaker.currentData(),
            buffer_ms=buffer_ms or session.preferences.now.buffer_ms,
        )
        now = session.preferences.now
        try:
            session.transport.open_speaker(now.speaker, now.buffer_ms)
        except CloudriftError as error:
            self.words.setText(in_a_sentence(str(error)))

    def _choose_folder(self) -> None:
        start = str(self._session.preferences.folder)
        chosen = QFileDialog.getExistingDirectory(self, "Where file dialogs open", start)
        if chosen:
            self.files.setText(chosen)
            self._keep(files=path_text(Path(chosen)))

    def _files_typed(self) -> None:
        typed = self.files.text().strip()
        folder = Path(typed).expanduser()
        if typed and not folder.is_dir():
            self.words.setText(f"There is no folder {folder}; choose one that exists.")
            return
        files = path_text(folder) if typed else ""
        if files != self._session.preferences.now.files:
            self._keep(files=files)

    def _put_theme(self, name: str) -> None:
        self._keep(theme=name)
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        look.apply(app, look.theme_of(app, name))

    def _put_size(self, percent: int) -> None:
        self._keep(size_percent=percent)
        self.words.setText(f"{percent} % applies from the next start.")


def _names(name: str, none: str, found: tuple[str, ...], chosen: str) -> ChoiceBox:
    """Devices to choose from; one that was chosen and is not there now says so."""
    box = ChoiceBox(name)
    box.addItem(none, "")
    for one in found:
        box.addItem(one, one)
    if chosen and chosen not in found:
        box.addItem(f"{chosen} (not plugged in)", chosen)
    box.setCurrentIndex(max(0, box.findData(chosen)))
    return box
