"""Playing in: counting in, taking keys, keeping takes, and putting one of them into the loop."""

from dataclasses import dataclass
from enum import Enum

from PyQt6.QtCore import QObject, Qt, QTimer, pyqtSignal

from cloudrift.desktop.session.hearing.preview import Preview
from cloudrift.desktop.session.session import Session
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.edits.layers.takes import Becomes, Take, put_take
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.notes.played import Played
from cloudrift.style import without_chords

FOLLOW_MS = 15
MOST_TAKES = 12


class State(Enum):
    """What playing in is at."""

    STANDS = "stands"
    COUNT_IN = "count-in"
    TAKES = "takes"


@dataclass(frozen=True, kw_only=True)
class _Put:
    """The take that was put last, the loop it was put on, and the loop that it made."""

    take: Take
    base: Loop
    made: Loop


class Recorder(QObject):
    """Takes keys while the loop turns. ``moved`` says that something is to be shown again."""

    moved = pyqtSignal()
    ended = pyqtSignal()  # nothing is taken any more
    put_down = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._session = session
        self._preview = Preview(session.hearing.previews, self)
        self.state = State.STANDS
        self.becomes = Becomes.CHORDS
        self.grid_ticks = 480
        self.takes: list[Take] = []
        self.played: Played | None = None
        self._put_last: _Put | None = None
        self._layers: dict[int, str] = {}  # which layer a take became, by its number
        self._runs = 0
        self._last_share = 0.0
        self._held: dict[int, int] = {}  # pitch -> velocity
        self._clock = QTimer(self)
        self._clock.setInterval(FOLLOW_MS)
        self._clock.setTimerType(Qt.TimerType.PreciseTimer)
        self._clock.timeout.connect(self._follow)
        session.opened.connect(self._forget)
        session.transport.playing_changed.connect(self._on_playing)

    @property
    def layer_id(self) -> str:
        """The layer whose sound is played and whose notes are meant; empty for chords."""
        chords = self.becomes is Becomes.CHORDS
        return "" if chords else self._session.selection.layer_id

    @property
    def layer(self) -> Layer | None:
        """The layer in whose sound keys are heard, None where there is none yet."""
        loop, layer_id = self._session.loop, self.layer_id
        return loop.layer(layer_id) if layer_id else loop.striker

    def tick(self) -> int:
        """Return where in the loop the sound is."""
        return self._session.loop.tick_at(self._session.transport.share)

    def down(self, pitch: int, velocity: int) -> None:
        """A key goes down: it is heard, and taken if something is being played in."""
        self._session.hearing.once.key_down(pitch, velocity, self.layer_id)
        self._held[pitch] = velocity
        if self.state is State.TAKES and self.played is not None:
            self.played.down(self.tick(), pitch, velocity)
            self.moved.emit()

    def up(self, pitch: int) -> None:
        """A key goes up."""
        self._session.hearing.once.key_up(pitch)
        self._held.pop(pitch, None)
        if self.state is State.TAKES and self.played is not None:
            self.played.up(self.tick(), pitch)

    # --- taking -------------------------------------------------------------------------------

    def begin(self) -> None:
        """Count in from the loop's last bar; from its first beat on, keys are taken."""
        session = self._session
        if self.becomes in (Becomes.NOTES, Becomes.MORE) and not self.layer_id:
            session.say("there is no layer to record into; record a new one")
            return
        self.state = State.COUNT_IN
        self.played = Played(session.loop.ticks)
        if self._heard_meanwhile(session.loop) is not session.loop:
            self._preview.put(self._heard_meanwhile, "recording")
        session.transport.hear_part(0.0, 1.0)
        self._last_share = 1 - 1 / session.loop.bars
        session.transport.seek(self._last_share)
        session.transport.set_playing(True)
        self._clock.start()
        self.moved.emit()

    def _heard_meanwhile(self, loop: Loop) -> Loop:
        """What is to be replaced is silent while it is played again."""
        if self.becomes is Becomes.CHORDS:
            return without_chords(loop)
        if self.becomes is Becomes.NOTES:
            return layer_edits.set_layer(loop, self.layer_id, mute=True)
        return loop

    def _follow(self) -> None:
        share = self._session.transport.share
        if self.state is State.COUNT_IN and share < self._last_share - 0.01:
            self.state = State.TAKES
            for pitch, velocity in self._held.items():  # pressed just before the first beat
                if self.played is not None:
                    self.played.down(0, pitch, velocity)
        self._last_share = share
        self.moved.emit()

    def finish(self) -> bool:
        """Stop, keep the take and put it into the loop; say whether anything was played."""
        played, took, tick = self.played, self.state is State.TAKES, self.tick()
        self.drop()
        self._session.transport.set_playing(False)
        if not took or played is None or not played.count:
            return False
        played.close(tick)
        number = self.takes[-1].number + 1 if self.takes else 1
        take = Take(number=number, played=played, becomes=self.becomes, layer_id=self.layer_id)
        self.takes = [*self.takes, take][-MOST_TAKES:]
        self._put(take, self._session.loop)
        return True

    def drop(self) -> None:
        """Take no more, and leave the loop as it is."""
        if self.state is State.STANDS:
            return
        self.state = State.STANDS
        self.played = None
        self._clock.stop()
        self._preview.end()
        self.ended.emit()
        self.moved.emit()

    def _forget(self) -> None:
        self.drop()
        self.takes, self._put_last, self._layers = [], None, {}
        self.moved.emit()

    def _on_playing(self, on: bool) -> None:
        if not on and self.state is not State.STANDS:
            self.finish()

    @property
    def is_put(self) -> bool:
        """Whether the loop is just what a take has made of it."""
        return self._put_last is not None and self._put_last.made is self._session.loop

    # --- takes --------------------------------------------------------------------------------

    def choose(self, take: Take) -> bool:
        """Put a take that is kept in place of the one put last, or where it belongs.

        One that is another kind of thing goes on top: what the last one made stays. A layer that
        is still there from its take is only selected.
        """
        layer_id = self._layers.get(take.number, "")
        last = self._put_last if self.is_put else None
        there = any(layer.id == layer_id for layer in self._session.loop.layers)
        if take.becomes is Becomes.NEW and there:
            self._session.select(layer_id=layer_id)
            return False
        if last is None or (last.take.becomes, last.take.layer_id) != (take.becomes, take.layer_id):
            return self._put(take, self._session.loop)
        return self._put(take, last.base)

    def put_again(self) -> bool:
        """Put the take that was put last once more, on the grid that is chosen now; one step."""
        last = self._put_last
        return self.is_put and last is not None and self._put(last.take, last.base, again=True)

    def _put(self, take: Take, base: Loop, *, again: bool = False) -> bool:
        """Put a take into a loop, as a step of its own, or in the step that put it before."""
        session = self._session
        notes = take.played.notes(self.grid_ticks)
        if not again:
            self._runs += 1
        if not session.apply(
            f"take {take.number}: {take.becomes.value}",
            lambda _loop: put_take(base, take, notes),
            merge=f"take {self._runs}",
        ):
            return False
        self._put_last = _Put(take=take, base=base, made=session.loop)
        if take.becomes is Becomes.CHORDS:
            session.select(chord_id=session.loop.chords[0].id)
        elif take.becomes is Becomes.NEW:
            self._layers[take.number] = session.loop.layers[-1].id
            session.select(layer_id=session.loop.layers[-1].id)
        self.put_down.emit()
        return True
