"""While the hands rest: tones for the edits and keys that may come next."""

import time
from collections.abc import Callable

from PyQt6.QtCore import QObject

from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.timers import single_shot
from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.ground.leisure import be_nice
from cloudrift.render.engine.tones_ahead import compute_ahead

AHEAD, REST_MS, GIVE_WAY_S = "tones ahead", 700, 0.02
NICE = 15


class TonesAhead(QObject):
    """Begins when all has been heard and nothing has been touched for a moment; ends with that."""

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__(session)
        self._session, self._tasks = session, tasks
        self._rest = single_shot(self, self._begin, REST_MS)
        session.hearing.busy_changed.connect(self._wait)
        session.selected.connect(self._wait)
        session.changed.connect(self._wait)

    def _wait(self, *_: object) -> None:
        self._tasks.cancel(AHEAD)
        self._rest.start()

    def _begin(self) -> None:
        session = self._session
        hearing, loop, chosen = session.hearing, session.loop, session.selection
        tones = session.engine.tones
        if hearing.busy or not tones.are_kept:
            return  # it begins when that has been heard

        def work(stale: Callable[[], bool], _moved: object) -> int:
            be_nice(NICE)

            def leave() -> bool:
                while hearing.once.busy and not stale():
                    time.sleep(GIVE_WAY_S)
                self._tasks.give_way(stale)
                return stale() or hearing.busy

            return compute_ahead(tones, loop, chosen.chord_id, chosen.layer_id, leave)

        self._tasks.run(AHEAD, work, lambda _made: None, lane=Lane.LEISURE)
