"""Taking: the microphone opened, counting in, keeping what comes, and cutting it into takes."""

import math
import time
from collections.abc import Callable
from dataclasses import dataclass
from enum import Enum

import msgspec
import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QObject, Qt, QTimer, pyqtSignal

from cloudrift.audio.buffers import Stereo, to_db
from cloudrift.desktop.session.hearing.hearing import TREATED
from cloudrift.desktop.session.hearing.preview import Preview
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.devices.microphone import Microphone, StandInMicrophone, open_microphone
from cloudrift.exchange.recipes import recipes
from cloudrift.exchange.stand_in import sound_of
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.layers.sung import Over, heard_meanwhile
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.sounding import key_of_layers
from cloudrift.notes.time import beat_ticks
from cloudrift.render.play import capture
from cloudrift.render.play.capture import Capture, Turn
from cloudrift.render.play.player import PERIODS
from cloudrift.render.play.take import OneShot
from cloudrift.theory.key import Key

FOLLOW_MS = 25
GONE_S = 3.0  # without a block: the microphone is no longer there
TAIL_MS = 120  # what was sung to the last that was heard is still on its way
TEST_MS = 2200
MOST_LATE_MS = 1000 * capture.MOST_LATE_S
PHRASE_TASK = "the stand-in's phrase"
PHRASE_PEAK = 0.35  # that the stand-in sings
MOST_TAKEN_S = 600.0  # in all takes that are kept: 230 MB


class State(Enum):
    """What taking is at."""

    OFF = "off"
    STANDS = "stands"
    PREPARES = "prepares"  # the stand-in looks for what it sings
    COUNT_IN = "count-in"
    TAKES = "takes"
    ENDS = "ends"
    MEASURES = "measures"


@dataclass(frozen=True, kw_only=True)
class Take:
    """One take as it was sung, and what it was sung to."""

    number: int
    turn: Turn
    rate: int
    over: Over
    pitched: bool
    tempo: float
    key: Key
    by: str
    rest: Stereo | None  # what was heard meanwhile

    @property
    def name(self) -> str:
        """What it is called."""
        return f"Take {self.number}"

    @property
    def in_time(self) -> bool:
        """Whether it was sung to the loop or its click."""
        return self.over is not Over.NOTHING

    @property
    def lead_s(self) -> float:
        """Where in it the loop begins."""
        return self.turn.lead / self.rate

    @property
    def seconds(self) -> float:
        """How long it is."""
        return self.turn.audio.shape[1] / self.rate

    @property
    def peak_db(self) -> float:
        """How high it goes (dBFS)."""
        return to_db(float(np.abs(self.turn.audio).max(initial=0.0)))


class Taker(QObject):
    """Takes while the loop turns. ``moved`` says that something is to be shown again."""

    moved = pyqtSignal()
    took = pyqtSignal(object)  # the take that is to be heard first
    measured = pyqtSignal(object)  # ms, or None where nothing was heard
    failed = pyqtSignal(str)

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__(session)
        self._session, self._tasks = session, tasks
        self._preview = Preview(session.hearing.previews, self)
        self._microphone: Microphone | None = None
        self._capture = Capture(session.player.rate, lambda: session.player.handing)
        self._over, self._pitched = Over.LOOP, True
        self._start = self._loop_frames = 0
        self._before = -1
        self._blocks, self._came_s = 0, 0.0
        self._test: OneShot | None = None
        self._clicked = False  # whether the click was on before
        self.state = State.OFF
        self.takes: list[Take] = []
        self._clock = QTimer(self)
        self._clock.setInterval(FOLLOW_MS)
        self._clock.setTimerType(Qt.TimerType.PreciseTimer)
        self._clock.timeout.connect(self._follow)
        session.opened.connect(self._forget)
        session.transport.playing_changed.connect(self._on_playing)

    # --- the microphone -----------------------------------------------------------------------

    @property
    def name(self) -> str:
        """What is recorded from."""
        return self._microphone.name if self._microphone else ""

    @property
    def stands_in(self) -> bool:
        """Whether it is the stand-in."""
        return self._microphone is not None and self._microphone.stand_in

    @property
    def usual_late_ms(self) -> float:
        """How late sound comes in where nobody has measured it: buffers out, and one in."""
        known = self._microphone.late_ms if self._microphone else None
        return known or (PERIODS * self._session.transport.buffer_ms + 20.0)

    @property
    def place(self) -> str:
        """What a measured delay holds for: this microphone, beside this speaker and its buffer."""
        transport = self._session.transport
        return f"{self.name} / {transport.speaker.name} / {transport.buffer_ms} ms"

    @property
    def late_ms(self) -> float:
        """How late sound comes in: as measured or typed here, else as is usual."""
        kept = self._session.preferences.now.late_ms.get(self.place, self.usual_late_ms)
        return min(max(kept, 0.0), MOST_LATE_MS) if math.isfinite(kept) else self.usual_late_ms

    def say_late(self, late_ms: float) -> None:
        """Keep how late sound comes in here."""
        known = self._session.preferences.now.late_ms
        self._session.preferences.remember(late_ms={**known, self.place: round(late_ms, 1)})

    def open(self, name: str) -> None:
        """Listen to a microphone, so that its level is seen."""
        self.close()
        session = self._session
        self._capture = Capture(session.player.rate, lambda: session.player.handing)
        try:
            self._microphone = open_microphone(
                session.player.rate, name, lambda: session.player.handing
            )
            if isinstance(self._microphone, StandInMicrophone):
                session.transport.overheard = self._microphone.overhear
            self._microphone.start(self._push)
        except CloudriftError as error:
            self.close()
            self.failed.emit(str(error))
            return
        self._came_s = time.monotonic()
        self.state = State.STANDS
        self._clock.start()
        self.moved.emit()

    def _push(self, block: NDArray[np.float32]) -> None:
        """On the microphone's thread."""
        self._blocks += 1
        self._capture.push(block)

    def close(self) -> None:
        """Let the microphone go; what is being taken is kept."""
        self._end_now()
        self._clock.stop()
        self._session.transport.overheard = None
        microphone, self._microphone = self._microphone, None
        if microphone is not None:
            microphone.close()
        self.state = State.OFF
        self.moved.emit()

    @property
    def seconds(self) -> float:
        """How long it has taken for."""
        return self._capture.frames / self._capture.rate

    def level(self) -> tuple[float, int]:
        """Return the peak (0-1) since the last question, and how often it was cut off."""
        return self._capture.level()

    # --- taking -------------------------------------------------------------------------------

    @property
    def busy(self) -> bool:
        """Whether something is being taken, or about to be."""
        return self.state not in (State.OFF, State.STANDS)

    def begin(self, over: Over, *, pitched: bool, instead_of: str = "") -> None:
        """Count in and take; what is sung to nothing is taken at once.

        ``instead_of`` is a layer that is silent meanwhile. The stand-in is told what to sing first.
        """
        if self.state is not State.STANDS:
            return
        self._over, self._pitched = over, pitched
        loop = self._session.loop
        if isinstance(self._microphone, StandInMicrophone):
            self.state = State.PREPARES
            self.moved.emit()
            number, rate = len(self.takes), self._session.player.rate
            self._tasks.run(
                PHRASE_TASK,
                lambda stale, _moved: phrase_for(loop, number, pitched, rate, stale),
                lambda phrase: self._cue(phrase, instead_of),
                self._no_phrase,
                lane=Lane.READING,
            )
        else:
            self._go(instead_of)

    def _no_phrase(self, error: Exception) -> None:
        if self.state is State.PREPARES:
            self.state = State.STANDS
            self.moved.emit()
        if isinstance(error, CloudriftError):
            self.failed.emit(str(error))

    def _cue(self, phrase: NDArray[np.float32], instead_of: str) -> None:
        if self.state is State.PREPARES and isinstance(self._microphone, StandInMicrophone):
            self._microphone.cue(phrase, free=self._over is Over.NOTHING)
            self._go(instead_of)

    def _go(self, instead_of: str) -> None:
        session, over = self._session, self._over
        self._capture.begin()
        if over is Over.NOTHING:
            session.transport.set_playing(False)
            self.state = State.TAKES
            self.moved.emit()
            return
        self.state = State.COUNT_IN
        heard = heard_meanwhile(session.loop, over, instead_of)
        if heard is not session.loop:
            self._preview.put(
                lambda loop: heard_meanwhile(loop, over, instead_of), f"recording to {over.value}"
            )
        self._clicked = session.transport.click
        session.transport.set_click(True)
        session.transport.hear_part(0.0, 1.0)
        session.transport.seek(1 - 1 / session.loop.bars)
        session.transport.set_playing(True)
        self._before = -1
        self.moved.emit()

    def _follow(self) -> None:
        if self._is_gone():
            return
        if self.state is State.COUNT_IN:
            self._look_for_the_start()
        elif self.state is State.TAKES:
            full = self._capture.frames >= capture.MOST_S * self._capture.rate
            if full or not self._goes_round():
                self.finish()
        self.moved.emit()

    def _is_gone(self) -> bool:
        """Say whether the microphone stopped responding; what it brought is kept."""
        blocks, self._blocks = self._blocks, 0
        now = time.monotonic()
        if blocks:
            self._came_s = now
        if self._microphone is None or now - self._came_s < GONE_S:
            return False
        name, taking = self.name, self.state is State.TAKES
        self.close()
        kept = "; what was recorded is kept as a take" if taking else ""
        self.failed.emit(
            f"the microphone ({name}) stopped responding{kept}; plug it in and open it again"
        )
        return True

    def _look_for_the_start(self) -> None:
        stamp = self._session.player.stamp
        if stamp.at < 0:
            return
        if 0 <= stamp.at < self._before:
            self.state = State.TAKES
            self._start, self._loop_frames = stamp.handed - stamp.at, stamp.loop_frames
            if self._over is Over.LOOP:
                self._session.transport.set_click(self._clicked)
        self._before = stamp.at

    def _goes_round(self) -> bool:
        """Whether the loop still goes round as it began: else what comes belongs nowhere."""
        stamp = self._session.player.stamp
        if self._over is Over.NOTHING or stamp.at < 0:
            return True
        turns = (stamp.handed - stamp.at - self._start) % max(1, stamp.loop_frames)
        return stamp.loop_frames == self._loop_frames and turns == 0

    def finish(self) -> None:
        """Stop; what was sung to the last that was heard is waited for, then there are takes."""
        if self.state is State.PREPARES:
            self._tasks.cancel(PHRASE_TASK)
            self.state = State.STANDS
        elif self.state is State.COUNT_IN:
            self.state = State.STANDS
            self._rest()
        elif self.state is State.TAKES:
            self.state = State.ENDS
            self._rest()
            QTimer.singleShot(round(self.late_ms) + TAIL_MS, self._end_now)
        self.moved.emit()

    def _rest(self) -> None:
        """The loop stands, and is heard as it was."""
        if self._over is not Over.NOTHING:
            self._session.transport.set_playing(False)
            self._session.transport.set_click(self._clicked)
        self._preview.end()

    def _end_now(self) -> None:
        """Cut what was taken into takes."""
        if self.state in (State.COUNT_IN, State.PREPARES):
            self.finish()
        if self.state not in (State.TAKES, State.ENDS):
            return
        if self.state is State.TAKES:
            self.state = State.ENDS
            self._rest()
        self._capture.keeping = False
        session, rate = self._session, self._capture.rate
        loop = session.loop
        if self._over is Over.NOTHING:
            turns = [capture.freely(self._capture)]
        else:
            beat = round(self._loop_frames * beat_ticks(loop.metre) / loop.ticks)
            turns = capture.turns_of(
                self._capture, self._start, self._loop_frames, self.late_ms / 1000 * rate, beat
            )
        self.state = State.STANDS
        before, rest = len(self.takes), self._rendered()
        for turn in turns:
            if turn.audio.shape[1] and float(np.abs(turn.audio).max()) > 0:
                number = self.takes[-1].number + 1 if self.takes else 1
                take = Take(
                    number=number,
                    turn=turn,
                    rate=rate,
                    over=self._over,
                    by=self.name,
                    pitched=self._pitched,
                    tempo=loop.tempo,
                    key=key_of_layers(loop),
                    rest=rest,
                )
                self.takes.append(take)
        new = self.takes[before:]
        while sum(take.seconds for take in self.takes) > MOST_TAKEN_S and len(self.takes) > 1:
            del self.takes[0]
        if new:
            whole = [take for take in new if take.turn.whole]
            self.took.emit(whole[-1] if whole else max(new, key=lambda take: take.seconds))
        else:
            self.failed.emit("no input, so there is no take; check the level")
        self.moved.emit()

    def _rendered(self) -> Stereo | None:
        found = self._session.hearing.rendered.get(TREATED)
        fits = found is not None and found.audio.shape[1] == self._loop_frames
        return found.audio if found is not None and fits and self._over is Over.LOOP else None

    def _on_playing(self, on: bool) -> None:
        if (
            not on
            and self._over is not Over.NOTHING
            and self.state in (State.COUNT_IN, State.TAKES)
        ):
            self.finish()

    def _forget(self) -> None:
        """Another document is open, and the takes were of the one before."""
        self._tasks.cancel(PHRASE_TASK)
        if self.busy:
            self.state = State.STANDS
            self._capture.keeping = False
            self._rest()
        self.takes = []
        self.moved.emit()

    # --- how late it comes --------------------------------------------------------------------

    def measure(self) -> None:
        """Play sweeps through the speaker and listen when they come in."""
        if self.state is not State.STANDS:
            return
        self.state = State.MEASURES
        self._session.transport.set_playing(False)
        self._capture.begin()
        self._test = self._session.player.strike(
            capture.sweeps(self._capture.rate), "test", alone=True
        )
        QTimer.singleShot(TEST_MS, self._end_test)
        self.moved.emit()

    def _end_test(self) -> None:
        if self.state is not State.MEASURES or self._test is None:
            return
        self._capture.keeping = False
        self.state = State.STANDS
        late = capture.measure_latency(self._capture, self._test.began)
        if late is not None:
            self.say_late(late / self._capture.rate * 1000)
        self.measured.emit(None if late is None else late / self._capture.rate * 1000)
        self.moved.emit()


def phrase_for(
    loop: Loop, number: int, pitched: bool, rate: int, cancelled: Callable[[], bool]
) -> NDArray[np.float32]:
    """Return the stand-in's phrase to a loop, (n,): another phrase each time, to its chords."""
    wanted = "sung" if pitched else "spoken"
    fits = [
        one for one in recipes().values() if wanted in one.words.split() and one.kind == "phrase"
    ]
    over = msgspec.structs.replace(loop, rate=rate)
    audio, _rate = sound_of(fits[number % len(fits)], cancelled, over)
    mono = audio.mean(axis=0)
    return (mono * np.float32(PHRASE_PEAK / max(1e-9, float(np.abs(mono).max())))).astype(
        np.float32
    )
