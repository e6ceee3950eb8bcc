"""Singing over the arrangement: the microphone kept while it plays, cut where it began."""

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.arranged import Arranged
from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.devices.microphone import Microphone, StandInMicrophone, open_microphone
from cloudrift.exchange.recipes import recipes
from cloudrift.exchange.stand_in import sound_of
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.arranging.arranging import add_take
from cloudrift.render.forms.trial_voice import kept_in
from cloudrift.render.play.capture import Capture
from cloudrift.render.play.player import PERIODS
from cloudrift.texture.way_in import made_ready

FOLLOW_MS, TAIL_MS = 25, 150
TASK = "the guide vocal"
PHRASE_PEAK, LEAST_S = 0.35, 0.5
NOTHING_DB = -60.0


class VoiceTaker(QObject):
    """``moved``: it has begun or ended. It ends with ``finish``, with playing, or with the end."""

    moved = pyqtSignal()

    def __init__(self, session: Session, tasks: Tasks, arranged: Arranged) -> None:
        super().__init__(session)
        self._session, self._tasks, self._arranged = session, tasks, arranged
        self._microphone: Microphone | None = None
        self._capture = Capture(session.player.rate, lambda: session.player.handing)
        self._began: tuple[int, int] | None = None  # frames handed out, frame of the arrangement
        self._at, self._frames = -1, 0
        self.taking = False
        self._clock = QTimer(self)
        self._clock.setInterval(FOLLOW_MS)
        self._clock.timeout.connect(self._follow)
        session.opened.connect(self.drop)
        arranged.changed.connect(self._look)

    @property
    def late_ms(self) -> float:
        """How late sound comes in: as it was measured for this microphone, else as is usual."""
        transport, microphone = self._session.transport, self._microphone
        name = microphone.name if microphone else ""
        place = f"{name} / {transport.speaker.name} / {transport.buffer_ms} ms"
        usual = (microphone.late_ms if microphone else None) or (
            PERIODS * transport.buffer_ms + 20.0
        )
        return self._session.preferences.now.late_ms.get(place, usual)

    def begin(self, at: int) -> None:
        """Sing from a section on; where there is no microphone, a stand-in does."""
        session = self._session
        if self.taking or not session.document.history.now.arrangement.sections:
            return
        self._capture = Capture(session.player.rate, lambda: session.player.handing)
        try:
            self._microphone = open_microphone(
                session.player.rate, "", lambda: session.player.handing
            )
        except CloudriftError as error:
            session.say(str(error))
            return
        self.taking = True
        self.moved.emit()
        if not isinstance(self._microphone, StandInMicrophone):
            self._go(at)
            return
        loop = session.loop
        fits = [one for one in recipes().values() if one.kind == "phrase" and "sung" in one.words]
        number = len(session.document.history.now.arrangement.takes)

        def phrase(stale: Callable[[], bool], _moved: object) -> np.ndarray:
            audio, _rate = sound_of(fits[number % len(fits)], stale, loop)
            mono = audio.mean(axis=0)
            return np.asarray(
                mono * (PHRASE_PEAK / max(1e-9, float(np.abs(mono).max()))), np.float32
            )

        def cue(sung: np.ndarray) -> None:
            if self.taking and isinstance(self._microphone, StandInMicrophone):
                turns = 1 + int(self._capture.rate * 600 / max(1, len(sung)))
                self._microphone.cue(np.tile(sung, min(turns, 32)), free=True)
                session.transport.overheard = self._microphone.overhear
                self._go(at)

        self._tasks.run(TASK, phrase, cue, self._failed, lane=Lane.READING)

    def _go(self, at: int) -> None:
        microphone = self._microphone
        assert microphone is not None
        try:
            microphone.start(self._capture.push)
        except CloudriftError as error:
            self._failed(error)
            return
        self._arranged.hear(at)
        self._capture.begin()
        self._began, self._at = None, -1
        self._clock.start()

    def _follow(self) -> None:
        stamp = self._session.player.stamp
        if stamp.at < 0:
            return
        if self._began is None and stamp.loop_frames == self._arranged.frames:
            self._began, self._frames = (stamp.handed, stamp.at), stamp.loop_frames
        ended = not self._session.player.playing or stamp.at < self._at
        self._at = stamp.at
        if self._began is not None and ended:
            self.finish()

    def _look(self) -> None:
        if self.taking and self._began is not None and not self._arranged.on:
            self.finish()

    def finish(self) -> None:
        """Stop; what was sung to the last that was heard is waited for, then it is a take."""
        if not self.taking or not self._clock.isActive():
            self.drop()
            return
        self._clock.stop()
        self._session.transport.set_playing(False)
        QTimer.singleShot(round(self.late_ms) + TAIL_MS, self._end)

    def _end(self) -> None:
        if not self.taking:
            return
        self._capture.keeping = False
        rate, began = self._capture.rate, self._began
        late = self.late_ms / 1000 * rate
        first = self._capture.input_frame_at(began[0], late) if began else 0
        audio = self._capture.audio()[:, max(0, first) :]
        self._close()
        loud = 20 * np.log10(float(np.abs(audio).max(initial=0.0)) + 1e-9)
        if began is None or audio.shape[1] < LEAST_S * rate or loud < NOTHING_DB:
            self._session.say("no input, so there is no take; check the microphone")
            return
        at_s, clips = began[1] / rate, self._session.clips

        def keep(_stale: object, _moved: object) -> tuple[str, ...]:
            return kept_in(clips, made_ready(audio, rate), rate)

        def kept(names: tuple[str, ...]) -> None:
            self._session.document.change(
                "a take of the guide vocal", lambda document: add_take(document, names, at_s)
            )

        self._tasks.run(TASK, keep, kept, self._failed, lane=Lane.READING)

    def _failed(self, error: Exception) -> None:
        self._close()
        self._session.say(str(error))

    def drop(self) -> None:
        """Let it be: another document is open, or it has not begun."""
        self._tasks.cancel(TASK)
        self._close()

    def _close(self) -> None:
        self._clock.stop()
        self._capture.keeping = False
        self._session.transport.overheard = None
        microphone, self._microphone = self._microphone, None
        if microphone is not None:
            microphone.close()
        if self.taking:
            self.taking = False
            self.moved.emit()
