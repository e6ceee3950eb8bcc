"""What is heard of the open document: rendered, compared, in part, alone, or as it might become."""

import time
from collections.abc import Iterable
from typing import Literal

import numpy as np
from msgspec.structs import replace
from PyQt6.QtCore import QObject, pyqtSignal

from cloudrift.audio.looped import SplicedLoop
from cloudrift.desktop.session.document.document import OpenDocument
from cloudrift.desktop.session.document.selecting import Selecting
from cloudrift.desktop.session.document.selection import Selection
from cloudrift.desktop.session.hearing.heard_once import BARE, HeardOnce
from cloudrift.desktop.session.hearing.preview import PreviewStack
from cloudrift.desktop.session.hearing.transport import Transport
from cloudrift.desktop.session.timers import single_shot
from cloudrift.desktop.session.trouble import error_words
from cloudrift.loop.edits.layers.line_edits import bare_of
from cloudrift.loop.model.history import Moment
from cloudrift.loop.model.loop import LineAt, Loop
from cloudrift.render.engine.engine import Engine, Loudness, Rendered
from cloudrift.render.engine.worker import RenderWorker
from cloudrift.render.measure.match import Match, matched
from cloudrift.render.plan.variants import alone, up_to, without_card, without_line
from cloudrift.render.play.audition import click_track

TREATED = "treated"
Against = Literal["loop", "line", "card"]
RESTING_MS = 60  # a hand that has not moved for so long rests
MOVING_HEARD_S = 0.35  # how often a moving hand is heard while the loop plays


class Hearing(QObject):
    """Renders what is to be heard and hands it to the player; compares it with another side."""

    changed = pyqtSignal()  # what is heard, or compared with it
    shown_changed = pyqtSignal()  # the loop that is heard and shown: the open one, or a preview
    sound_changed = pyqtSignal(object)  # Rendered, as it is played from now on
    loudness_changed = pyqtSignal()
    busy_changed = pyqtSignal(bool)
    broke = pyqtSignal(str)
    _answered = pyqtSignal(str, object)
    _measured = pyqtSignal(str, object, object)
    _came_soon = pyqtSignal(object)  # Patched
    _rested = pyqtSignal()

    def __init__(
        self,
        document: OpenDocument,
        selecting: Selecting,
        transport: Transport,
        engine: Engine,
        parent: QObject | None = None,
    ) -> None:
        super().__init__(parent)
        self.document, self._selecting = document, selecting
        self.transport, self.engine = transport, engine
        self.side = TREATED
        self.rendered: dict[str, Rendered] = {}
        self.loudness: dict[str, Loudness] = {}
        self.against: Against = "loop"
        self.then: Moment | None = None
        self.alone: frozenset[str] = frozenset()  # layers and groups heard alone; none: all are
        self._up_to: tuple[str | None, int] | None = None
        self.previews = PreviewStack(document, self)
        self._comparing = False  # whether the compare switch has been used since playing began
        self._answered.connect(self._on_answered)
        self._measured.connect(self._on_measured)
        self._rested.connect(self._on_rested)
        self._came_soon.connect(self._on_soon)
        self.once = HeardOnce(self, engine, self)
        self.once.broke.connect(self.broke)
        self._worker = RenderWorker(
            engine,
            self._made,
            self._measured.emit,
            lambda _name, error: self.broke.emit(error_words(error)),
            where=lambda: self.where,
            soon=self._came_soon.emit,
            between=self.once.wait_for_draft,
            rested=self._rested.emit,
        )
        self._asked_at = 0.0  # s; never yet
        self._waits = False  # whether the loop waits for a longer form to follow first
        self._resting = single_shot(self, self.ask, RESTING_MS)
        selecting.changed.connect(self._on_selected)
        transport.playing_changed.connect(self._on_playing)
        transport.click_changed.connect(self._play_what_is_heard)
        self.previews.changed.connect(self._on_previews)

    # --- asking for it ------------------------------------------------------------------------

    def ask(self) -> None:
        """Render what is to be heard now, and the other side of the compare switch."""
        self._asked_at = time.monotonic()
        loop = self.heard_loop
        if loop.rate != self.transport.player.rate:
            loop = replace(loop, rate=self.transport.player.rate)
        part = None if self.instead else self._up_to  # another loop need not have that line
        treated = up_to(loop, *part) if part else loop
        self._worker.ask(TREATED, treated)
        self._worker.ask(BARE, self._compared(loop))
        self.busy_changed.emit(True)

    def ask_first(self) -> None:
        """Ask as soon as the window has been painted: rendering beside that would hold it up."""
        self._resting.start()

    def ask_when_rested(self, *, moving: bool) -> None:
        """Ask now, or when a moving hand rests; while the loop plays, now and then meanwhile."""
        if self.long:
            self._waits = True
            self._worker.drop()
            return
        due = self.transport.player.playing and time.monotonic() - self._asked_at > MOVING_HEARD_S
        if moving and not due:
            self._resting.start()
        else:
            self.ask()

    def rest(self) -> None:
        """The hand rests: what waits for that is asked for."""
        if self._resting.isActive():
            self._resting.stop()
            self.ask()

    def _on_rested(self) -> None:
        self.busy_changed.emit(self.busy)

    @property
    def busy(self) -> bool:
        """Whether a loop is being rendered, or waits to be."""
        return self._worker.busy or not self._asked_at

    def follow(self) -> bool:
        """The open loop is another now; say whether a preview stood, and so is another too."""
        self._up_to = None
        loop = self.document.loop
        # What is gone or parked can't be heard alone.
        self.alone = frozenset(one for one in self.alone if alone(loop, {one}) is not loop)
        return self.previews.follow(loop)

    def begin(self) -> None:
        """Hear another document as it is: nothing is left of what was heard of the one before."""
        self._up_to = self.then = None
        self.against = "loop"
        self.previews.clear()
        self.alone, self._comparing = frozenset(), False
        self.shown_changed.emit()

    # --- what is shown ------------------------------------------------------------------------

    def _on_previews(self) -> None:
        self.shown_changed.emit()
        self.ask()

    @property
    def previewing(self) -> bool:
        """Whether another loop is heard than the one that is open."""
        return bool(self.previews)

    @property
    def instead(self) -> bool:
        """Whether another loop is shown in this one's place."""
        preview = self.previews.front
        return preview is not None and preview.instead

    @property
    def preview_words(self) -> str:
        """What is heard before it is done, in words."""
        preview = self.previews.front
        return preview.words if preview else ""

    @property
    def long(self) -> bool:
        """Whether a longer form is heard in the loop's place; a preview is heard before that."""
        return self.transport.long is not None and not self.previewing

    @property
    def heard_words(self) -> str:
        """What is heard where it is not the open loop, in words; nothing where it is."""
        long = self.transport.long
        return long.words if long is not None and self.long else self.preview_words

    @property
    def shown(self) -> Loop:
        """The loop that heading and ribbon show: a preview while there is one."""
        preview = self.previews.front
        return self.document.loop if preview is None or preview.loop is None else preview.loop

    @property
    def heard_loop(self) -> Loop:
        """The loop that is shown, with only those layers heard that are heard alone, if any."""
        preview = self.previews.front
        only = preview.alone if preview else None
        return alone(self.shown, self.alone if only is None else only)

    # --- hearing some of it -------------------------------------------------------------------

    def solo(self, ids: Iterable[str]) -> None:
        """Hear only some layers and groups; none of them: all. Nothing is changed by that."""
        ids = frozenset(ids)
        if ids:
            self.transport.leave_long()
        if ids != self.alone:
            self.alone = ids
            self._hear_anew()

    def swap_alone(self, owner: str) -> None:
        """Hear a layer or a group beside those heard alone, or no longer."""
        self.solo(self.alone ^ {owner})

    def hear_up_to(self, line_of: LineAt, count: int | None) -> None:
        """Hear the loop with a line only down to a row; None for all of it again."""
        wanted = None if count is None else (line_of, count)
        if wanted != self._up_to:
            self._up_to = wanted
            self.side = TREATED
            self.transport.leave_long()
            self._hear_anew()

    @property
    def heard_up_to(self) -> tuple[str | None, int] | None:
        """Which line is heard only down to which row."""
        return self._up_to

    def _hear_anew(self) -> None:
        self.changed.emit()
        self.ask()

    # --- what it is compared with -------------------------------------------------------------

    def _compared(self, loop: Loop) -> Loop:
        """The other side of the compare switch."""
        if self.instead:
            return bare_of(loop)
        if self.then is not None:
            return alone(self.then.loop, self.alone)
        at = self._selecting.now
        if self._without_card:
            return without_card(loop, at.line_of, at.treatment_id)
        return bare_of(loop) if self.against == "loop" else without_line(loop, at.line_of)

    @property
    def sides(self) -> tuple[str, str]:
        """What both sides of the compare switch are called."""
        if self.then is not None and not self.instead:
            return "Then", "Now"
        if self.against == "loop" or self.instead:
            return "Bare", "Treated"
        what = "Treatment" if self._without_card else "Line"
        return f"{what} bypassed", f"{what} on"

    @property
    def _without_card(self) -> bool:
        """Whether one card is taken out for the comparison; without one chosen, its line is."""
        at = self._selecting.now
        there = any(t.id == at.treatment_id for t in self.document.loop.line_of(at.line_of))
        return self.against == "card" and there

    @property
    def compared(self) -> str:
        """In words, what the one side is."""
        if self.then is not None and not self.instead:
            return f"then: {self.then.label}"
        if self.against == "loop" or self.instead:
            return "no treatments"
        loop, at = self.document.loop, self._selecting.now
        whose = loop.name_of(at.line_of)
        if self._without_card:
            card = next(t for t in loop.line_of(at.line_of) if t.id == at.treatment_id)
            return f"{whose} without {card.of.label.lower()}"
        return f"{whose} without its treatments"

    def compare(self, against: Against) -> None:
        """Compare with the whole loop bare, the selected line bare, or the selected card out."""
        self.against, self.then = against, None
        self._hear_anew()

    def compare_with(self, then: Moment | None) -> None:
        """Compare with another moment; None for bare against treated again."""
        self.then = then
        self._hear_anew()

    def _on_selected(self, before: Selection) -> None:
        now = self._selecting.now
        moved = (now.line_of, now.treatment_id) != (before.line_of, before.treatment_id)
        if moved and self.then is None and self.against != "loop":
            self._hear_anew()

    @property
    def match(self) -> Match:
        """By how much both sides of the compare switch are turned so that they are equally loud."""
        return matched(self.loudness.get(BARE), self.loudness.get(TREATED))

    @property
    def match_words(self) -> str:
        """The same in words."""
        one, other = (side.lower() for side in self.sides)
        return self.match.says(one, other)

    def hear(self, side: str) -> None:
        """Hear the treated loop or the bare one, in place, at the same loudness.

        Where the treated one has to be turned down for that, it stays so until playing ends.
        """
        if side != self.side:
            self.transport.leave_long()
            self.side = side
            self._comparing = True
            self._play_what_is_heard()
            self.changed.emit()

    def swap(self) -> None:
        """Switch between treated and bare."""
        self.hear(BARE if self.side == TREATED else TREATED)

    def gain_of(self, side: str) -> float:
        """Return the gain that a loop is played with: while both are compared, they match."""
        if side == BARE:
            return self.match.one
        return self.match.other if self._comparing else 1.0

    # --- what comes of it ---------------------------------------------------------------------

    def _made(self, name: str, rendered: Rendered) -> None:
        """On the worker's thread: all that it takes to be played is made before it is handed on."""
        if name == self.side and not self.transport.click and not self.long:
            self.transport.player.get_ready(rendered.audio, self.gain_of(name))
        self._answered.emit(name, rendered)

    def _on_answered(self, name: str, rendered: Rendered) -> None:
        self.rendered[name] = rendered
        self.once.followed()
        if name == self.side:
            self._play_what_is_heard()
        if name == TREATED:
            self.sound_changed.emit(rendered)

    @property
    def where(self) -> float | None:
        """Where the sound is while the treated loop plays, 0 to 1."""
        heard = self.transport.player.playing and self.side == TREATED and not self.long
        return self.transport.player.share if heard else None

    def _on_soon(self, audio: SplicedLoop) -> None:
        """What comes next is there; the rest of the loop is as it was until it has followed."""
        if self.side == TREATED and not self.transport.click and not self.long:
            self.once.followed()
            self.transport.player.patch(audio.piece, audio.start, self.gain_of(TREATED))

    def _on_measured(self, name: str, rendered: Rendered, loudness: Loudness) -> None:
        self.loudness[name] = loudness
        if self.side == BARE or self._comparing:
            self._play_what_is_heard()
        self.loudness_changed.emit()

    def long_followed(self) -> None:
        """What is heard of the longer form is as it is now: the loop, which is not, comes next."""
        if self._waits:
            self._waits = False
            self.ask()

    def follow_long(self) -> None:
        """A longer form has begun or ended, or given way to a preview."""
        self.long_followed()
        self._play_what_is_heard()
        self.changed.emit()

    def _play_what_is_heard(self) -> None:
        if self.long:
            return
        rendered = self.rendered.get(self.side)
        if rendered is not None:
            gain = self.gain_of(self.side)
            audio = rendered.audio
            if self.transport.click:
                audio = audio * np.float32(gain) + click_track(rendered.loop, audio.shape[1])
                gain = 1.0
            self.transport.player.load(audio, gain, rendered.loop.bars)

    def _on_playing(self, on: bool) -> None:
        """What is heard once gives way; when all stands, the treated loop is as loud as it is."""
        self.once.hush()
        if not on and self._comparing and self.side == TREATED:
            self._comparing = False
            self._play_what_is_heard()

    # --- the end ------------------------------------------------------------------------------

    def stop(self) -> None:
        """Want nothing more."""
        self.previews.clear()
        self._resting.stop()
        self.once.stop()
        self._worker.stop()

    def has_ended(self, until: float) -> bool:
        """Wait until a moment (monotonic, s) for what still runs; say whether all has ended."""
        parts = (self.once, self._worker)
        ended = [part.has_ended(until - time.monotonic()) for part in parts]
        self.rendered.clear()
        return all(ended)
