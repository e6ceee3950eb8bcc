"""Mishaps: an uncaught exception is logged, the work is kept, and it is said in a sentence.

Without this an exception in a slot would end the program. Errors of a composer's are said in their
own words; anything else is a fault of ours, and its trace goes to a file.
"""

import logging
import logging.handlers
import sys
import threading
import time
import traceback
from collections.abc import Callable
from pathlib import Path
from types import TracebackType

from platformdirs import user_state_path
from PyQt6.QtCore import QObject, pyqtSignal

from cloudrift.audio.files import make_folder
from cloudrift.ground.errors import CloudriftError, in_a_sentence

log = logging.getLogger(__name__)

FILE, MOST_BYTES = "mishaps.log", 1 << 20
AGAIN_S = 5.0  # the same fault within that is the same mishap: painting may raise at every frame


def log_file() -> Path:
    """Return where traces go (``$XDG_STATE_HOME/cloudrift/mishaps.log``)."""
    return user_state_path("cloudrift") / FILE


def log_to_file() -> None:
    """Let every log of the program go to the file too; where there is no room, to nowhere."""
    path = log_file()
    try:
        make_folder(path.parent, private=True)
        handler = logging.handlers.RotatingFileHandler(
            path, maxBytes=MOST_BYTES, backupCount=1, encoding="utf-8", delay=True
        )
    except (CloudriftError, OSError):
        return
    handler.setFormatter(logging.Formatter("%(asctime)s %(name)s %(levelname)s %(message)s"))
    ours = logging.getLogger("cloudrift")
    ours.addHandler(handler)
    ours.setLevel(logging.INFO)


class Mishaps(QObject):
    """``said`` carries a sentence, on the interface's thread; ``keep`` is called before it.

    It hears of what no slot and no thread has caught, from ``install`` on until ``remove``.
    """

    said = pyqtSignal(str)
    _came = pyqtSignal(object)

    def __init__(self, keep: Callable[[], object], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._keep = keep
        self._last: tuple[str, float] = ("", -AGAIN_S)
        self._before = sys.excepthook, threading.excepthook
        self._came.connect(self._tell)

    def install(self) -> None:
        """Take what is raised and not caught."""
        self._before = sys.excepthook, threading.excepthook
        sys.excepthook = self.take
        threading.excepthook = self._take_from_thread

    def remove(self) -> None:
        """Let others take it again."""
        sys.excepthook, threading.excepthook = self._before

    def take(
        self, kind: type[BaseException], error: BaseException, trace: TracebackType | None
    ) -> None:
        """Log an error and say it; one that ends the program on purpose does so."""
        if not issubclass(kind, Exception):
            sys.__excepthook__(kind, error, trace)
            return
        assert isinstance(error, Exception)
        where = "".join(traceback.format_exception(kind, error, trace))
        now = time.monotonic()
        again = where == self._last[0] and now - self._last[1] < AGAIN_S
        self._last = where, now
        if again:
            return
        if not isinstance(error, CloudriftError):
            log.error("an uncaught exception\n%s", where)
        self._came.emit(error)

    def _take_from_thread(self, args: threading.ExceptHookArgs) -> None:
        if args.exc_value is not None:
            self.take(args.exc_type, args.exc_value, args.exc_traceback)

    def _tell(self, error: Exception) -> None:
        try:
            self._keep()
        except Exception as trouble:
            log.exception("the work could not be kept after an unexpected error", exc_info=trouble)
        self.said.emit(mishap_words(error))


def mishap_words(error: Exception) -> str:
    """Say what happened and what to do, in a sentence."""
    if isinstance(error, CloudriftError):
        return in_a_sentence(str(error))
    what = in_a_sentence(str(error) or type(error).__name__, 120)
    return (
        f"That step failed inside the program ({what}); your work is kept; go on or undo. Details "
        f"are in {log_file()}"
    )
