"""The arrangement heard: made section by section beside the interface, played as one long form."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from cloudrift.audio.buffers import Stereo, silence
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.trouble import error_words
from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.ground.cancel import Cancelled
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.sections import Arrangement
from cloudrift.render.engine.engine import Loudness
from cloudrift.render.forms.arrangement_heard import (
    Stretch,
    WithSection,
    laid_out,
    loudness_of,
    section_by_section,
    what_sounds_next,
)
from cloudrift.render.forms.spans import lengths_of, turns_of
from cloudrift.render.forms.trial_voice import laid_over
from cloudrift.render.measure.match import matched

MAKING = "the arrangement"


@dataclass(frozen=True)
class ArrangementPosition:
    """Where one is: in which section, in which bar of it, and at which share of its loop.

    ``inside`` is the share of the whole section.
    """

    at: int
    bar: int
    share: float
    inside: float


class Arranged(QObject):
    """``changed``: it is heard, or no longer, or more of it is made."""

    changed = pyqtSignal()
    sounded = pyqtSignal()  # what is played is as it is now
    _came = pyqtSignal(int, object)  # the number of the request; WithSection
    _soon = pyqtSignal(int, object)  # likewise, Stretch
    _broke = pyqtSignal(str)
    _sung = pyqtSignal(int, object)  # likewise, Stereo or None
    _measured = pyqtSignal(int, object)  # likewise, (Loudness, Loudness)

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__(session)
        self._session, self._tasks = session, tasks
        self.on = False
        self.made: frozenset[int] = frozenset()  # sections that are as they are now
        self.loudness: dict[int, np.ndarray] = {}  # by section: dB of each bar
        self.voice_room: dict[int, float] = {}  # by section: dB between 1 and 4 kHz, against all
        self.voice_over: dict[int, float] = {}  # by section: of the trial voice over the rest, dB
        self._voice: Stereo | None = None  # the trial voice that is heard, as long as all of it
        self._document: Document | None = None
        self._starts: tuple[int, ...] = (0,)
        self._turns: tuple[int, ...] = ()
        self._audio = self._bare = silence(0)  # through the line of all of it, and before that
        self.without = False  # whether it is heard before that line
        self._compares = False  # whether both have been wanted since it is heard
        self.sum_loudness: tuple[Loudness, Loudness] | None = None  # before it, and after it
        self._request = 0
        self._waits_at: ArrangementPosition | None = None  # while a preview is heard before it
        self._came.connect(self._on_piece)
        self._soon.connect(self._on_soon)
        self._measured.connect(self._on_measured)
        self._sung.connect(self._on_sung)
        self._broke.connect(session.say)
        session.changed.connect(lambda _b, _a: self._follow())
        session.opened.connect(self._forget)
        session.hearing.shown_changed.connect(self._give_way)

    @property
    def _arrangement(self) -> Arrangement:
        return self._session.document.history.now.arrangement

    # --- hearing ------------------------------------------------------------------------------

    def hear(self, at: int = 0, *, before_bars: float = 0.0) -> None:
        """Hear the arrangement from a section on, or that many bars before it; it plays."""
        if not self._arrangement.sections:
            self._session.say("no sections yet; suggest an arrangement, or add a section")
            return
        session = self._session
        session.transport.hear_part(0, 1)
        self.on = True
        self.without = self._compares = False
        session.transport.long = self
        self._lay_out()
        start = self._starts[at]
        if before_bars and at:
            turn = self._turns[at - 1] / session.loop.bars
            start = max(0, start - round(before_bars * turn))
        self._load()
        session.player.seek(start / max(1, self._starts[-1]))
        self._make()
        session.transport.set_playing(True)
        session.hearing.follow_long()
        self.changed.emit()

    def leave(self) -> None:
        """Hear the loop again."""
        if not self.on:
            return
        self.on = False
        self._tasks.cancel(MAKING)
        transport = self._session.transport
        share, self._waits_at = transport.share, None
        transport.long = None
        self._session.hearing.follow_long()
        self._session.player.seek(share)
        self.changed.emit()

    def _forget(self) -> None:
        self.leave()
        for facts in (self.loudness, self.voice_room, self.voice_over):
            facts.clear()
        self._voice = None

    def _give_way(self) -> None:
        """A preview is heard before the arrangement, which goes on where it was after it."""
        hearing, player = self._session.hearing, self._session.player
        if not self.on:
            return
        if hearing.previewing and self._waits_at is None:
            self._waits_at = place = self._place(player.share)
            hearing.follow_long()
            player.seek(place.share)
        elif not hearing.previewing and self._waits_at is not None:
            place, self._waits_at = self._waits_at, None
            self._load()
            player.seek(self.share_of(place.at, place.inside))
            hearing.follow_long()

    def _follow(self) -> None:
        """Something has changed: what comes next is made again, the section that plays first."""
        if not self.on:
            return
        if not self._arrangement.sections:
            self.leave()
            return
        now = self._session.document.history.now
        if now is not self._document:
            self._lay_out()
            self._make()

    def _lay_out(self) -> None:
        """Find where sections begin now; what has been made stays until it is made again."""
        self._document = document = self._session.document.history.now
        was = self._here
        lengths, self._turns = lengths_of(document), turns_of(document)
        starts = tuple(int(one) for one in np.cumsum([0, *lengths]))
        if starts == self._starts and self._audio.shape[1] == starts[-1]:
            return
        self._audio = laid_out(self._audio, self._starts, starts)
        self._bare = laid_out(self._bare, self._starts, starts)
        self._starts = starts
        if self._waits_at is None and len(starts) > 1:  # it goes on in the section that it was in
            self._load()
            at = min(was.at, len(lengths) - 1)
            self._session.player.seek(self.share_of(at, was.inside))

    def _make(self) -> None:
        """Make the sections again: what sounds next at once, then from there on, then the rest."""
        document = self._document
        if document is None:
            return
        first = min(self._here.at, len(self._starts) - 2)
        self.made, self.sum_loudness = frozenset(), None
        self.voice_room.clear()
        self.voice_over.clear()
        self.without = self.without and bool(document.arrangement.line)
        self._request += 1
        request, engine = self._request, self._session.engine
        audio, bare, starts = self._audio, self._bare, self._starts
        player, line = self._session.player, document.arrangement.line
        share = self._waits_at is None and player.share

        rate, take, clips = document.loop.rate, document.arrangement.take, engine.clips

        def work(stale: Callable[[], bool], moved: Callable[[float, str], None]) -> None:
            heard, without = audio, bare
            voice = None
            try:
                voice = laid_over(take, clips, rate, starts[-1]) if take else None
            except CloudriftError as error:  # all else is heard
                self._broke.emit(f"{take.name if take else ''}: {error}")
            self._sung.emit(request, voice)
            if share is not False:
                heard = np.array(audio)
                for part in what_sounds_next(engine, document, starts, share, stale):
                    if stale():
                        raise Cancelled
                    heard[:, part.start : part.start + part.audio.shape[1]] = part.audio
                    self._soon.emit(request, part)
            for one in section_by_section(
                engine, document, starts, heard, without, first=first, voice=voice, stale=stale
            ):
                heard, without = one.audio, one.bare
                if voice is None:  # here, where there is time for it
                    player.get_ready(without if self.without else heard, self._gain)
                self._came.emit(request, one)
            after = loudness_of(heard, rate)
            self._measured.emit(request, (loudness_of(without, rate) if line else after, after))

        def failed(error: Exception) -> None:
            self._session.hearing.long_followed()
            if not isinstance(error, Cancelled):
                self._session.say(error_words(error))

        self._tasks.run(
            MAKING, work, lambda _none: self.changed.emit(), failed, lane=Lane.ARRANGING
        )

    def _on_soon(self, request: int, part: Stretch) -> None:
        if request == self._request and self.on and self._waits_at is None:
            sound, voice = part.audio, self._voice
            if voice is not None:
                end = part.start + sound.shape[1]
                sound = sound + voice[:, part.start : end] if end <= voice.shape[1] else sound
            self._session.player.patch(sound, part.start, self._gain)
            self.sounded.emit()

    def _on_sung(self, request: int, voice: Stereo | None) -> None:
        if request == self._request:
            changes = voice is not None or self._voice is not None
            self._voice = voice
            if changes and self.on and self._waits_at is None:
                self._load()

    def _on_piece(self, request: int, made: WithSection) -> None:
        if request != self._request or not self.on:
            return
        at, self._audio, self._bare, facts = made
        self.made |= {at}
        self.loudness[at], self.voice_room[at] = facts.levels, facts.voice_room
        if facts.voice_over is not None:
            self.voice_over[at] = facts.voice_over
        if self._waits_at is None:
            self._load()
        self.sounded.emit()
        self._session.hearing.long_followed()
        self.changed.emit()

    def _on_measured(self, request: int, found: tuple[Loudness, Loudness]) -> None:
        if request == self._request:
            self.sum_loudness = found
            if self.on and self._waits_at is None and self._gain != 1:
                self._load()
            self.changed.emit()

    def hear_without(self, *, without: bool) -> None:
        """Hear all without its line, or with it, equally loud once that is known."""
        if not self.on:
            self.hear(0)
        self.without, self._compares = without, True
        if self._waits_at is not None:
            return
        self._load()
        self.changed.emit()

    @property
    def _gain(self) -> float:
        """What it is turned by, so that it is as loud with the line of all of it as without."""
        if not self._compares or self.sum_loudness is None or not self._arrangement.line:
            return 1.0
        match = matched(*self.sum_loudness)
        return match.one if self.without else match.other

    def _load(self) -> None:
        heard, voice = self._bare if self.without else self._audio, self._voice
        if voice is not None and voice.shape == heard.shape:
            heard = heard + voice
        self._session.player.load(heard, self._gain)

    # --- where it is --------------------------------------------------------------------------

    @property
    def busy(self) -> bool:
        """Whether sections are still being made."""
        return self.on and len(self.made) < len(self._starts) - 1

    @property
    def frames(self) -> int:
        """How long all of it is, in frames."""
        return self._starts[-1]

    def place(self) -> ArrangementPosition | None:
        """Return where the sound is; None while another thing is heard."""
        return self._here if self.on and self._waits_at is None else None

    @property
    def _here(self) -> ArrangementPosition:
        return self._waits_at or self._place(self._session.player.share)

    def _place(self, share: float) -> ArrangementPosition:
        if len(self._starts) < 2:
            return ArrangementPosition(0, 1, 0.0, 0.0)
        frame = round(share * self._starts[-1])
        at = min(bisect_right(self._starts, frame) - 1, len(self._starts) - 2)
        start, end = self._starts[at], self._starts[at + 1]
        turn, bars = self._turns[at], self._session.loop.bars
        inside = frame - start
        return ArrangementPosition(
            at, inside * bars // turn + 1, inside % turn / turn, inside / max(1, end - start)
        )

    def inside(self, share: float) -> float:
        """Return where in the loop a place in the arrangement is (0-1)."""
        return share if self._waits_at is not None else self._place(share).share

    def outside(self, share: float) -> float:
        """Return where a place in the loop is in the section, and its pass, that sounds (0-1)."""
        if self._waits_at is not None:
            return share
        frame = round(self._session.player.share * self._starts[-1])
        at = self._here.at
        turn = self._turns[at]
        first = self._starts[at] + (frame - self._starts[at]) // turn * turn
        return min(first + share * turn, self._starts[at + 1] - 1) / max(1, self._starts[-1])

    def share_of(self, at: int, inside: float = 0.0) -> float:
        """Return the share of the arrangement at a section, so far into it (0 to 1)."""
        start, end = self._starts[at], self._starts[at + 1]
        return (start + inside * (end - start)) / max(1, self._starts[-1])

    @property
    def words(self) -> str:
        """What is heard, for the heading."""
        place, sections = self._here, self._arrangement.sections
        if place.at >= len(sections):
            return "playing the arrangement"
        section = sections[place.at]
        return f"playing {section.name}, bar {min(place.bar, section.bars)} of {section.bars}"
