"""What is heard once, over the loop or in place of it: tried chords, played keys, edits at once."""

from __future__ import annotations

import itertools
import threading
import time
from collections.abc import Callable
from functools import partial
from queue import PriorityQueue
from typing import NamedTuple, Protocol

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from cloudrift.audio.buffers import Stereo, raised_cosine
from cloudrift.desktop.session.document.document import OpenDocument
from cloudrift.desktop.session.hearing.transport import Transport
from cloudrift.desktop.session.trouble import error_words
from cloudrift.ground.leisure import be_nice
from cloudrift.loop.model.hits import Hit
from cloudrift.loop.model.loop import Chord, Loop
from cloudrift.render.engine.engine import Engine, Rendered
from cloudrift.render.measure.match import Match
from cloudrift.render.plan.trying import FIRST_S, ONSET_S, first_moment
from cloudrift.render.play.audition import (
    audition,
    drafted,
    keeps_places,
    plain_tones,
    played_key,
    struck,
    tried,
)

AUDITION, BARE, TONES = "audition", "bare", "tones"
DRAFT_MOST_S = 0.5
TAIL_S = 0.06  # over so long a first moment ends

# What comes first. An onset waits for onsets alone, a moment for moments: each has its thread.
AT_ONCE, MOMENT, SOON, LATER = range(4)
LEISURE = 5  # how nice the thread is that makes what rings on: keys are struck meanwhile
LATE_S = 1.5  # a key that was let go so long ago is not worth its release any more


class Heard(Protocol):
    """What strokes know of what is heard of the open document."""

    document: OpenDocument
    transport: Transport
    rendered: dict[str, Rendered]
    side: str

    @property
    def heard_loop(self) -> Loop:
        """The loop that is shown, with only those layers that are heard alone, if any."""

    @property
    def previewing(self) -> bool:
        """Whether another loop is heard than the open one."""

    @property
    def heard_up_to(self) -> tuple[str | None, int] | None:
        """Which line is heard only down to which row."""

    @property
    def match(self) -> Match:
        """By how much both sides of the compare switch are turned."""

    def gain_of(self, side: str) -> float:
        """Return the gain that a side of the compare switch is played with."""


class _Job(NamedTuple):
    """Work for a thread: the most urgent first, then in order."""

    urgency: int
    number: int
    work: Callable[[], object]


class _Worker:
    """A thread that does one job after another; ``nice`` where others come first."""

    def __init__(self, name: str, broke: Callable[[str], object], nice: int = 0) -> None:
        self._nice = nice
        self.jobs: PriorityQueue[_Job] = PriorityQueue()
        self._broke = broke
        self._thread = threading.Thread(target=self._run, name=name, daemon=True)
        self._thread.start()

    def _run(self) -> None:
        be_nice(self._nice)
        while True:
            job = self.jobs.get()
            try:
                job.work()
            except StopIteration:
                return
            except Exception as error:
                self._broke(error_words(error, "that could not be played"))
            finally:
                self.jobs.task_done()

    def has_ended(self, within_s: float) -> bool:
        """Wait so long for the thread; say whether it has ended."""
        self._thread.join(max(0.0, within_s))
        return not self._thread.is_alive()


class HeardOnce(QObject):
    """Renders on threads of its own and strikes the player; belongs to what is heard.

    A stroke is made in three: its onset at once, a moment while that sounds, then the rest.
    """

    _draft_made = pyqtSignal(object, object, object)  # Loop, Rendered, Stereo

    broke = pyqtSignal(str)

    def __init__(self, hearing: Heard, engine: Engine, parent: QObject) -> None:
        super().__init__(parent)
        self._hearing = hearing
        self._player, self._engine = hearing.transport.player, engine
        self._numbers = itertools.count()
        self._newest: dict[str, int] = {}  # of each group: its last stroke, while more is wanted
        self._struck_at: dict[str, float] = {}
        self._gain_of: dict[str, float] = {}
        self._handing = threading.Lock()
        self._keys: dict[int, Callable[[float | None], Loop]] = {}  # keys that are down
        self._no_draft = threading.Event()  # cleared while one is made
        self._no_draft.set()
        self._drafted: tuple[Rendered, Stereo] | None = None  # on which, and how it sounds
        self._draft_made.connect(self._on_draft)
        rest = _Worker("heard once", self.broke.emit, LEISURE)
        self._workers = {
            AT_ONCE: _Worker("onsets", self.broke.emit),
            MOMENT: _Worker("moments", self.broke.emit),
            SOON: rest,
            LATER: rest,
        }

    def stop(self) -> None:
        """Want nothing more; the threads end after what they do now."""
        self._newest.clear()  # nothing that waits is wanted any more
        for worker in set(self._workers.values()):
            worker.jobs.put(_Job(AT_ONCE - 1, next(self._numbers), self._end))

    def has_ended(self, within_s: float) -> bool:
        """Wait so long for the threads; say whether they have ended."""
        until = time.monotonic() + within_s
        return all(one.has_ended(until - time.monotonic()) for one in self._workers.values())

    def _submit(self, urgency: int, work: Callable[[], object]) -> None:
        self._workers[urgency].jobs.put(_Job(urgency, next(self._numbers), work))

    def _end(self) -> None:
        raise StopIteration

    @property
    def busy(self) -> bool:
        """Whether anything is being made or waits to be."""
        return any(one.jobs.unfinished_tasks for one in self._workers.values())

    def followed(self) -> None:
        """The loop itself has followed: what was drafted over it is no longer heard."""
        self._drafted = None

    # --- chords -------------------------------------------------------------------------------

    def chords(self, *chords: Chord) -> None:
        """Play chords once, one after another in tempo, in place of the loop; the newest wins."""
        hearing = self._hearing
        loop = hearing.heard_loop
        if hearing.side == BARE:
            self._strike(
                lambda: audition(loop, chords, written=True),
                AUDITION,
                gain=hearing.match.one,
                alone=True,
            )
        else:
            self._strike(lambda: tried(loop, chords), AUDITION, alone=True)

    def hit(self, lane_id: str, hit: Hit) -> None:
        """Strike a hit of the groove bed once, through its lane's line and the bed's."""
        loop, group = self._hearing.document.loop, f"lane {lane_id}"
        number = next(self._numbers)
        self._newest[group] = number

        def work() -> None:
            if self._newest.get(group) == number:  # else another is wanted by now
                self._player.strike(self._engine.once(struck(loop, lane_id, hit)), group)

        self._submit(AT_ONCE, work)

    def tones(self, pitches: tuple[float, ...]) -> None:
        """Play plain tones (cents, MIDI number times 100) over what is heard, until hushed."""
        self._player.strike(plain_tones(pitches, self._player.rate), TONES)

    def hush_tones(self) -> None:
        """Let plain tones end."""
        self._player.hush(TONES)

    def edit(self, chord_id: str) -> None:
        """Let a changed chord be heard at once: by itself while the loop stands, else in its place.

        While the loop plays, the chord is laid bare over what was heard, until the treated loop
        has followed.
        """
        hearing = self._hearing
        if chord_id not in {c.id for c in hearing.document.loop.chords}:
            return
        chord = hearing.document.loop.chord(chord_id)
        if not self._player.playing:
            self.chords(chord)
        elif (
            not hearing.previewing
            and not hearing.heard_up_to
            and keeps_places(hearing.document.loop)
        ):
            self._draft(chord)

    def _draft(self, chord: Chord) -> None:
        hearing = self._hearing
        loop = hearing.document.loop
        rendered = hearing.rendered.get(hearing.side)
        if rendered is None or rendered.loop.ticks != loop.ticks:
            return
        if loop.rate != self._player.rate:
            return
        written = hearing.side == BARE
        on = self._drafted
        base = on[1] if on and on[0] is rendered else rendered.audio
        gain = 1.0 if written else hearing.match.one

        def work() -> None:
            try:
                if loop is hearing.document.loop:  # no other edit has come
                    audio = drafted(base, loop, chord, self._engine, written=written, gain=gain)
                    self._player.get_ready(audio, hearing.gain_of(hearing.side))
                    self._draft_made.emit(loop, rendered, audio)
            finally:
                self._no_draft.set()

        self._no_draft.clear()
        self._submit(AT_ONCE, work)

    def wait_for_draft(self) -> None:
        """Wait while a draft is made: it is what the ear waits for."""
        self._no_draft.wait(DRAFT_MOST_S)

    def _on_draft(self, loop: Loop, rendered: Rendered, audio: Stereo) -> None:
        """Let a draft be heard if the edit still stands and the loop itself has not followed."""
        hearing = self._hearing
        heard = hearing.rendered.get(hearing.side)
        if loop is hearing.document.loop and heard is rendered and not hearing.transport.click:
            self._drafted = rendered, audio
            self._player.load(audio, hearing.gain_of(hearing.side))

    # --- keys ---------------------------------------------------------------------------------

    def key_down(self, pitch: int, velocity: int = 88, layer_id: str = "") -> None:
        """Strike a key in a layer's sound, or in the one that plays the chords.

        It is heard through the layer's line and all after it; bare while the bare loop is heard.
        """
        hearing = self._hearing
        loop, written = hearing.document.loop, hearing.side == BARE
        gain = hearing.match.one if written else 1.0

        def key(seconds: float | None) -> Loop:
            return played_key(loop, pitch, velocity, layer_id, seconds=seconds, written=written)

        self._keys[pitch] = key
        self._strike(lambda: key(None), f"key {pitch}", gain=gain)

    def key_up(self, pitch: int) -> None:
        """Let a key go: its sound is released, and what its line makes of it rings out."""
        group = f"key {pitch}"
        key, number = self._keys.pop(pitch, None), self._newest.get(group)
        detach = time.monotonic()
        if key is None or number is None:
            return

        def work() -> None:
            struck = self._struck_at.get(group)
            if self._newest.get(group) != number or struck is None:
                return  # struck again: what rang of it has been faded out
            if time.monotonic() - detach > LATE_S:
                self._player.hush(group)
                return
            audio = self._engine.once(key(max(0.02, detach - struck)))
            with self._handing:
                if self._newest.get(group) == number:
                    self._player.go_on(audio * np.float32(self._gain_of[group]), group)
                    del self._newest[group]  # what has been let go is not held again

        self._submit(SOON, work)

    def hush(self) -> None:
        """Stop what is heard once."""
        self._newest.pop(AUDITION, None)
        self._player.hush(AUDITION)

    # --- strokes ------------------------------------------------------------------------------

    def _strike(
        self, make: Callable[[], Loop], group: str, *, gain: float = 1.0, alone: bool = False
    ) -> None:
        """Play a short loop once: its onset as soon as can be, a longer moment, the whole of it."""
        number = next(self._numbers)
        self._newest[group] = number
        self._gain_of[group] = gain
        self._struck_at.pop(group, None)  # when this one sounds is not known yet
        engine, player = self._engine, self._player

        def first() -> None:
            if self._newest.get(group) != number:
                return  # another is wanted by now
            loop = make()
            audio = beginning(loop, ONSET_S)
            if self._newest.get(group) != number:
                return
            self._struck_at[group] = time.monotonic()
            player.strike(audio, group, alone=alone, more=True)
            self._submit(MOMENT, partial(moment, loop))

        def beginning(loop: Loop, seconds: float) -> Stereo:
            audio = first_moment(loop, engine.tones, seconds) * np.float32(gain)
            tail = min(int(TAIL_S * loop.rate), audio.shape[1])
            audio[:, -tail:] *= raised_cosine(tail)[::-1]  # heard only if more comes late
            return audio

        def moment(loop: Loop) -> None:
            if self._newest.get(group) != number:
                return
            audio = beginning(loop, FIRST_S)
            with self._handing:
                if self._newest.get(group) == number:
                    player.go_on(audio, group, more=True)
            self._submit(LATER if group != AUDITION else SOON, partial(rest, loop))

        def rest(loop: Loop) -> None:
            if self._newest.get(group) != number or not (alone or self._is_down(group)):
                return  # hushed, struck again, or let go: its release is on its way
            try:
                player.go_on(engine.once(loop) * np.float32(gain), group)
            except Exception:
                player.hush(group)
                raise

        self._submit(AT_ONCE, first)

    def _is_down(self, group: str) -> bool:
        return any(f"key {pitch}" == group for pitch in self._keys)
