"""The demo file heard before it is written: made beside the interface, in the loop's place."""

from bisect import bisect_right
from collections.abc import Callable

from PyQt6.QtCore import QObject, pyqtSignal

from cloudrift.audio.buffers import Stereo
from cloudrift.deliver.demo_sound import demo_sound, lengths_of
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.tasks import Lane, Tasks
from cloudrift.desktop.session.trouble import error_words
from cloudrift.ground.wanted import Cancelled
from cloudrift.loop.demo_file import fitted
from cloudrift.loop.document import Document

MAKING = "the demo file"


class DemoHeard(QObject):
    """``changed``: it is heard, or no longer, or made anew; ``moved`` says how far that is."""

    changed = pyqtSignal()
    moved = pyqtSignal(float, str)

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__(session)
        self._session, self._tasks = session, tasks
        self.on = self.busy = False
        self._audio: Stereo | None = None
        self._of: Document | None = None  # what the sound is of
        self._wanted = 0  # the part that it begins with
        self._starts: tuple[int, ...] = (0,)
        session.changed.connect(lambda _b, _a: self._follow())
        session.opened.connect(self._forget)
        session.hearing.shown_changed.connect(self._give_way)

    # --- hearing ------------------------------------------------------------------------------

    def hear(self, at: int = 0) -> None:
        """Hear it from a part on, as soon as it is made; it plays."""
        self._wanted = at
        if self._audio is not None and self._of is self._session.document.history.now:
            self._play(self._audio)
        else:
            self._make()

    def stop_making(self) -> None:
        """Leave what is being made."""
        self._tasks.cancel(MAKING)
        self._rest()

    def leave(self) -> None:
        """Hear the loop again."""
        if not self.on:
            return
        transport = self._session.transport
        share = transport.share
        self.on = False
        transport.long = None
        self._session.hearing.follow_long()
        self._session.player.seek(share)
        self.changed.emit()

    def _make(self) -> None:
        document, engine = self._session.document.history.now, self._session.engine
        self.busy = True
        self.changed.emit()

        def work(stale: Callable[[], bool], moved: Callable[[float, str], None]) -> Stereo:
            audio, _cues = demo_sound(
                engine, document, lambda done, of, what: moved(done / of, what), stale
            )
            return audio

        self._tasks.run(MAKING, work, lambda audio: self._came(audio, document), self._failed,
                        self.moved.emit, lane=Lane.ARRANGING)  # fmt: skip

    def _came(self, audio: Stereo, document: Document) -> None:
        self._audio, self._of = audio, document
        lengths = lengths_of(document.loop, fitted(document.demo, document.loop))
        starts = [0]
        for one in lengths:
            starts.append(starts[-1] + one)
        again = self.on
        self._starts = tuple(starts)
        self._rest()
        if again:  # it goes on where it is
            self._session.player.load(audio)
        else:
            self._play(audio)

    def _play(self, audio: Stereo) -> None:
        session = self._session
        session.transport.hear_part(0, 1)
        self.on = True
        session.transport.long = self
        session.player.load(audio)
        first = self._starts[min(self._wanted, len(self._starts) - 1)]
        session.player.seek(first / audio.shape[1])
        session.transport.set_playing(True)
        session.hearing.follow_long()
        self.changed.emit()

    def _failed(self, error: Exception) -> None:
        self._rest()
        if not isinstance(error, Cancelled):
            self._session.say(error_words(error))

    def _rest(self) -> None:
        self.busy = False
        self.changed.emit()

    def _follow(self) -> None:
        """Something has changed: what is heard is made anew, or rests where there is none."""
        if not self.on:
            return
        now = self._session.document.history.now
        if not fitted(now.demo, now.loop).parts:
            self.leave()
        elif now is not self._of:
            self._make()

    def _give_way(self) -> None:
        if self._session.hearing.previewing:
            self.leave()

    def _forget(self) -> None:
        self.leave()
        self._tasks.cancel(MAKING)
        self._audio = self._of = None

    # --- where it is --------------------------------------------------------------------------

    @property
    def _frames(self) -> int:
        return self._audio.shape[1] if self._audio is not None else 1

    @property
    def share(self) -> float | None:
        """Where in all of it the sound is; None while another thing is heard."""
        return self._session.player.share if self.on else None

    @property
    def at(self) -> int:
        """Which part sounds."""
        frame = self._session.player.share * self._frames
        return max(0, min(bisect_right(self._starts, frame) - 1, len(self._starts) - 2))

    def inside(self, share: float) -> float:
        """Return where in the loop a place in it is (0-1)."""
        turn = max(1, self._session.loop.sounding_frames)
        return share * self._frames % turn / turn

    def outside(self, share: float) -> float:
        """Return where in it a place in the loop is, in the turn that sounds (0-1)."""
        turn = max(1, self._session.loop.sounding_frames)
        first = self._session.player.share * self._frames // turn * turn
        return min(first + share * turn, self._frames - 1) / self._frames

    @property
    def words(self) -> str:
        """What is heard, for the heading."""
        now = self._session.document.history.now
        parts = fitted(now.demo, now.loop).parts
        name = parts[self.at].name if self.at < len(parts) else "its end"
        return f"heard: demo file, {name}"
