"""What is not saved is kept for after a crash: now, or beside the interface."""

import logging
import threading
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from cloudrift.audio.clips import ClipStore
from cloudrift.ground.errors import CloudriftError, in_a_sentence
from cloudrift.loop.files.recovery import Shelter
from cloudrift.loop.model.document import Document

log = logging.getLogger(__name__)


class Keeper(QObject):
    """Keeps one document at a time in a shelter; ``failed`` says, once, why it could not."""

    failed = pyqtSignal(str)
    # Document, what was wrong, how often was forgotten till then
    _came = pyqtSignal(object, str, int)

    def __init__(self, shelter: Shelter, clips: ClipStore, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.shelter, self._clips = shelter, clips
        self.kept: Document | None = None  # what lies in the shelter
        self._writing = threading.Lock()  # held while it is written, or forgotten
        self._thread: threading.Thread | None = None
        self._times_forgotten = 0
        self._wrong = ""  # why it could not be kept the last time
        self._came.connect(self._on_kept)

    def keep(self, document: Document, path: Path | None) -> bool:
        """Keep a document now, with where it is from; say whether it is safe."""
        if document is self.kept:
            return True
        with self._writing:
            wrong = self._write(document, path)
        self._on_kept(document, wrong, self._times_forgotten)
        return not wrong

    def keep_soon(self, document: Document, path: Path | None) -> None:
        """Keep a document on another thread, unless one is being kept at this moment."""
        if document is self.kept or (self._thread is not None and self._thread.is_alive()):
            return
        times = self._times_forgotten

        def work() -> None:
            with self._writing:
                if times != self._times_forgotten:
                    return  # saved meanwhile, or another loop is open
                wrong = self._write(document, path)
            self._came.emit(document, wrong, times)

        self._thread = threading.Thread(target=work, name="keeper", daemon=True)
        self._thread.start()

    def forget(self) -> None:
        """Remove what is kept: it is saved, or thrown away on purpose."""
        with self._writing:
            self._times_forgotten += 1
            self.shelter.forget()
            self.kept = None

    def _write(self, document: Document, path: Path | None) -> str:
        try:
            self.shelter.keep(document, path, self._clips)
        except (CloudriftError, OSError) as error:
            log.warning("unsaved work could not be backed up: %s", error)
            said = error if isinstance(error, OSError) else error.__cause__
            reason = said.strerror if isinstance(said, OSError) else ""
            return f"in {self.shelter.folder} ({reason or error})"
        return ""

    def _on_kept(self, document: Document, wrong: str, times: int) -> None:
        if wrong and wrong != self._wrong:
            words = f"Save soon: unsaved changes can't be backed up {wrong}"
            self.failed.emit(in_a_sentence(words))
        self._wrong = wrong
        if not wrong and times == self._times_forgotten:
            self.kept = document
