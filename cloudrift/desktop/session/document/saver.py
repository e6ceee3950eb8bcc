"""Loop files are written beside the interface, one after another, each whole or not at all."""

import itertools
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor, wait
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from cloudrift.audio.clips import ClipStore
from cloudrift.desktop.session.trouble import error_words
from cloudrift.loop.files.storage import save, signature
from cloudrift.loop.model.document import Document


@dataclass(frozen=True, kw_only=True)
class Written:
    """What came of a save: what tells the file from any other, or what was wrong."""

    document: Document
    path: Path
    seen: tuple[int, ...] | None = None
    wrong: str = ""


class Saver(QObject):
    """Saves documents on a thread of its own; answers come on the interface's thread."""

    _wrote = pyqtSignal(int, object)  # number, Written

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="saving")
        self._numbers = itertools.count()
        self._answers: dict[int, Callable[[Written], None]] = {}
        self._waiting: list[Callable[[], object]] = []
        self._last: Future[None] | None = None
        self._wrote.connect(self._on_wrote)

    @property
    def busy(self) -> bool:
        """Whether anything is being written, or its answer is on its way."""
        return bool(self._answers)

    def when_rested(self, act: Callable[[], object]) -> None:
        """Do something as soon as nothing is being written."""
        if self.busy:
            self._waiting.append(act)
        else:
            act()

    def save(
        self, document: Document, path: Path, clips: ClipStore, answer: Callable[[Written], None]
    ) -> None:
        """Write a document with its recordings; ``answer`` hears what came of it."""
        number = next(self._numbers)
        self._answers[number] = answer

        def work() -> None:
            try:
                save(document, path, clips)
            except Exception as error:
                wrong = error_words(error, f"{path} could not be written")
                written = Written(document=document, path=path, wrong=wrong)
            else:
                written = Written(document=document, path=path, seen=signature(path))
            self._wrote.emit(number, written)

        self._last = self._pool.submit(work)

    def _on_wrote(self, number: int, written: Written) -> None:
        self._answers.pop(number)(written)
        if not self.busy:
            waiting, self._waiting = self._waiting, []
            for act in waiting:
                act()

    def stop(self) -> None:
        """Take no more; what is being written is written."""
        self._pool.shutdown(wait=False)

    def has_ended(self, within_s: float) -> bool:
        """Wait so long for what is being written; say whether it is done."""
        return self._last is None or not wait([self._last], max(0.0, within_s)).not_done
