"""What is dropped on a stage: which of its files can become notes or sounds."""

from pathlib import Path

from PyQt6.QtCore import QMimeData

from cloudrift.sound.own import SUFFIXES

MIDI_SUFFIXES = (".mid", ".midi")


def dropped(data: QMimeData | None) -> list[Path]:
    """Return the files in something that is dragged which can become layers or sounds."""
    urls = data.urls() if data is not None else []
    paths = [Path(url.toLocalFile()) for url in urls if url.isLocalFile()]
    wanted = {*MIDI_SUFFIXES, *SUFFIXES}
    return [path for path in paths if path.suffix.lower() in wanted]


def is_midi(path: Path) -> bool:
    """Say whether a file is named as a MIDI file."""
    return path.suffix.lower() in MIDI_SUFFIXES
