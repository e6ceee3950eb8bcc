"""The window: heading, rail, stages, drawers, ribbon."""

import time
from pathlib import Path
from typing import TypeVar

from PyQt6.QtCore import QSize, Qt, QTimer
from PyQt6.QtGui import QCloseEvent, QShowEvent
from PyQt6.QtWidgets import QApplication, QDialog, QLineEdit, QWidget

from cloudrift.audio.stretch import stop_stretching
from cloudrift.desktop.frame.enter_presses import EnterPresses
from cloudrift.desktop.frame.files import Files
from cloudrift.desktop.frame.heading import Heading
from cloudrift.desktop.frame.importing import Importing
from cloudrift.desktop.frame.menu_table import OPEN, REDO, UNDO, menu_table
from cloudrift.desktop.frame.menus import Menus
from cloudrift.desktop.frame.message_line import MessageLine
from cloudrift.desktop.frame.rail import BED, STAGES, STYLE, Rail
from cloudrift.desktop.frame.ribbon import Ribbon
from cloudrift.desktop.frame.rooms import ROOMS, Drawer, Rooms
from cloudrift.desktop.frame.sheets import Sheets
from cloudrift.desktop.kit import look
from cloudrift.desktop.kit.commands import Command
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.parts import button
from cloudrift.desktop.session.session import CLOSING_S, Session
from cloudrift.desktop.stages.style.page import StylePage
from cloudrift.ground.words import plural
from cloudrift.loop.edits.layers.takes import Becomes
from cloudrift.loop.model.bed import BED as BED_ID
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.loop import Loop
from cloudrift.sound.own import OwnSound
from cloudrift.style.form import arranged_in_style

# Which marks are a stage's own matter.
MARKS_OF = {
    "Chords": ("Setting", "Chords"),
    "Layers": ("Layers", "Playing", "Bass"),
    "Texture": ("Texture", "Sound"),
    "Flip": ("Flip",),
    "Arrange": ("Form",),
}
USUAL, LEAST = (1280, 800), (1100, 700)  # pixels of the window
FRAME_MS = 16
MISSED_TIP = "What the style card asks and is not so on this stage; press to see what would meet it"
_Sheet = TypeVar("_Sheet", bound=QDialog)


class Window(Rooms):
    """One window for one session."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._leaving = False  # whether nobody is there to be asked
        self._settled = False  # whether it has been asked what becomes of what is not saved
        self.ended = True  # after closing: whether all that ran has ended
        self.files = Files(session, self.tasks, self)
        self.importing = Importing(self)
        self.heading = Heading(session)
        self.rail = Rail()
        self.ribbon = Ribbon(session, self.tasks)
        self._before_style = 0  # the stage that the style card's page stands over
        self.fit(QSize(*USUAL))
        self.message = MessageLine()
        self.quiet = button("", self._open_missed, name="link", tip=MISSED_TIP)
        self.quiet.setProperty("fit", "foot")
        self._lay_out()
        self.menus = Menus(self, menu_table(), self.do)
        self.recent = self.menus.add_recent(
            OPEN, lambda: session.preferences.recent, self.files.open_file
        )
        self.sheets = Sheets(self, self.menus)
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
        fill(column, self.heading, self.message)
        row = horizontal(spacing=0)
        row.addWidget(self.rail)
        stage = vertical(spacing=0)
        fill(stage, (self.stack, 1), self.quiet)
        row.addLayout(stage, 1)
        column.addLayout(row, 1)
        fill(column, self.drawers_below, self.ribbon)
        self.setCentralWidget(body)

    def fit(self, free: QSize) -> None:
        """Be as large as the work wants, and no larger than what a screen has free."""
        self.setMinimumSize(QSize(*LEAST).boundedTo(free))
        self.resize(QSize(*USUAL).boundedTo(free))

    def _connect(self) -> None:
        session = self.session
        self.rail.chosen.connect(self.choose_stage)
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
        self.rail.drawer_chosen.connect(self.swap_drawer)
        self.keys_wanted.connect(self.open_keys)
        self.layer_in_wanted.connect(self._play_a_layer_in)
        self.shelf_wanted.connect(self.open_shelf)
        self.recordings_wanted.connect(self.open_recordings)
        self.keep_row_wanted.connect(self.files.keep_row)
        self.midi_chosen.connect(self.importing.open_midi)
        self.file_chosen.connect(self.files.open_file)
        self.own_kept.connect(self._keep_own)
        self.sampled_dropped.connect(self._bring_sampled)
        self.apart_wanted.connect(self._open_apart)
        self.begun.connect(self._begin)
        self.start_left.connect(lambda: self.show_stage(0))
        self.style_closed.connect(lambda: self.show_stage(self._before_style))
        self.drawer_closed.connect(self._drawer_closed)
        self.importing.asked.connect(self.sheets.show)
        self.sheets.opening.connect(self.message.hide)
        self.files.wanted.connect(lambda: self._leave_start(0))
        self.files.opened.connect(lambda: self.show_stage(0))

    # --- commands ------------------------------------------------------------------------------

    def hear_all(self) -> None:
        """Hear the whole loop, all of its layers, through all of its lines."""
        self.session.transport.hear_part(0.0, 1.0)
        self.session.hearing.hear_alone(())
        self.session.hearing.hear_up_to(None, None)
        self.ribbon.update()

    def add_up(self) -> None:
        """Hear the first layer, then two, then three; after the last it begins again."""
        hearing = self.session.hearing
        ids = [x.id for x in hearing.document.loop.heard()]
        count = next((n for n in range(1, len(ids)) if hearing.alone == set(ids[:n])), 0) + 1
        hearing.hear_alone(ids[:count] if count < len(ids) else ())
        self.say(
            f"{count} of {plural(len(ids), 'layer')} heard"
            if ids
            else "There is no layer yet; add one in Layers",
            good=bool(ids),
        )

    def bed_alone(self) -> None:
        """Hear the groove bed by itself, or everything again."""
        hearing = self.session.hearing
        if not self.session.loop.lanes:
            self.say("there is no groove bed yet; draw one with Shift+F7")
        else:
            hearing.hear_alone(() if hearing.alone == {BED_ID} else (BED_ID,))

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

    # --- drawers ------------------------------------------------------------------------------

    def open_keys(self) -> None:
        """Open the Play keys drawer."""
        self._leave_start(0)
        self._open_drawer("Play keys", self.keys)
        self.keys.keys.setFocus()

    def open_shelf(self) -> None:
        """Open the Shelf at the sound of the layer that is worked on."""
        self._leave_start(STAGES.index("Layers"))
        self._open_drawer("Shelf", self.shelf)
        self.shelf.show_layer_sound()
        self.shelf.search.setFocus()
        self.shelf.search.selectAll()  # what was looked for last gives way to what is typed

    def _open_apart(self, document: Document) -> None:
        """Open another document in the open one's place, when that is settled."""

        def go() -> None:
            self.session.document.open(document, None, unsaved=True)
            self.show_stage(0)
            self.say("A loop of its own: its chords are what is heard in the flip", good=True)

        self.files.leave_then(go)

    def _keep_own(self, own: OwnSound) -> None:
        self.shelf.take_own(own)

    def _bring_sampled(self, paths: list[Path]) -> None:
        self.open_shelf()
        self.shelf.bring_files(paths)

    def open_recordings(self) -> None:
        """Open the drawer in which recordings are found."""
        self._leave_start(STAGES.index("Layers"))
        self._open_drawer("Recordings", self.recordings)
        self.recordings.search.setFocus()
        self.recordings.search.selectAll()

    def open_microphone(self) -> None:
        """Open the drawer in which takes are sung."""
        self._leave_start(STAGES.index("Layers"))
        self._open_drawer("Microphone", self.microphone)
        self.microphone.take.setFocus()

    def open_bed(self) -> None:
        """Open the groove bed over the stage that is shown."""
        self._leave_start(0)
        self._open_drawer(BED, self.bed)
        self.bed.focus_first()

    def _leave_start(self, stage: int) -> None:
        """What is for an open loop: from the start page, go to a stage first."""
        if self.at_start:
            self.choose_stage(stage)

    def _open_drawer(self, name: str, wanted: Drawer) -> None:
        for drawer in self.drawers.values():
            if drawer is not wanted and drawer.isVisible():
                drawer.close_drawer()
        wanted.show()
        self.rail.show_drawer(name)

    def open_style(self) -> None:
        """Show the style card's page over the stage, or the stage again."""
        if self._at_style:
            self.show_stage(self._before_style)
        elif self.stack.currentIndex() < len(STAGES):
            self._before_style = self.stack.currentIndex()
            self.stack.setCurrentWidget(self.style_page)
            self.rail.show_stage(-1)
            self.rail.show_drawer(STYLE)
            self.style_page.focus_first()

    def _open_missed(self) -> None:
        if not self._at_style:
            self.open_style()
        self.style_page.show_tab("marks")
        self.style_page.show_missed()

    def _show_marks(self) -> None:
        """Say in the heading how much of the card is met, and below a stage what of it is not."""
        self.heading.show_marks(self.marking.words)
        at = self.stack.currentIndex()
        stage = STAGES[at] if at < len(STAGES) else ""
        words = self.marking.missed_in(MARKS_OF.get(stage, ()))
        self.quiet.setText(words.replace("&", "&&"))
        self.quiet.setVisible(bool(words))

    def swap_drawer(self, name: str) -> None:
        """Open a drawer, or close it."""
        if name == STYLE:
            self.open_style()
        elif name in self.drawers and self.drawers[name].isVisible():
            self.drawers[name].close_drawer()
        else:
            opens = {
                "Shelf": self.open_shelf,
                "Recordings": self.open_recordings,
                "Microphone": self.open_microphone,
                BED: self.open_bed,
            }
            opens.get(name, self.open_keys)()

    def _drawer_closed(self) -> None:
        self.rail.show_drawer("")
        current = self.stack.currentIndex()
        if current < len(STAGES):
            self.stage(current).focus_first()

    def _play_a_layer_in(self) -> None:
        self.open_keys()
        self.keys.choose(Becomes.NEW)

    # --- stages -------------------------------------------------------------------------------

    def show_stage(self, stage: int) -> None:
        """Show a stage by number."""
        if self._at_style:
            self.rail.show_drawer("")
        room = self.stage(stage)
        self.stack.setCurrentIndex(stage)
        self.rail.show_stage(stage)
        if not self.rail.hasFocus():
            room.focus_first()

    def choose_stage(self, stage: int) -> None:
        """Go to a stage; from the start page of a new program that means: with the loop shown."""
        session = self.session
        nothing_open = session.document.path is None and not session.document.would_be_lost
        if self.at_start and nothing_open and self.start.has_loop:
            self.start.begin_loop()
        self.show_stage(stage)

    @property
    def _at_style(self) -> bool:
        """Whether the style card's page is shown."""
        return self.stack.currentIndex() == ROOMS.index(StylePage)

    def start_loop(self) -> None:
        """Show the start page."""
        if not self.at_start:
            for drawer in self.drawers.values():
                if drawer.isVisible():
                    drawer.close_drawer()
            self.stack.setCurrentWidget(self.start)
            self.rail.show_stage(-1)
        session = self.session
        self.start.never_mind.setVisible(
            session.document.path is not None or session.document.begun
        )
        self.start.enter()

    def _begin(self, loop: Loop) -> None:
        plays_in = self.start.plays_in

        def go() -> None:
            self.session.document.open(self._arranged(loop), None)
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
        return arranged_in_style(document, card, loop.draw) if card and loop.chords else document

    # --- telling ------------------------------------------------------------------------------

    def say(self, words: str, *, good: bool = False) -> None:
        """Say something in one line under the heading, for a while."""
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
        if self.is_built("bed"):
            self.bed.show_place(share)
        self.stack.currentWidget().show_place(share)  # type: ignore[union-attr]

    # --- Qt -----------------------------------------------------------------------------------

    def showEvent(self, event: QShowEvent | None) -> None:
        self._clock.start()
        super().showEvent(event)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        assert event is not None
        focused = self.focusWidget()
        if isinstance(focused, QLineEdit):
            focused.clearFocus()  # what is being typed counts
        if not (self._leaving or self._settled or self._is_settled()):
            event.ignore()
            return
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
