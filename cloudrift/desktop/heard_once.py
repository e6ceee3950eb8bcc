"""What is heard once beside the loop: chords tried, edits in their place, keys that are played."""

from __future__ import annotations

import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from cloudrift.audio.buffers import Stereo
from cloudrift.desktop.trouble import error_words
from cloudrift.loop.model import Chord, Loop
from cloudrift.render.audition import audition, drafted, keeps_places, key_sound
from cloudrift.render.engine import Rendered

if TYPE_CHECKING:
    from cloudrift.desktop.session import Session

AUDITION, BARE = "audition", "bare"
DRAFT_MOST_S = 0.5


class HeardOnce(QObject):
    """Renders on a thread of its own and strikes the player; belongs to a session."""

    _draft_made = pyqtSignal(object, object, object)  # Loop, Rendered, Stereo
    _broke = pyqtSignal(str)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._session = session
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="audition")
        self._number = 0
        self._no_draft = threading.Event()  # cleared while one is made
        self._no_draft.set()
        self._drafted: tuple[Rendered, Stereo] | None = None  # on which, and how it sounds
        self._draft_made.connect(self._on_draft)
        self._broke.connect(session.failed)

    def close(self) -> None:
        """Let the thread go."""
        self._pool.shutdown(wait=True, cancel_futures=True)

    def followed(self) -> None:
        """The loop itself has followed: what was drafted over it is no longer heard."""
        self._drafted = None

    def chords(self, *chords: Chord) -> None:
        """Play chords once, one after another in tempo, in place of the loop; the newest wins."""
        session = self._session
        loop, written = session.heard_loop, session.hearing == BARE
        gain = 1.0 if written else session.match.one

        def make() -> Stereo:
            tried = audition(loop, chords, written=written)
            return session.engine.once(tried) * np.float32(gain)

        self._strike(make, AUDITION, alone=True)

    def edit(self, chord_id: str) -> None:
        """Let a changed chord be heard at once: by itself while the loop stands, else in its place.

        While the loop plays, the chord is laid bare over what was heard, until the treated loop
        has followed.
        """
        session = self._session
        if chord_id not in {c.id for c in session.loop.chords}:
            return
        chord = session.loop.chord(chord_id)
        if not session.player.playing:
            self.chords(chord)
        elif not session.previewing and not session.heard_up_to and keeps_places(session.loop):
            self._draft(chord)

    def _draft(self, chord: Chord) -> None:
        session = self._session
        loop, hearing = session.loop, session.hearing
        rendered = session.rendered.get(hearing)
        if rendered is None or rendered.loop.ticks != loop.ticks:
            return
        if loop.rate != session.player.rate:
            return
        written = hearing == BARE
        on = self._drafted
        base = on[1] if on and on[0] is rendered else rendered.audio
        gain = 1.0 if written else session.match.one

        def work() -> None:
            try:
                if loop is session.loop:  # no other edit has come
                    audio = drafted(base, loop, chord, session.engine, written=written, gain=gain)
                    self._draft_made.emit(loop, rendered, audio)
            finally:
                self._no_draft.set()

        self._no_draft.clear()
        self._pool.submit(work)

    def wait_for_draft(self) -> None:
        """Wait while a draft is made: it is what the ear waits for."""
        self._no_draft.wait(DRAFT_MOST_S)

    def _on_draft(self, loop: Loop, rendered: Rendered, audio: Stereo) -> None:
        """Let a draft be heard if the edit still stands and the loop itself has not followed."""
        session = self._session
        heard = session.rendered.get(session.hearing)
        if loop is session.loop and heard is rendered and not session.click:
            self._drafted = rendered, audio
            session.player.load(audio, session.gain_of(session.hearing))

    def key_down(self, pitch: int, velocity: int = 88, layer_id: str = "") -> None:
        """Strike a key in a layer's sound, or in the one that plays the chords."""
        loop, engine = self._session.loop, self._session.engine
        self._strike(lambda: key_sound(loop, pitch, velocity, engine, layer_id), f"key {pitch}")

    def key_up(self, pitch: int) -> None:
        """Let a key go."""
        self._session.player.hush(f"key {pitch}")

    def hush(self) -> None:
        """Stop what is heard once."""
        self._number += 1
        self._session.player.hush(AUDITION)

    def _strike(self, make: Callable[[], Stereo], group: str, *, alone: bool = False) -> None:
        number = self._number = self._number + 1

        def work() -> None:
            if alone and number != self._number:
                return  # another is wanted by now
            try:
                audio = make()
            except Exception as error:
                self._broke.emit(error_words(error))
                return
            if not alone or number == self._number:
                self._session.player.strike(audio, group, alone=alone)

        self._pool.submit(work)
