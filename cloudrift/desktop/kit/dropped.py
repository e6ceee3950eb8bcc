"""What is dropped on a stage: which of its files can become notes, recordings or sounds."""

from pathlib import Path

from PyQt6.QtCore import QMimeData

from cloudrift.sound.own_import import SUFFIXES as ONE_SHOTS
from cloudrift.sound.sampled import SUFFIXES as SAMPLED

MIDI_FILES = frozenset({".mid", ".midi"})
RECORDED = ONE_SHOTS | {".mp3"}


def dropped(data: QMimeData | None, kinds: frozenset[str], *, folders: bool = False) -> list[Path]:
    """Return the files of some kinds (suffixes) in what is dragged; folders too, if they may be."""
    urls = data.urls() if data is not None else []
    paths = [Path(url.toLocalFile()) for url in urls if url.isLocalFile()]
    return [path for path in paths if path.suffix.lower() in kinds or (folders and path.is_dir())]


def is_midi(path: Path) -> bool:
    """Say whether a file is named as a MIDI file."""
    return path.suffix.lower() in MIDI_FILES


__all__ = ["MIDI_FILES", "ONE_SHOTS", "RECORDED", "SAMPLED", "dropped", "is_midi"]
