"""Asking for a file, where every dialog begins where the settings say, and for a name."""

from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QInputDialog, QMessageBox, QWidget

from cloudrift.desktop.session.session import Session
from cloudrift.ground.words import NAME_TYPED

MIDI_KINDS = "MIDI files (*.mid *.midi *.MID)"
RECORDINGS = "Recordings (*.wav *.flac *.ogg *.mp3 *.aiff *.aif)"


def ask_for_file(parent: QWidget, session: Session, title: str, kinds: str) -> Path | None:
    """Ask for a file to read; None where none was chosen."""
    folder = str(session.preferences.folder)
    chosen, _ = QFileDialog.getOpenFileName(parent, title, folder, kinds)
    return Path(chosen) if chosen else None


def ask(parent: QWidget, title: str, words: str, does: str, loses: str, stays: str) -> str:
    """Ask a question in plain text and return the words of the button that was pressed.

    ``does`` is what is offered (empty: nothing), ``loses`` what throws something away, ``stays``
    what changes nothing, as Escape does.
    """
    box = QMessageBox(parent)
    box.setWindowTitle(title)
    box.setTextFormat(Qt.TextFormat.PlainText)
    box.setText(words)
    if does:
        box.addButton(does, QMessageBox.ButtonRole.AcceptRole)
    box.addButton(loses, QMessageBox.ButtonRole.DestructiveRole)
    box.addButton(stays, QMessageBox.ButtonRole.RejectRole)
    box.exec()
    pressed = box.clickedButton()
    return pressed.text() if pressed is not None else stays


def ask_for_files(parent: QWidget, session: Session, title: str, kinds: str) -> list[Path]:
    """Ask for one or several files to read."""
    folder = str(session.preferences.folder)
    chosen, _ = QFileDialog.getOpenFileNames(parent, title, folder, kinds)
    return [Path(one) for one in chosen]


def ask_for_name(parent: QWidget, title: str, what: str, suggested: str) -> str:
    """Ask for a name; an empty one where none was given."""
    name, good = QInputDialog.getText(parent, title, what, text=suggested)
    return name.strip()[:NAME_TYPED] if good else ""


def ask_for_label(parent: QWidget, suggested: str) -> tuple[str, bool]:
    """Ask for a label, which may be none, and whether one is wanted at all."""
    name, good = QInputDialog.getText(
        parent, "Label", "Label from here on (empty: none)", text=suggested
    )
    return name.strip()[:NAME_TYPED], good


def ask_for_folder(parent: QWidget, session: Session, title: str) -> Path | None:
    """Ask for a folder; None where none was chosen."""
    chosen = QFileDialog.getExistingDirectory(parent, title, str(session.preferences.folder))
    return Path(chosen) if chosen else None
