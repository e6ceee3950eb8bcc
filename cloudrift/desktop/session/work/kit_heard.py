"""The loops of a kit heard one after another, each as loud as the others."""

from collections.abc import Callable
from pathlib import Path

from msgspec.structs import replace

from cloudrift.audio.buffers import Stereo, to_gain
from cloudrift.audio.clips import ClipStore
from cloudrift.audio.loudness import integrated_lufs, true_peak_db
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.trouble import error_words
from cloudrift.desktop.session.work.instead import SubstitutePlayback
from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.ground.cancel import Cancelled
from cloudrift.loop.files.storage import load_document
from cloudrift.render.engine.engine import Engine

LISTENING = "a kit's loop"
AS_LOUD_LUFS, HIGHEST_DBTP = -20.0, -1.0


class KitHeard(SubstitutePlayback):
    """Renders a loop of a file and plays it; ``changed`` also while it is made."""

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__(session)
        self._tasks = tasks
        self.file: Path | None = None  # that is heard, or will be
        session.opened.connect(self._forget)
        session.changed.connect(lambda _b, _a: self.leave())  # whoever edits wants to hear that

    def hear(self, file: Path) -> None:
        """Hear the loop of a file, as soon as it is rendered."""
        self.file = file
        rate = self._session.player.rate
        self.changed.emit()

        def work(stale: Callable[[], bool], _moved: object) -> tuple[Stereo, float]:
            clips = ClipStore()
            loop = load_document(file, clips).loop
            engine = Engine(clips=clips)
            try:
                audio = engine.without_bed(replace(loop, rate=rate), stale)
            finally:
                engine.close()
            gain = min(
                AS_LOUD_LUFS - integrated_lufs(audio, rate), HIGHEST_DBTP - true_peak_db(audio)
            )
            return audio, to_gain(gain)

        self._tasks.run(
            LISTENING, work, lambda made: self._came(file, *made), self._failed, lane=Lane.ARRANGING
        )

    def _came(self, file: Path, audio: Stereo, gain: float) -> None:
        if file == self.file:
            self.play(audio, audio.shape[1], 0.0, gain)

    def _failed(self, error: Exception) -> None:
        self.file = None
        self.changed.emit()
        if not isinstance(error, Cancelled):
            self._session.say(error_words(error))

    def leave(self) -> None:
        """Hear the open loop again."""
        self._tasks.cancel(LISTENING)
        self.file = None
        super().leave()

    def _forget(self) -> None:
        self.leave()
        self._audio = None

    @property
    def words(self) -> str:
        """What is heard, for the heading."""
        return f"playing {self.file.stem}, of the kit" if self.file else ""
