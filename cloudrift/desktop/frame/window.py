"""The window: heading, rail, stages, side pane, keys, ribbon."""

import time
from pathlib import Path
from typing import Any, TypeVar

from PyQt6.QtCore import QRect, QSize, Qt, QTimer
from PyQt6.QtGui import QCloseEvent, QKeyEvent, QResizeEvent, QShowEvent
from PyQt6.QtWidgets import QApplication, QDialog, QLineEdit, QWidget

from cloudrift.audio.stretch import stop_stretching
from cloudrift.demo import unpack
from cloudrift.desktop.frame import usual_keys
from cloudrift.desktop.frame.beside import Beside
from cloudrift.desktop.frame.enter_presses import EnterPresses
from cloudrift.desktop.frame.files import Files
from cloudrift.desktop.frame.first_steps import FirstSteps
from cloudrift.desktop.frame.heading import Heading
from cloudrift.desktop.frame.importing import Importing
from cloudrift.desktop.frame.menu_table import OPEN, REDO, UNDO, menu_table
from cloudrift.desktop.frame.menus import Menus
from cloudrift.desktop.frame.notices import Notice
from cloudrift.desktop.frame.rail import INSPECTOR, STAGES
from cloudrift.desktop.frame.ribbon import LEFT, RIGHT, Ribbon
from cloudrift.desktop.frame.rooms import ROOMS
from cloudrift.desktop.frame.ruler_row import RulerRow
from cloudrift.desktop.frame.sheets import Sheets
from cloudrift.desktop.frame.side_pane import USUAL_PX
from cloudrift.desktop.kit import look
from cloudrift.desktop.kit.commands import Command
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.session.session import CLOSING_S, Session
from cloudrift.desktop.session.work.tasks import Lane
from cloudrift.ground.words import plural
from cloudrift.loop.edits.layers.takes import Becomes
from cloudrift.loop.model.bed import BED as BED_ID
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.loop import Loop
from cloudrift.sound.own import OwnSound
from cloudrift.style.form import arranged_in_style

USUAL, LEAST = (1280, 800), (1024, 640)  # pixels of the window
FRAME_PX = (2, 32)  # that a desktop puts around it
LOW_PX = 760  # a window lower than this has a lower ribbon
FRAME_MS = 16
_Sheet = TypeVar("_Sheet", bound=QDialog)


class Window(Beside):
    """One window for one session."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._steps_wanted = False  # whether they come with the next loop that is opened
        self._leaving = False  # whether nobody is there to be asked
        self._settled = False  # whether it has been asked what becomes of what is not saved
        self.ended = True  # after closing: whether all that ran has ended
        self.files = Files(session, self.tasks, self)
        self.importing = Importing(self)
        self.heading = Heading(session)
        self.ribbon = Ribbon(session, self.tasks)
        self.ruler = RulerRow(session, LEFT, RIGHT)
        self.fit(QSize(*USUAL))
        self._room = QWidget()
        self.message = Notice(self._room)
        self.steps = FirstSteps(session)
        self._lay_out()
        self.menus = Menus(self, menu_table(), self.do)
        self.recent = self.menus.add_recent(
            OPEN, lambda: session.preferences.recent, self.files.open_file
        )
        self.sheets = Sheets(self, self.menus, self.message)
        self._connect()
        self._clock = QTimer(self)
        self._clock.setInterval(FRAME_MS)
        self._clock.setTimerType(Qt.TimerType.PreciseTimer)
        self._clock.timeout.connect(self._follow_sound)
        self.show_stage(0)
        self._show_title()
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        EnterPresses(app, self)

    @property
    def closing(self) -> bool:
        return self._settled or self._leaving

    def _lay_out(self) -> None:
        body = QWidget()
        column = vertical(body, FLUSH, 0)
        self.splitter.setChildrenCollapsible(False)
        self.splitter.setHandleWidth(8)
        self.splitter.addWidget(self.stack)
        self.splitter.addWidget(self.pane)
        self.splitter.setStretchFactor(0, 1)
        self.splitter.setStretchFactor(1, 0)
        fill(vertical(self._room, (8, 6, 8, 6), 6), self.steps, (self.splitter, 1))
        row = horizontal(margins=FLUSH, spacing=0)
        fill(row, self.rail, (self._room, 1))
        fill(column, self.heading, (row, 1), self.below, self.ruler, self.ribbon)
        self.setCentralWidget(body)
        self.pane.wanted_px = self.session.preferences.now.pane_px or USUAL_PX

    def fit(self, free: QSize) -> None:
        """Be as large as it was last, or as the work wants; no larger than what is free."""
        wanted = QSize(*(self.session.preferences.now.window_px or USUAL))
        self.setMinimumSize(QSize(*LEAST).boundedTo(free))
        self.resize(wanted.boundedTo(free))

    def come_back(self, free: QRect) -> None:
        """Be where and how it was when it was closed last, inside what a screen has free."""
        self.fit(free.size() - QSize(*FRAME_PX))
        at = self.session.preferences.now.window_at
        if at is not None:
            right = free.right() - self.width() - FRAME_PX[0]
            bottom = free.bottom() - self.height() - FRAME_PX[1]
            self.move(
                min(max(at[0], free.left()), max(right, free.left())),
                min(max(at[1], free.top()), max(bottom, free.top())),
            )

    def _remember(self) -> None:
        """Keep for the next start how it was left."""
        stage = self.stack.currentIndex()
        what: dict[str, Any] = {
            "pane_px": self.pane.width(),
            "stage": stage if stage < len(STAGES) else self.stage_before,
        }
        if not (self.isMaximized() or self.isFullScreen()):
            what["window_px"] = (self.width(), self.height())
            what["window_at"] = (self.x(), self.y())
        now = self.session.preferences.now
        if any(getattr(now, name) != value for name, value in what.items()):
            self.session.preferences.remember(**what)

    def _connect(self) -> None:
        session = self.session
        self.marking.changed.connect(self._show_marks)
        self.checking.changed.connect(self._show_facts)
        self.stack.currentChanged.connect(lambda _at: self._show_marks())
        session.changed.connect(lambda _b, _a: self._show_title())
        session.document.saved.connect(self._show_title)
        for signal in (session.hearing.shown_changed, session.hearing.changed):
            signal.connect(self._show_facts)
        session.failed.connect(self.say)
        session.told.connect(lambda words: self.say(words, good=True))
        self.tasks.broke.connect(self.say)
        self.layer_in_wanted.connect(self._play_a_layer_in)
        self.keep_row_wanted.connect(self.files.keep_row)
        self.midi_chosen.connect(self.importing.open_midi)
        self.file_chosen.connect(self.files.open_file)
        self.own_kept.connect(self._keep_own)
        self.sampled_dropped.connect(self._bring_sampled)
        self.apart_wanted.connect(self._open_apart)
        self.begun.connect(self._begin)
        self.start_left.connect(lambda: self.show_stage(0))
        self.importing.asked.connect(self.sheets.show)
        self.sheets.opening.connect(self.message.hide)
        self.files.wanted.connect(lambda: self.leave_page(0))
        self.files.opened.connect(lambda: self.show_stage(0))
        self.files.opened.connect(self._offer_steps)

        self.demo_wanted.connect(self.open_demo)
        self.learn_wanted.connect(self._learn_a_card)
        self.steps.wanted.connect(lambda stage: self.choose_stage(STAGES.index(stage)))
        self.steps.left.connect(lambda: self.session.preferences.remember(steps_left=True))

    def _show_marks(self) -> None:
        """Say in the heading how much of the card is met, and in the pane what of it is not."""
        self.heading.show_marks(self.marking.words)
        self.show_missed_here()

    # --- commands ------------------------------------------------------------------------------

    def hear_all(self) -> None:
        """Hear the whole loop, all of its layers, through all of its lines."""
        self.session.transport.hear_part(0.0, 1.0)
        self.session.hearing.solo(())
        self.session.hearing.hear_up_to(None, None)
        self.ribbon.update()

    def add_up(self) -> None:
        """Hear the first layer, then two, then three; after the last it begins again."""
        hearing = self.session.hearing
        ids = [x.id for x in hearing.document.loop.heard()]
        count = next((n for n in range(1, len(ids)) if hearing.alone == set(ids[:n])), 0) + 1
        hearing.solo(ids[:count] if count < len(ids) else ())
        self.say(
            f"{count} of {plural(len(ids), 'layer')} on"
            if ids
            else "No layers yet; add one in Layers",
            good=bool(ids),
        )

    def bed_alone(self) -> None:
        """Hear the groove bed by itself, or everything again."""
        hearing = self.session.hearing
        if not self.session.loop.lanes:
            self.say("there is no groove bed yet; suggest one in Groove (Alt+5)")
        else:
            hearing.solo(() if hearing.alone == {BED_ID} else (BED_ID,))

    def do(self, command: Command) -> None:
        """Run a command: in its stage, which is shown first where it goes there, or here."""
        if not command.stage:
            command.act(self)
            return
        at = STAGES.index(command.stage)
        if command.goes:
            self.choose_stage(at)
        command.act(self.stage(at))

    def swap_theme(self) -> None:
        """Light to dark and back."""
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        name = "Nightfall" if look.look.name == "Daybreak" else "Daybreak"
        look.apply(app, name)
        self.session.preferences.remember(theme=name)

    # --- other loops --------------------------------------------------------------------------

    def _open_apart(self, document: Document) -> None:
        """Open another document in the open one's place, when that is settled."""

        def go() -> None:
            self.session.document.open(document, None, unsaved=True)
            self.show_stage(0)
            self.say("A new loop whose chords are those that sound in the flip", good=True)

        self.files.leave_then(go)

    def _keep_own(self, own: OwnSound) -> None:
        self.shelf.take_own(own)

    def _bring_sampled(self, paths: list[Path]) -> None:
        self.open_shelf()
        self.shelf.bring_files(paths)

    def _play_a_layer_in(self) -> None:
        self.open_keys()
        self.keys.choose(Becomes.NEW)

    # --- stages -------------------------------------------------------------------------------

    def start_loop(self) -> None:
        """Show the start page."""
        if not self.at_start:
            if self.is_built("keys") and self.keys.isVisible():
                self.keys.leave()
            start = self.start
            self.pane.open(INSPECTOR)
            self.show_page(ROOMS.index(type(start)))
        session = self.session
        self.start.never_mind.setVisible(
            session.document.path is not None or session.document.begun
        )
        self.start.enter()

    def offer_steps(self, *, now: bool) -> None:
        """Let the first steps come with the first loop that is opened, or ``now``: only once."""
        self._steps_wanted = not self.session.preferences.now.steps_left
        if now:
            self._offer_steps()

    def _offer_steps(self) -> None:
        if self._steps_wanted:
            self._steps_wanted = False
            self.steps.begin()

    def begin_steps(self) -> None:
        """Show the first steps, in the open loop."""
        self.leave_page(0)
        self.steps.begin()

    def open_demo(self) -> None:
        """Make the demo kit where it is not yet, and open its first loop."""

        def came(paths: list[Path]) -> None:
            self.files.open_file(paths[0])

        self.say("Making the demo kit…", good=True)
        self.tasks.run(
            "demo kit", lambda _stop, _moved: unpack(), came, lambda error: self.say(str(error)),
            lane=Lane.WRITING,
        )  # fmt: skip

    def _learn_a_card(self) -> None:
        self.start.leave()
        self.open_style()
        self.style_page.show_tab("learn")

    def _begin(self, loop: Loop) -> None:
        plays_in = self.start.plays_in

        def go() -> None:
            self.session.document.open(self._arranged(loop), None)
            self._offer_steps()
            self.show_stage(STAGES.index("Layers") if plays_in else 0)
            if plays_in:
                self._play_a_layer_in()

        def stay() -> None:
            if self.at_start:
                self.start.show_again()

        if self.session.document.is_untouched:
            go()
        else:
            self.files.leave_then(go, stay)

    def _arranged(self, loop: Loop) -> Document:
        """A loop that was sketched from a card is arranged as the card has it, if it has chords."""
        document, card = Document.of(loop), self.start.source.card
        return (
            arranged_in_style(document, card, loop.variation) if card and loop.chords else document
        )

    # --- telling ------------------------------------------------------------------------------

    def say(self, words: str, *, good: bool = False) -> None:
        """Say something over the foot of the stage, for a while."""
        self.message.say(words, good=good)

    def _show_title(self) -> None:
        session = self.session
        star = "" if session.document.is_saved else " *"
        self.setWindowTitle(f"{session.loop.title}{star} – Cloudrift")
        self._show_facts()
        history = session.document.history
        for command, what, name in (
            (UNDO, "&Undo", history.undo_label),
            (REDO, "&Redo", history.redo_label),
        ):
            action = self.menus.action(command)
            action.setEnabled(bool(name))
            action.setText(f"{what} {name}".strip())

    def _show_facts(self) -> None:
        session = self.session
        sections = session.document.history.now.arrangement.sections
        fix = self.checking.words
        self.rail.show_facts(session.hearing.heard_loop, len(sections), fix)

    def _follow_sound(self) -> None:
        """Sixty times a second: everything that follows the place in the loop."""
        share = self.session.transport.share
        self.heading.show_place(share)
        self.ribbon.show_place(share)
        self.ruler.show_place(share)
        self.room.show_place(share)  # type: ignore[union-attr]

    # --- Qt -----------------------------------------------------------------------------------

    def showEvent(self, event: QShowEvent | None) -> None:
        self._clock.start()
        super().showEvent(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and usual_keys.is_usual(event):
            usual_keys.in_picture(self, event)
        else:
            super().keyPressEvent(event)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        self.ribbon.be_low(on=self.height() < LOW_PX)
        self.ruler.be_in(self.height())
        super().resizeEvent(event)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        assert event is not None
        focused = self.focusWidget()
        if isinstance(focused, QLineEdit):
            focused.clearFocus()  # what is being typed counts
        if not (self._leaving or self._settled or self._is_settled()):
            event.ignore()
            return
        self._remember()
        # Gone from the screen at once, whatever still runs.
        self.hide()
        QApplication.sendPostedEvents()
        self._clock.stop()
        if self.is_built("arrange"):
            self.arrange.taker.drop()
        self.tasks.stop()
        stop_stretching()  # what waits for it ends
        until = time.monotonic() + CLOSING_S
        self.ended = self.session.close(keep=self._leaving)
        self.ended = self.tasks.has_ended(until - time.monotonic()) and self.ended
        event.accept()

    def _is_settled(self) -> bool:
        """Whether the window may close now; if something is saved first, it closes after that."""
        waited = False

        def go() -> None:
            closes = waited and not self._settled
            self._settled = True
            if closes:
                self.close()

        self.files.leave_then(go)
        waited = True
        return self._settled

    def leave(self) -> None:
        """Close without a question: what is not saved is kept for the next start."""
        self._leaving = True
        self.close()
