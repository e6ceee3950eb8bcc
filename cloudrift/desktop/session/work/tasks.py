"""Work beside the interface: pictures and files, with cancel and progress.

The newest task of a name replaces the older one: its answer is dropped and, where it asks, it is
told that it is no longer wanted. What is slow has a lane of its own, so that nothing seen waits
for a file.
"""

import itertools
import time
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor, wait
from enum import Enum
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from cloudrift.desktop.session.trouble import error_words
from cloudrift.ground.cancel import Cancelled
from cloudrift.ground.errors import CloudriftError

Work = Callable[[Callable[[], bool], Callable[[float, str], None]], Any]


class Lane(Enum):
    """Tasks of one lane run one after another, those of different lanes beside each other."""

    PICTURES = "pictures"  # what is seen of the loop as it is now
    OPENING = "opening"  # loop files: soon done
    READING = "reading"  # recordings and MIDI files, which are listened to
    WRITING = "writing"
    INDEXING = "indexing"  # folders of recordings
    ARRANGING = "arranging"  # sections, one after another
    CHECKING = "checking"  # what is to be fixed before a loop is handed over
    ASKING = "asking"  # what is elsewhere, or in many files
    AHEAD = "ahead"  # what the next edit will want
    LEISURE = "leisure"  # what may come to be wanted: its thread lets all others come first


WAITED_FOR = (Lane.OPENING, Lane.READING)  # a hand waits for what comes of them
REST_S = 0.01


class Tasks(QObject):
    """Runs tasks on a thread for each lane and answers on the interface's thread."""

    broke = pyqtSignal(str)  # what went wrong, in a sentence
    _done = pyqtSignal(str, int, object)
    _failed = pyqtSignal(str, int, object)
    _moved = pyqtSignal(str, int, float, str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pools: dict[Lane, ThreadPoolExecutor] = {}  # a thread begins with its first task
        self._numbers = itertools.count(1)
        self._closed = False
        self._futures: list[tuple[Lane, Future[None]]] = []  # that have not ended
        self._current: dict[str, int] = {}
        self._answers: dict[int, tuple[Callable[..., None], ...]] = {}
        self._done.connect(self._on_done)
        self._failed.connect(self._on_failed)
        self._moved.connect(self._on_moved)

    def run(
        self,
        name: str,
        work: Work,
        done: Callable[[Any], None],
        failed: Callable[[Exception], None] | None = None,
        moved: Callable[[float, str], None] = lambda _share, _text: None,
        *,
        lane: Lane = Lane.PICTURES,
    ) -> None:
        """Run ``work(cancelled, progress)``; progress takes a share (0-1) and words.

        ``failed`` hears a CloudriftError, or Cancelled; any other fault is logged and becomes
        one. Where it is not given, what failed is said by ``broke``.
        """
        if self._closed:
            return  # a signal that was under way when the window closed
        number = next(self._numbers)
        self._current[name] = number
        self._answers[number] = (done, failed or self._say_failed, moved)

        def stale() -> bool:
            return self._current.get(name) != number

        def moved_here(share: float, text: str) -> None:
            if not self._closed:
                self._moved.emit(name, number, share, text)

        def body() -> None:
            if self._closed:
                return  # nobody hears of it, and what would tell may be gone
            if stale():
                self._failed.emit(name, number, Cancelled())
                return
            try:
                answer = work(stale, moved_here)
            except Exception as error:
                said: Exception = error
                if stale():  # what goes wrong with what nobody wants is neither said nor logged
                    said = Cancelled()
                elif not isinstance(error, CloudriftError | Cancelled):
                    said = CloudriftError(error_words(error, f"{name} failed"))
                if not self._closed:
                    self._failed.emit(name, number, said)
            else:
                if not self._closed:
                    self._done.emit(name, number, answer)

        self._futures = [one for one in self._futures if not one[1].done()]
        if lane not in self._pools:
            self._pools[lane] = ThreadPoolExecutor(1, thread_name_prefix=lane.value)
        self._futures.append((lane, self._pools[lane].submit(body)))

    def give_way(self, stale: Callable[[], bool]) -> None:
        """Hold as long as anything runs that a hand waits for, unless the task is ``stale``.

        For what nobody waits for, between two of its parts: never in the middle of a step of an
        engine, for which others may wait.
        """
        while not stale() and any(
            lane in WAITED_FOR and not one.done() for lane, one in self._futures
        ):
            time.sleep(REST_S)

    def _say_failed(self, error: Exception) -> None:
        if not isinstance(error, Cancelled):
            self.broke.emit(error_words(error))

    def cancel(self, name: str) -> None:
        """Want a task no longer; it answers with Cancelled."""
        self._current.pop(name, None)

    def is_running(self, name: str) -> bool:
        """Whether a task of a name is still to answer."""
        return name in self._current

    def stop(self) -> None:
        """Drop everything; the threads end when what runs has heard of it."""
        self._closed = True
        self._current.clear()
        for pool in self._pools.values():
            pool.shutdown(wait=False, cancel_futures=True)
        self._answers.clear()

    def has_ended(self, within_s: float) -> bool:
        """Wait so long for what runs; say whether it has ended."""
        running = [one for _lane, one in self._futures if not one.cancelled()]
        return not wait(running, max(0.0, within_s)).not_done

    def _on_done(self, name: str, number: int, answer: object) -> None:
        done, _, _ = self._answers.pop(number, (None, None, None))
        if done is not None and self._current.get(name) == number:
            del self._current[name]
            done(answer)

    def _on_failed(self, name: str, number: int, error: Exception) -> None:
        _, failed, _ = self._answers.pop(number, (None, None, None))
        if failed is None:
            return
        if self._current.get(name) == number:
            del self._current[name]
            failed(error)
        else:  # it went wrong before nobody wanted it, and is told of after that
            failed(Cancelled())

    def _on_moved(self, name: str, number: int, share: float, text: str) -> None:
        answers = self._answers.get(number)
        if answers is not None and self._current.get(name) == number:
            answers[2](share, text)
