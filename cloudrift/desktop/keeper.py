"""What is not saved is kept for after a crash: now, or beside the interface."""

import logging
import threading
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from cloudrift.ground.errors import CloudriftError, in_a_sentence
from cloudrift.loop import recovery
from cloudrift.loop.model import Loop

log = logging.getLogger(__name__)


class Keeper(QObject):
    """Keeps one loop at a time in a folder; ``failed`` says, once, why it could not."""

    failed = pyqtSignal(str)
    _came = pyqtSignal(object, str, int)  # Loop, what was wrong, how often was forgotten till then

    def __init__(self, folder: Path, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.folder = folder
        self.kept: Loop | None = None  # what lies in the folder
        self._writing = threading.Lock()  # held while it is written, or forgotten
        self._thread: threading.Thread | None = None
        self._times_forgotten = 0
        self._wrong = ""  # why it could not be kept the last time
        self._came.connect(self._on_kept)

    def keep(self, loop: Loop, path: Path | None) -> bool:
        """Keep a loop now, with where it is from; say whether it is safe."""
        if loop is self.kept:
            return True
        with self._writing:
            wrong = self._write(loop, path)
        self._on_kept(loop, wrong, self._times_forgotten)
        return not wrong

    def keep_soon(self, loop: Loop, path: Path | None) -> None:
        """Keep a loop on another thread, unless one is being kept at this moment."""
        if loop is self.kept or (self._thread is not None and self._thread.is_alive()):
            return
        times = self._times_forgotten

        def work() -> None:
            with self._writing:
                if times != self._times_forgotten:
                    return  # saved meanwhile, or another loop is open
                wrong = self._write(loop, path)
            self._came.emit(loop, wrong, times)

        self._thread = threading.Thread(target=work, name="keeper", daemon=True)
        self._thread.start()

    def forget(self) -> None:
        """Remove what is kept: it is saved, or thrown away on purpose."""
        with self._writing:
            self._times_forgotten += 1
            recovery.forget(self.folder)
            self.kept = None

    def _write(self, loop: Loop, path: Path | None) -> str:
        try:
            recovery.keep(loop, path, self.folder)
        except (CloudriftError, OSError) as error:
            log.warning("unsaved work could not be kept: %s", error)
            said = error if isinstance(error, OSError) else error.__cause__
            reason = said.strerror if isinstance(said, OSError) else ""
            return f"in {self.folder} ({reason or error})"
        return ""

    def _on_kept(self, loop: Loop, wrong: str, times: int) -> None:
        if wrong and wrong != self._wrong:
            words = f"Save soon: changes can't be kept against a crash {wrong}"
            self.failed.emit(in_a_sentence(words))
        self._wrong = wrong
        if not wrong and times == self._times_forgotten:
            self.kept = loop
