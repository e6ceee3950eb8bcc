"""The checks of the open loop: made beside the interface when its sound stands."""

from collections.abc import Callable

from PyQt6.QtCore import QObject, pyqtSignal

from cloudrift.deliver.checks import CHECKS, Checked, Heard, check_all, to_fix
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.timers import single_shot
from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.loop.model.document import Document

CHECKING = "checks"
REST_MS, SOON_MS = 2500, 300  # that nothing must have changed for; where the stage is seen
SLOW = ("tail",)  # made only while somebody looks: it is another render


class Checking(QObject):
    """What is to be fixed. ``changed`` when that is known again, or is no longer known."""

    changed = pyqtSignal()

    def __init__(self, session: Session, tasks: Tasks, parent: QObject) -> None:
        super().__init__(parent)
        self._session, self._tasks = session, tasks
        self.found: tuple[Checked, ...] = ()
        self.busy = False
        self.problem = ""
        self.target_lufs: float | None = session.preferences.now.target_lufs
        self.with_tail = False
        self._watched = False
        self._of: tuple[object, ...] = ()  # what was looked at last
        self._now_at: tuple[object, ...] = ()  # what is looked at
        self._rest = single_shot(self, self._check, REST_MS)
        session.changed.connect(self.refresh)
        session.opened.connect(self._begin)
        session.hearing.sound_changed.connect(self.refresh)

    @property
    def to_fix(self) -> int:
        """How many findings are not fine."""
        return to_fix(self.found)

    @property
    def is_current(self) -> bool:
        """Whether what was found is of the document as it is now."""
        return not self.busy and self._of == self._about()

    @property
    def words(self) -> str:
        """The same in words; nothing as long as nothing is known."""
        if not self.found:
            return ""
        return f"{self.to_fix} to fix" if self.to_fix else "nothing to fix"

    def finding(self, name: str) -> Checked | None:
        """Return what a check found, if it was made."""
        return next((one for one in self.found if one.check.name == name), None)

    def ask(self, *, target_lufs: float | None, with_tail: bool) -> None:
        """Take what is to be delivered into account."""
        if (target_lufs, with_tail) != (self.target_lufs, self.with_tail):
            self.target_lufs, self.with_tail = target_lufs, with_tail
            self.refresh()

    def hurry(self, *, on: bool) -> None:
        """The stage is seen: what is to fix is said soon, not only when the hand has rested."""
        self._rest.setInterval(SOON_MS if on else REST_MS)
        if on:
            self.refresh()

    def watch(self, *, on: bool) -> None:
        """Somebody looks at the checks: also the slow ones are made."""
        self._watched = on
        if on:
            self.refresh()

    def _begin(self) -> None:
        self.found = ()
        self.changed.emit()
        self.refresh()

    def refresh(self, *_: object) -> None:
        """Look again, when nothing has changed for a while; what is no more is left at once."""
        if self.busy and self._now_at != self._about():
            self._tasks.cancel(CHECKING)
        self._rest.start()

    def _check(self) -> None:
        session = self._session
        of = self._about()
        if of == self._of:
            return
        if session.hearing.busy:
            self._rest.start()
            return
        self.busy, self._now_at = True, of
        self.changed.emit()
        self._tasks.run(
            CHECKING,
            self._work(session.document.history.now),
            lambda found: self._came(found, of),
            lambda error: self._failed(error, of),
            lane=Lane.CHECKING,
        )

    @property
    def _names(self) -> tuple[str, ...]:
        return tuple(name for name in CHECKS if self._watched or name not in SLOW)

    def _about(self) -> tuple[object, ...]:
        """All that the checks depend on."""
        document = self._session.document.history.now
        return (
            document.loop,
            document.credits,
            document.arrangement,
            self._names,
            self.target_lufs,
            self.with_tail,
        )

    def _work(self, document: Document) -> Callable[..., object]:
        engine, names = self._session.engine, self._names
        target, with_tail = self.target_lufs, self.with_tail

        def work(stale: Callable[[], bool], _moved: object) -> tuple[Checked, ...]:
            heard = Heard(
                document, engine, target_lufs=target, with_tail=with_tail, cancelled=stale
            )
            return check_all(heard, names, lambda *_: self._tasks.give_way(stale))

        return work

    def _came(self, found: tuple[Checked, ...], of: tuple[object, ...]) -> None:
        self._of, self.found, self.busy, self.problem = of, found, False, ""
        self.changed.emit()

    def _failed(self, error: Exception, of: tuple[object, ...]) -> None:
        if of != self._now_at:
            return  # another is under way
        self.busy, self.problem = False, str(error)
        self.changed.emit()
