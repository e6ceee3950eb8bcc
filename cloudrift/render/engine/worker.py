"""Rendering beside the interface: the newest request wins, and a long drag is still heard.

A request that has gone stale stops between two steps, except when the one before it was stopped
too: every second one may finish, so that moving a field without pause is heard as it moves.
"""

import threading
import time
from collections.abc import Callable
from functools import partial

from cloudrift.audio.looped import SplicedLoop
from cloudrift.ground.cancel import Cancelled
from cloudrift.ground.memory import give_back
from cloudrift.loop.model.loop import Loop
from cloudrift.render.engine.ahead import ahead, get_ready
from cloudrift.render.engine.engine import Engine, Loudness, Rendered
from cloudrift.render.plan.plan import heard_node

# Memory is given back to the system so often while there is more to be done, and after such a rest.
GIVE_BACK_S, REST_S = 0.4, 0.3
Answer = Callable[[str, Rendered], None]
Measured = Callable[[str, Rendered, Loudness], None]
Soon = Callable[[SplicedLoop], None]
Failure = Callable[[str, Exception], None]


class RenderWorker:
    """A thread that renders the newest loop of each name (``treated``, ``bare``) in turn."""

    def __init__(
        self,
        engine: Engine,
        answer: Answer,
        measured: Measured,
        failed: Failure,
        *,
        where: Callable[[], float | None] = lambda: None,
        soon: Soon = lambda _audio: None,
        between: Callable[[], object] = lambda: None,
        rested: Callable[[], object] = lambda: None,
    ) -> None:
        """``where`` tells where the sound is while it plays; ``soon`` takes what comes next there.

        What comes next is there long before the whole loop is. ``between`` is called between its
        steps, and may hold it up for something more urgent. ``rested`` is called when nothing is
        left to do, however it came out.
        """
        self._engine = engine
        self._where, self._soon, self._between, self._rested = where, soon, between, rested
        self._answer = answer
        self._measured = measured
        self._failed = failed
        self._wanted: dict[str, Loop] = {}
        self._change = threading.Condition()
        self._closing = False
        self._running: str | None = None
        self._was_cancelled = False
        self._dropped = False
        self._given_back = time.monotonic()
        self._ready_for: Loop | None = None  # for the first look ahead of which all is to be made
        self._thread = threading.Thread(target=self._run, name="render worker", daemon=True)
        self._thread.start()

    @property
    def busy(self) -> bool:
        """Whether anything is being rendered or waits to be."""
        with self._change:
            return bool(self._wanted) or self._running is not None

    def ask(self, name: str, loop: Loop) -> None:
        """Want a loop rendered under a name; an older wish under that name is dropped."""
        with self._change:
            self._wanted.pop(name, None)
            self._wanted[name] = loop
            self._dropped = False
            self._change.notify_all()

    def drop(self) -> None:
        """Want nothing for now: something else comes first, and is followed by another wish."""
        with self._change:
            self._wanted.clear()
            self._dropped, self._ready_for = True, None

    def stop(self) -> None:
        """Want nothing more; the thread ends after the current step."""
        with self._change:
            self._closing = True
            self._wanted.clear()
            self._change.notify_all()

    def has_ended(self, within_s: float | None = None) -> bool:
        """Wait so long for the thread (None: as long as it takes); say whether it has ended."""
        self._thread.join(None if within_s is None else max(0.0, within_s))
        return not self._thread.is_alive()

    def close(self) -> None:
        """Stop after the current step and wait for the thread."""
        self.stop()
        self.has_ended()

    def _is_called(self) -> bool:
        return self._closing or bool(self._wanted)

    def _called_meanwhile(self) -> bool:
        with self._change:
            return self._dropped or self._is_called()

    def _get_ready(self) -> None:
        """Make ready what the next edit will want first, as long as none comes."""
        loop, self._ready_for = self._ready_for, None
        if loop is None:
            return
        try:
            get_ready(heard_node(loop, self._engine.tones), loop, self._called_meanwhile)
        except Exception as error:
            self._failed("treated", error)

    def _stale(self, name: str) -> bool:
        with self._change:
            called = name in self._wanted and not self._was_cancelled
            return self._closing or self._dropped or called

    def _look_ahead(self, name: str, loop: Loop) -> None:
        share = self._where() if name == "treated" else None
        if share is not None:
            for audio in ahead(self._engine, loop, share, self._between):
                if self._stale(name):
                    return
                self._soon(audio)

    def _tidy(self) -> None:
        """Give memory back, now and then; also between the steps of a long render."""
        if time.monotonic() - self._given_back > GIVE_BACK_S:
            self._given_back = time.monotonic()
            give_back()

    def _may_not_go_on(self, name: str) -> bool:
        """Asked between two steps."""
        self._tidy()
        return self._stale(name)

    def _run(self) -> None:
        while True:
            with self._change:
                self._running = None
                if self._closing:  # whoever would be told may be gone
                    return
                rests = not self._wanted
            if rests:
                self._rested()
                self._get_ready()
            else:
                self._tidy()
            with self._change:
                called = self._change.wait_for(self._is_called, REST_S)
            if not called:  # not between two edits: after the last of them
                give_back()
            with self._change:
                self._change.wait_for(self._is_called)
                if self._closing:
                    return
                # What is heard now comes before what could be compared with it.
                name = next(iter(sorted(self._wanted, key=lambda n: n != "treated")))
                loop = self._wanted.pop(name)
                self._running = name
            try:
                self._look_ahead(name, loop)
                rendered = self._engine.render(loop, partial(self._may_not_go_on, name), name=name)
                self._was_cancelled = False
                if self._closing:
                    return
                # Heard first, measured after: the ear does not wait for the meter.
                self._answer(name, rendered)
                if not self._stale(name):
                    self._measured(name, rendered, self._engine.loudness(rendered))
                if name == "treated":
                    self._ready_for = loop
            except Cancelled:
                self._was_cancelled = True
            except Exception as error:
                self._failed(name, error)
