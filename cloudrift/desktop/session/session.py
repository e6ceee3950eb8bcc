"""The session: the open document, what is selected in it, and what is heard of it, joined.

``apply`` is the only way to change the loop. Selection, sound and pictures follow by themselves.
"""

import time
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from cloudrift.audio.clips import ClipStore
from cloudrift.desktop.session.document.document import OpenDocument
from cloudrift.desktop.session.document.selecting import Selecting
from cloudrift.desktop.session.document.selection import Selection
from cloudrift.desktop.session.hearing.hearing import Hearing
from cloudrift.desktop.session.hearing.transport import Transport
from cloudrift.desktop.session.preferences import Preferences
from cloudrift.desktop.session.timers import single_shot
from cloudrift.devices import Speaker
from cloudrift.loop.files.recovery import Shelter
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.loop import Loop
from cloudrift.render.engine.engine import Engine
from cloudrift.render.play.player import Player
from cloudrift.sound.kept_tones import KeptTones

CLOSING_S = 2.0  # so long is waited for what still runs when all is to end
SETTLED_MS = 400  # a hand that is down and has changed nothing for so long stays where it is


class Session(QObject):
    """One open document. Views observe it and never talk to each other."""

    changed = pyqtSignal(object, object)  # Loop before, Loop after
    settled = pyqtSignal()  # it has changed, and no hand is on its way over a picture of it
    opened = pyqtSignal()  # another document
    selected = pyqtSignal()
    failed = pyqtSignal(str)
    told = pyqtSignal(str)  # something that went well and is worth a word
    ruler_shown = pyqtSignal(bool)  # the pitch ruler, wherever there is one

    def __init__(
        self,
        what: Loop | Document,
        path: Path | None,
        speaker: Speaker,
        *,
        shelter: Shelter | None = None,
        preferences: Preferences | None = None,
        engine: Engine | None = None,
        parent: QObject | None = None,
    ) -> None:
        """``engine`` renders for it alone, and is closed with it; ``shelter`` likewise.

        The recordings that documents name lie in the engine's store, the shelter's if none is
        given.
        """
        super().__init__(parent)
        shelter = shelter or Shelter()
        self.preferences = preferences or Preferences()
        self.engine = engine or Engine(clips=shelter.clips, kept=KeptTones())
        self.document = OpenDocument(
            what, path, shelter, self.clips, lambda: self.hearing.instead, self
        )
        self.selecting = Selecting(self.document, self)
        self.transport = Transport(self.loop.rate, speaker, self.preferences, self)
        self.hearing = Hearing(self.document, self.selecting, self.transport, self.engine, self)
        # What nearly every view does.
        self.apply, self.make = self.document.apply, self.document.make
        self.select = self.selecting.select
        self.document.moved.connect(self._on_moved)
        self.document.replaced.connect(self._on_replaced)
        self.document.refused.connect(self.say)
        self.selecting.changed.connect(lambda _before: self.selected.emit())
        self.hearing.broke.connect(self.say)
        self.transport.lengthened.connect(self._on_lengthened)
        self._settling = single_shot(self, self.settled, SETTLED_MS)
        self.transport.start()
        self.hearing.ask_first()

    @property
    def loop(self) -> Loop:
        """The loop as it is now."""
        return self.document.loop

    @property
    def is_moving(self) -> bool:
        """Whether a hand is on its way over a picture; ``settled`` says when it is no longer."""
        return self._settling.isActive()

    @property
    def selection(self) -> Selection:
        """What is selected in it."""
        return self.selecting.now

    @property
    def clips(self) -> ClipStore:
        """The recordings that documents name."""
        return self.engine.clips

    @property
    def player(self) -> Player:
        """What plays, and knows where it is."""
        return self.transport.player

    def say(self, words: str, *, good: bool = False) -> None:
        """Say in a sentence what could not be done, or what went well and is worth a word."""
        (self.told if good else self.failed).emit(words)

    def show_ruler(self, *, on: bool) -> None:
        """Show the pitch ruler, or no longer; remembered for the next start."""
        self.preferences.remember(ruler=on)
        self.ruler_shown.emit(on)

    def end_drag(self) -> None:
        """Let the next edit be a step of its own; the hand rests."""
        self.document.end_drag()
        self.hearing.rest()
        if self._settling.isActive():
            self._settle()

    def _on_replaced(self, before: Loop) -> None:
        self.selecting.begin()
        self.hearing.begin()
        self.transport.rewind()
        self.opened.emit()
        self._on_moved(before, moving=False)

    def _on_moved(self, before: Loop, moving: bool) -> None:
        self.selecting.follow()
        stood = self.hearing.follow()
        self.changed.emit(before, self.loop)
        if moving:
            self._settling.start()
        else:
            self._settle()
        if stood:
            self.hearing.shown_changed.emit()
        self.hearing.ask_when_rested(moving=moving)

    def _settle(self) -> None:
        self._settling.stop()
        self.settled.emit()

    def _on_lengthened(self, buffer_ms: int) -> None:
        self.say(
            f"The sound dropped out: the buffer is now {buffer_ms} ms. Set it in File, Settings.",
            good=True,
        )

    def close(self, *, keep: bool = False, within_s: float = CLOSING_S) -> bool:
        """Let speaker, threads and timers go; say whether all have ended within so long.

        Unsaved work must have been asked for before, or is to be kept for the next start.
        """
        document = self.document
        kept = keep and document.keep_unsaved()
        document.stop()
        self.hearing.stop()
        self._settling.stop()
        self.transport.close()
        until = time.monotonic() + within_s
        ended = [
            document.saver.has_ended(until - time.monotonic()),
            self.hearing.has_ended(until),
            self.engine.close(until - time.monotonic()),
        ]
        if not kept:
            document.keeper.forget()
            document.shelter.close()
        return all(ended)
