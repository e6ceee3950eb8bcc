"""Asking for a file, where every dialog begins where the settings say, and for a name."""

from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QInputDialog, QWidget

from cloudrift.desktop.session import Session
from cloudrift.ground.words import NAME_TYPED

MIDI_KINDS = "MIDI files (*.mid *.midi *.MID)"
RECORDINGS = "Recordings (*.wav *.flac *.ogg *.mp3 *.aiff *.aif)"


def ask_for_file(parent: QWidget, session: Session, title: str, kinds: str) -> Path | None:
    """Ask for a file to read; None where none was chosen."""
    folder = str(session.preferences.folder)
    chosen, _ = QFileDialog.getOpenFileName(parent, title, folder, kinds)
    return Path(chosen) if chosen else None


def ask_for_files(parent: QWidget, session: Session, title: str, kinds: str) -> list[Path]:
    """Ask for one or several files to read."""
    folder = str(session.preferences.folder)
    chosen, _ = QFileDialog.getOpenFileNames(parent, title, folder, kinds)
    return [Path(one) for one in chosen]


def ask_for_name(parent: QWidget, title: str, what: str, suggested: str) -> str:
    """Ask for a name; an empty one where none was given."""
    name, good = QInputDialog.getText(parent, title, what, text=suggested)
    return name.strip()[:NAME_TYPED] if good else ""
