"""The demo file heard before it is written: made beside the interface, in the loop's place."""

from bisect import bisect_right
from collections.abc import Callable
from itertools import accumulate

from PyQt6.QtCore import pyqtSignal

from cloudrift.audio.buffers import Stereo
from cloudrift.deliver.demo_sound import demo_sound, lengths_of
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.trouble import error_words
from cloudrift.desktop.session.work.instead import SubstitutePlayback
from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.ground.cancel import Cancelled
from cloudrift.loop.model.demo_file import fitted
from cloudrift.loop.model.document import Document

MAKING = "the demo file"


class DemoHeard(SubstitutePlayback):
    """``changed`` also when it is being made; ``moved`` says how far that is."""

    moved = pyqtSignal(float, str)

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__(session)
        self._tasks = tasks
        self.busy = False
        self._of: Document | None = None  # what the sound is of
        self._wanted = 0  # the part that it begins with
        self._starts: tuple[int, ...] = (0,)
        session.changed.connect(lambda _b, _a: self._follow())
        session.opened.connect(self._forget)

    def hear(self, at: int = 0) -> None:
        """Hear it from a part on, as soon as it is made; it plays."""
        self._wanted = at
        if self._audio is not None and self._of is self._session.document.history.now:
            self._begin(self._audio)
        else:
            self._make()

    def stop_making(self) -> None:
        """Leave what is being made."""
        self._tasks.cancel(MAKING)
        self._rest()

    def _make(self) -> None:
        document, engine = self._session.document.history.now, self._session.engine
        self.busy = True
        self.changed.emit()

        def work(stale: Callable[[], bool], moved: Callable[[float, str], None]) -> Stereo:
            audio, _cues = demo_sound(
                engine, document, lambda done, of, what: moved(done / of, what), stale
            )
            return audio

        self._tasks.run(
            MAKING,
            work,
            lambda audio: self._came(audio, document),
            self._failed,
            self.moved.emit,
            lane=Lane.ARRANGING,
        )

    def _came(self, audio: Stereo, document: Document) -> None:
        self._of = document
        lengths = lengths_of(document.loop, fitted(document.demo, document.loop))
        self._starts = (0, *accumulate(lengths))
        self._rest()
        if self.on:
            self.swap(audio, document.loop.sounding_frames)
        else:
            self._begin(audio)

    def _begin(self, audio: Stereo) -> None:
        first = self._starts[min(self._wanted, len(self._starts) - 1)]
        self.play(audio, self._session.loop.sounding_frames, first / audio.shape[1])

    def _failed(self, error: Exception) -> None:
        self._rest()
        if not isinstance(error, Cancelled):
            self._session.say(error_words(error))

    def _rest(self) -> None:
        self.busy = False
        self.changed.emit()

    def _follow(self) -> None:
        """Something has changed: what is heard is made again, or rests where there is none."""
        if not self.on:
            return
        now = self._session.document.history.now
        if not fitted(now.demo, now.loop).parts:
            self.leave()
        elif now is not self._of:
            self._make()

    def _forget(self) -> None:
        self.leave()
        self._tasks.cancel(MAKING)
        self._audio = self._of = None

    @property
    def at(self) -> int:
        """Which part sounds."""
        return max(0, min(bisect_right(self._starts, self.frame) - 1, len(self._starts) - 2))

    @property
    def words(self) -> str:
        """What is heard, for the heading."""
        now = self._session.document.history.now
        parts = fitted(now.demo, now.loop).parts
        name = parts[self.at].name if self.at < len(parts) else "the ending"
        return f"playing the demo file, {name}"
