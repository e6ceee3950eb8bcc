"""The session: the loop, its history, what is selected, what is heard. Views observe it.

``apply`` is the only way to change the loop. Rendering and playing follow by themselves.
"""

import logging
import time
from collections.abc import Callable, Iterable
from dataclasses import replace
from pathlib import Path
from typing import Literal, TypeVar

import msgspec
import numpy as np
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.clips import ClipStore
from cloudrift.desktop.session.heard_once import BARE, HeardOnce
from cloudrift.desktop.session.keeper import Keeper
from cloudrift.desktop.session.preferences import Preferences
from cloudrift.desktop.session.preview import Preview
from cloudrift.desktop.session.saver import Saver, Written
from cloudrift.desktop.session.selection import first_selection, only_there, still_there
from cloudrift.desktop.session.trouble import error_words
from cloudrift.devices import Speaker
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop import spec
from cloudrift.loop.document import Document
from cloudrift.loop.history import History, Moment
from cloudrift.loop.model import LineAt, Loop
from cloudrift.loop.recovery import Shelter
from cloudrift.loop.storage import signature, with_suffix
from cloudrift.render.audition import click_track
from cloudrift.render.engine import Engine, Loudness, Rendered
from cloudrift.render.match import Match, matched
from cloudrift.render.player import Player
from cloudrift.render.variants import alone, bare_of, up_to, without_card, without_line
from cloudrift.render.worker import RenderWorker

log = logging.getLogger(__name__)

TREATED = "treated"
Against = Literal["loop", "line", "card"]
_Made = TypeVar("_Made")
CLOSING_S = 2.0  # so long is waited for what still runs when all is to end
RESTING_MS = 60  # a hand that has not moved for so long rests
MOVING_HEARD_S = 0.35  # how often a moving hand is heard while the loop plays


class Session(QObject):
    """One open loop."""

    changed = pyqtSignal(object, object)  # Loop before, Loop after
    opened = pyqtSignal()  # another document
    saved = pyqtSignal()
    selected = pyqtSignal()
    sound_changed = pyqtSignal(object)  # Rendered, as it is played from now on
    loudness_changed = pyqtSignal()
    hearing_changed = pyqtSignal()
    playing_changed = pyqtSignal(bool)
    shown_changed = pyqtSignal()  # the loop that is heard and shown: this one, or a preview
    busy_changed = pyqtSignal(bool)
    failed = pyqtSignal(str)
    told = pyqtSignal(str)  # something that went well and is worth a word
    _answered = pyqtSignal(str, object)
    _measured = pyqtSignal(str, object, object)
    _broke = pyqtSignal(str)
    _came_soon = pyqtSignal(object)  # Stereo
    _rested = pyqtSignal()

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
        self.history = History.of(what)
        loop = self.loop
        self.path = path
        self._recovered = False  # whether it was left by a crash
        self.begun = False  # whether somebody has chosen this loop, rather than the program
        self.preferences = preferences or Preferences()
        self.speaker = speaker
        self.shelter = shelter or Shelter()
        self.engine = engine or Engine(clips=self.shelter.clips)
        self.player = Player(loop.rate)
        self.selection = first_selection(loop)
        self.hearing = TREATED
        self.rendered: dict[str, Rendered] = {}
        self.loudness: dict[str, Loudness] = {}
        self._saved = self.history.now if path else None
        self.keeper = Keeper(self.shelter, self.clips, self)
        self.keeper.failed.connect(self.say)
        self.saver = Saver(self)
        self._opened = 0  # how many documents have been opened before this one
        self._seen = signature(path)
        self._up_to: tuple[str | None, int] | None = None
        self.against: Against = "loop"
        self.then: Moment | None = None
        self._previews: tuple[Preview, ...] = ()  # that stand; the last is in front
        self.alone: frozenset[str] = frozenset()  # layers and groups heard alone; none: all are
        self.click = False
        self._comparing = False  # whether the compare switch has been used since playing began
        self._answered.connect(self._on_answered)
        self._measured.connect(self._on_measured)
        self._broke.connect(self.say)
        self._rested.connect(lambda: self.busy_changed.emit(self.busy))
        self._came_soon.connect(self._on_soon)
        self.once = HeardOnce(self)
        self._worker = RenderWorker(
            self.engine,
            self._answered.emit,
            self._measured.emit,
            lambda _name, error: self._broke.emit(error_words(error)),
            where=self._where,
            soon=self._came_soon.emit,
            between=self.once.wait_for_draft,
            rested=self._rested.emit,
        )
        self._asked_at = 0.0
        self._resting = QTimer(self)
        self._resting.setSingleShot(True)
        self._resting.setInterval(RESTING_MS)
        self._resting.timeout.connect(self._ask)
        self._autosave = QTimer(self)
        self._autosave.setInterval(spec.AUTOSAVE_EVERY_S * 1000)
        self._autosave.timeout.connect(self._keep_soon)
        self._autosave.start()
        speaker.start(self.player.pull)
        self._ask()

    def say(self, words: str, *, good: bool = False) -> None:
        """Say in a sentence what could not be done, or what went well and is worth a word."""
        (self.told if good else self.failed).emit(words)

    # --- the loop -----------------------------------------------------------------------------

    @property
    def clips(self) -> ClipStore:
        """The recordings that documents name."""
        return self.engine.clips

    @property
    def loop(self) -> Loop:
        """The loop as it is now."""
        return self.history.now.loop

    def apply(
        self, label: str, edit: Callable[[Loop], Loop], *, merge: str = "", moving: bool = False
    ) -> bool:
        """Change the loop; say whether it changed. ``merge`` joins the steps of one drag.

        ``moving`` says that a hand is on its way over a picture: then the picture comes first and
        the sound follows when the hand rests, or now and then while the loop plays. An edit that
        is refused leaves everything as it is and is said in words.
        """
        before = self.loop
        self.make(label, lambda loop: (edit(loop), None), merge=merge, moving=moving)
        return self.loop is not before

    def make(
        self, label: str, edit: Callable[[Loop], tuple[Loop, _Made]], *, merge: str = "",
        moving: bool = False,
    ) -> _Made | None:  # fmt: skip
        """Change the loop by an edit that hands back what it made; return that.

        None where the edit was refused. All else is as in ``apply``.
        """
        before = self.loop
        if self._is_hidden():
            return None
        try:
            after, made = edit(before)
        except CloudriftError as error:
            self.say(str(error))
            return None
        self.history = self.history.then(self.history.now.with_loop(after), label, merge)
        if self.loop is not before:
            self._follow(before, moving=moving)
        return made

    def _is_hidden(self) -> bool:
        """Whether another loop is shown in this one's place: what is not seen is not changed."""
        if self.instead:
            self.say("that would change a loop that is not shown; begin with this one, or "
                             "go back to the open one first")  # fmt: skip
        return self.instead

    def end_drag(self) -> None:
        """Let the next edit be a step of its own."""
        self.history = self.history.closed()
        if self._resting.isActive():
            self._resting.stop()
            self._ask()

    def undo(self) -> None:
        """Take the last edit back."""
        if self._is_hidden():
            return
        before = self.loop
        self.history = self.history.undone()
        self._follow(before)

    def redo(self) -> None:
        """Bring an undone edit again."""
        if self._is_hidden():
            return
        before = self.loop
        self.history = self.history.redone()
        self._follow(before)

    def open(self, what: Loop | Document, path: Path | None, *, unsaved: bool = False) -> None:
        """Put another document in place of this one; what was unsaved must have been asked for."""
        before = self.loop
        self._opened += 1
        self.keeper.forget()
        self.history = History.of(what)
        self.path, self._seen = path, signature(path)
        self.begun = True
        self._saved = None if unsaved or path is None else self.history.now
        self.selection = first_selection(self.loop)
        self._up_to = self.then = None
        self.against = "loop"
        for preview in self._previews:
            preview.end()
        self._recovered = unsaved
        self.alone, self._comparing = frozenset(), False
        self.shown_changed.emit()
        self.player.hear_part(0, 1)
        self.player.seek(0)
        self.opened.emit()
        self._follow(before)

    def _follow(self, before: Loop, *, moving: bool = False) -> None:
        self._up_to = None
        self.selection = still_there(self.selection, self.loop)
        self.alone &= {x.id for x in self.loop.layers} | {x.id for x in self.loop.groups}
        standing = self._previews
        self._previews = tuple(one for one in standing if one.follow(self.loop))
        self.changed.emit(before, self.loop)
        if standing:
            self.shown_changed.emit()
        due = self.player.playing and time.monotonic() - self._asked_at > MOVING_HEARD_S
        if moving and not due:
            self._resting.start()
        else:
            self._ask()

    # --- selection ----------------------------------------------------------------------------

    def select(self, **what: object) -> None:
        """Change the selection: ``chord_id``, ``voice``, ``layer_id``, ``line_of``, …

        Another chord in front, without ``more``, is selected alone. What the loop has not got is
        passed over.
        """
        what = only_there(what, self.loop)
        if what.get("chord_id", self.selection.chord_id) != self.selection.chord_id:
            what = {"more": (), "voice": -1, "through": False, **what}
        if what.get("layer_id", self.selection.layer_id) != self.selection.layer_id:
            what = {"notes": frozenset(), **what}
        selection = replace(self.selection, **what)  # type: ignore[arg-type]
        if selection != self.selection:
            before, self.selection = self.selection, selection
            self.selected.emit()
            at = (selection.line_of, selection.treatment_id)
            moved = at != (before.line_of, before.treatment_id)
            if moved and self.then is None and self.against != "loop":
                self._compare_anew()

    # --- sound --------------------------------------------------------------------------------

    def _ask(self) -> None:
        self._asked_at = time.monotonic()
        loop = self.heard_loop
        if loop.rate != self.player.rate:  # the speaker keeps the rate it was opened with
            loop = msgspec.structs.replace(loop, rate=self.player.rate)
        part = None if self.instead else self._up_to  # another loop need not have that line
        treated = up_to(loop, *part) if part else loop
        self._worker.ask(TREATED, treated)
        self._worker.ask(BARE, self._compared(loop))
        self.busy_changed.emit(True)

    @property
    def busy(self) -> bool:
        """Whether a loop is being rendered, or waits to be."""
        return self._worker.busy

    # --- what it is compared with -------------------------------------------------------------

    def _compared(self, loop: Loop) -> Loop:
        """The other side of the compare switch."""
        if self.instead:
            return bare_of(loop)
        if self.then is not None:
            return alone(self.then.loop, self.alone)
        at = self.selection
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
        what = "Card" if self._without_card else "Line"
        return f"{what} out", f"{what} in"

    @property
    def _without_card(self) -> bool:
        """Whether one card is taken out for the comparison; without one chosen, its line is."""
        at = self.selection
        there = any(t.id == at.treatment_id for t in self.loop.line_of(at.line_of))
        return self.against == "card" and there

    @property
    def compared(self) -> str:
        """In words, what the one side is."""
        if self.then is not None and not self.instead:
            return f"then: {self.then.label}"
        if self.against == "loop" or self.instead:
            return "no treatment anywhere"
        whose = self.loop.name_of(self.selection.line_of)
        line = self.loop.line_of(self.selection.line_of)
        if self._without_card:
            card = next(t for t in line if t.id == self.selection.treatment_id)
            return f"{whose} without {card.of.label.lower()}"
        return f"{whose} without its line"

    def compare(self, against: Against) -> None:
        """Compare with the whole loop bare, the selected line bare, or the selected card out."""
        self.against, self.then = against, None
        self._compare_anew()

    def compare_with(self, then: Moment | None) -> None:
        """Compare with another moment; None for bare against treated again."""
        self.then = then
        self._compare_anew()

    def _compare_anew(self) -> None:
        self.hearing_changed.emit()
        self._ask()

    def go_to(self, at: int) -> None:
        """Go to a moment of the history."""
        if self._is_hidden():
            return
        before = self.loop
        self.history = self.history.gone_to(at)
        self._follow(before)

    def _on_answered(self, name: str, rendered: Rendered) -> None:
        self.rendered[name] = rendered
        self.once.followed()
        if name == self.hearing:
            self._play_what_is_heard()
        if name == TREATED:
            self.sound_changed.emit(rendered)

    def _where(self) -> float | None:
        """Where the sound is while the treated loop plays."""
        heard = self.player.playing and self.hearing == TREATED
        return self.player.share if heard else None

    def _on_soon(self, audio: Stereo) -> None:
        """What comes next is there; the rest of the loop is as it was until it has followed."""
        if self.hearing == TREATED and not self.click:
            self.once.followed()
            self.player.load(audio, self.gain_of(TREATED))

    def _on_measured(self, name: str, rendered: Rendered, loudness: Loudness) -> None:
        self.loudness[name] = loudness
        if self.hearing == BARE or self._comparing:
            self._play_what_is_heard()
        self.loudness_changed.emit()

    def _play_what_is_heard(self) -> None:
        rendered = self.rendered.get(self.hearing)
        if rendered is not None:
            gain = self.gain_of(self.hearing)
            audio = rendered.audio
            if self.click:
                audio = audio * np.float32(gain) + click_track(rendered.loop, audio.shape[1])
                gain = 1.0
            self.player.load(audio, gain)

    @property
    def match(self) -> Match:
        """By how much both sides of the compare switch are turned so that they are equally loud."""
        return matched(self.loudness.get(BARE), self.loudness.get(TREATED))

    @property
    def match_words(self) -> str:
        """The same in words."""
        one, other = (side.lower() for side in self.sides)
        return self.match.says(one, other)

    def hear(self, what: str) -> None:
        """Hear the treated loop or the bare one, in place, at the same loudness.

        Where the treated one has to be turned down for that, it stays so until playing ends.
        """
        if what != self.hearing:
            self.hearing = what
            self._comparing = True
            self._play_what_is_heard()
            self.hearing_changed.emit()

    def swap_hearing(self) -> None:
        """Switch between treated and bare."""
        self.hear(BARE if self.hearing == TREATED else TREATED)

    def hear_up_to(self, line_of: LineAt, count: int | None) -> None:
        """Hear the loop with a line only down to a row; None for all of it again."""
        wanted = None if count is None else (line_of, count)
        if wanted != self._up_to:
            self._up_to = wanted
            self.hearing = TREATED
            self.hearing_changed.emit()
            self._ask()

    def gain_of(self, hearing: str) -> float:
        """Return the gain that a loop is played with: while both are compared, they match."""
        if hearing == BARE:
            return self.match.one
        return self.match.other if self._comparing else 1.0

    @property
    def heard_up_to(self) -> tuple[str | None, int] | None:
        """Which line is heard only down to which row."""
        return self._up_to

    def put_preview(self, preview: Preview) -> None:
        """Show and hear a preview, in front of those that stand."""
        self._stand((*(one for one in self._previews if one is not preview), preview))

    def end_preview(self, preview: Preview) -> None:
        """Let a preview go; what is behind it is shown and heard again."""
        self._stand(tuple(one for one in self._previews if one is not preview))

    def _stand(self, previews: tuple[Preview, ...]) -> None:
        # What stands in the loop's place stays in front of what the loop might become.
        self._previews = tuple(sorted(previews, key=lambda one: one.instead))
        self.shown_changed.emit()
        self._ask()

    @property
    def _preview(self) -> Preview | None:
        """The preview in front."""
        return self._previews[-1] if self._previews else None

    @property
    def instead(self) -> bool:
        """Whether another loop is shown in this one's place."""
        return self._preview is not None and self._preview.instead

    @property
    def preview_words(self) -> str:
        """What is heard before it is done, in words."""
        return self._preview.words if self._preview else ""

    @property
    def heard_loop(self) -> Loop:
        """The loop that is shown, with only those layers heard that are heard alone, if any."""
        only = self._preview.alone if self._preview else None
        return alone(self.shown, self.alone if only is None else only)

    def hear_alone(self, ids: Iterable[str]) -> None:
        """Hear only some layers and groups; none of them: all. Nothing is changed by that."""
        ids = frozenset(ids)
        if ids != self.alone:
            self.alone = ids
            self.hearing_changed.emit()
            self._ask()

    def swap_alone(self, owner: str) -> None:
        """Hear a layer or a group beside those heard alone, or no longer."""
        self.hear_alone(self.alone ^ {owner})

    @property
    def shown(self) -> Loop:
        """The loop that heading and ribbon show: a preview while there is one."""
        preview = self._preview
        return self.loop if preview is None or preview.loop is None else preview.loop

    @property
    def previewing(self) -> bool:
        """Whether another loop is heard than the one that is open."""
        return self._preview is not None

    # --- playing ------------------------------------------------------------------------------

    def use_speaker(self, speaker: Speaker) -> None:
        """Play through another speaker from now on; the one before has been closed."""
        self.speaker = speaker
        self.player.reset_clock()
        speaker.start(self.player.pull)

    def set_click(self, on: bool) -> None:
        """Let a click be heard with the loop, or not."""
        self.click = on
        self._play_what_is_heard()

    def set_playing(self, on: bool) -> None:
        """Play or stop."""
        self.once.hush()
        if on:
            self.player.play()
        else:
            self.player.stop()
            self._end_comparing()
        self.playing_changed.emit(on)

    def _end_comparing(self) -> None:
        """Let the treated loop be as loud as it is again."""
        if self._comparing and self.hearing == TREATED:
            self._comparing = False
            self._play_what_is_heard()

    def toggle_playing(self) -> None:
        """Play if it stands, stop if it plays."""
        self.set_playing(not self.player.playing)

    # --- files --------------------------------------------------------------------------------

    @property
    def is_saved(self) -> bool:
        """Whether the loop is as it is on disk."""
        return self.history.now == self._saved

    @property
    def would_be_lost(self) -> bool:
        """Whether letting go of the loop now would lose somebody's work."""
        return not self.is_saved and (self.history.can_undo or self.begun)

    @property
    def is_untouched(self) -> bool:
        """Whether the loop is as it was begun: the start page makes the same again."""
        begun = self.path is None and not self._recovered
        return begun and not (self.history.can_undo or self.history.can_redo)

    def save(self, path: Path, then: Callable[[bool], object] = lambda _good: None) -> None:
        """Write the loop as it is now, beside the interface; ``then`` hears whether it went well.

        A failure is said, and changes nothing. What is changed meanwhile is not saved.
        """
        opened = self._opened

        def answer(written: Written) -> None:
            if written.wrong:
                self.say(written.wrong)
            elif opened == self._opened:  # no other has been opened
                self.path, self._saved, self._seen = written.path, written.document, written.seen
                if self.is_saved:
                    self.keeper.forget()
                self.saved.emit()
            then(not written.wrong)

        self.saver.save(self.history.now, with_suffix(path), self.clips, answer)

    @property
    def is_changed_outside(self) -> bool:
        """Whether another program has written the loop's file since it was opened or saved."""
        return self.path is not None and signature(self.path) not in (self._seen, None)

    def keep_unsaved(self) -> bool:
        """Keep what is not saved against a crash, now; say whether it is safe."""
        return not self.would_be_lost or self.keeper.keep(self.history.now, self.path)

    def _keep_soon(self) -> None:
        if self.would_be_lost:
            self.keeper.keep_soon(self.history.now, self.path)

    def close(self, *, keep: bool = False, within_s: float = CLOSING_S) -> bool:
        """Let speaker, threads and timers go; say whether all have ended within so long.

        Unsaved work must have been asked for before, or is to be kept for the next start.
        """
        self._autosave.stop()
        self._resting.stop()
        kept = keep and self.keep_unsaved()
        self.once.stop()
        self._worker.stop()
        self.saver.stop()
        self.speaker.close()
        until = time.monotonic() + within_s
        ended = [
            part.has_ended(until - time.monotonic())
            for part in (self.saver, self.once, self._worker)
        ]
        ended.append(self.engine.close(until - time.monotonic()))
        self.rendered.clear()
        if not kept:
            self.shelter.close()
        return all(ended)
