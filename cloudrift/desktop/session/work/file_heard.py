"""A file heard before it is written: made beside the interface, in the loop's place."""

from collections.abc import Callable

from cloudrift.deliver.making import Making, Sound
from cloudrift.deliver.order import Order
from cloudrift.deliver.parcel import Parcel
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.trouble import error_words
from cloudrift.desktop.session.work.instead import SubstitutePlayback
from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.ground.cancel import Cancelled

LISTENING = "a file to export"


class FileHeard(SubstitutePlayback):
    """Makes what a parcel holds and plays it; ``changed`` also while it is made."""

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__(session)
        self._tasks = tasks
        self.name = ""  # of the file that is heard, or will be
        session.opened.connect(self.leave)
        session.changed.connect(lambda _b, _a: self.leave())  # whoever edits wants to hear that

    def hear(self, parcel: Parcel, order: Order) -> None:
        """Hear a file, as soon as it is made; once more: the loop again."""
        if parcel.name == self.name or parcel.sound is None:
            self.leave()
            return
        make, name = parcel.sound, parcel.name
        document, engine = self._session.document.history.now, self._session.engine
        self.name = name
        self.changed.emit()

        def work(stale: Callable[[], bool], _moved: object) -> Sound:
            return make(Making(document, order, engine, stale))

        def came(sound: Sound) -> None:
            if name == self.name:
                self.play(sound.audio, sound.audio.shape[1])

        self._tasks.run(LISTENING, work, came, self._failed, lane=Lane.ARRANGING)

    def _failed(self, error: Exception) -> None:
        self.name = ""
        self.changed.emit()
        if not isinstance(error, Cancelled):
            self._session.say(error_words(error))

    def leave(self) -> None:
        """Hear the open loop again."""
        self._tasks.cancel(LISTENING)
        if self.name:
            self.name = ""
            self.changed.emit()
        super().leave()

    @property
    def words(self) -> str:
        """What is heard, for the heading."""
        return f"playing {self.name}"
