"""The window: heading, rail, stages, drawers, ribbon."""

import time
from functools import cached_property
from pathlib import Path
from typing import TypeVar

from platformdirs import user_data_path, user_state_path
from PyQt6.QtCore import QEvent, QObject, QSize, Qt, QTimer
from PyQt6.QtGui import QCloseEvent, QKeyEvent, QShowEvent
from PyQt6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QDialog,
    QLabel,
    QLineEdit,
    QMainWindow,
    QWidget,
)

from cloudrift.audio.stretch import stop_stretching
from cloudrift.desktop.frame.files import Files
from cloudrift.desktop.frame.finder import Finder
from cloudrift.desktop.frame.heading import Heading
from cloudrift.desktop.frame.help_sheet import AboutSheet, KeysSheet
from cloudrift.desktop.frame.history_sheet import HistorySheet
from cloudrift.desktop.frame.menu_table import OPEN, REDO, UNDO, menu_table
from cloudrift.desktop.frame.menus import Menus
from cloudrift.desktop.frame.midi_sheet import MidiSheet
from cloudrift.desktop.frame.proposals_sheet import ProposalsSheet
from cloudrift.desktop.frame.rail import BED, STAGES, STYLE, Rail
from cloudrift.desktop.frame.reference_sheet import ReferenceSheet
from cloudrift.desktop.frame.ribbon import Ribbon
from cloudrift.desktop.frame.settings_sheet import SettingsSheet
from cloudrift.desktop.kit import look
from cloudrift.desktop.kit.asking import RECORDINGS, ask_for_file
from cloudrift.desktop.kit.commands import Command
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.parts import Pages, button, set_look
from cloudrift.desktop.session.session import CLOSING_S, Session
from cloudrift.desktop.session.work.checking import Checking
from cloudrift.desktop.session.work.marking import Marking
from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.desktop.stages.arrange.stage import ArrangeStage
from cloudrift.desktop.stages.bed.drawer import BedDrawer
from cloudrift.desktop.stages.chords.stage import ChordsStage
from cloudrift.desktop.stages.deliver.stage import DeliverStage
from cloudrift.desktop.stages.find.drawer import FindDrawer
from cloudrift.desktop.stages.flip.stage import FlipStage
from cloudrift.desktop.stages.keys.drawer import KeysDrawer
from cloudrift.desktop.stages.layers.stage import LayersStage
from cloudrift.desktop.stages.microphone.drawer import MicrophoneDrawer
from cloudrift.desktop.stages.shelf.drawer import Shelf
from cloudrift.desktop.stages.start.page import StartPage
from cloudrift.desktop.stages.style.page import StylePage
from cloudrift.desktop.stages.texture.stage import TextureStage
from cloudrift.exchange import Service, StandIn
from cloudrift.exchange.folders import OwnFolders
from cloudrift.ground.errors import CloudriftError, in_a_sentence
from cloudrift.ground.memory import leave_what_stands
from cloudrift.ground.words import plural
from cloudrift.loop.edits.layers.from_notes import chords_of, proposed_chords, put_chords_of
from cloudrift.loop.edits.layers.takes import Becomes
from cloudrift.loop.model.bed import BED as BED_ID
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.loop import Loop
from cloudrift.notes.from_midi import Song, read_song
from cloudrift.notes.reference import Reference, read_reference
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
MESSAGE_MS = 9000
FURNISH_MS = 60  # between two rooms that are built while nothing is done
# In the order of the stack, which begins with the stages in the order of the rail.
ROOMS = (ChordsStage, LayersStage, TextureStage, FlipStage, ArrangeStage, DeliverStage, StartPage,
         StylePage)  # fmt: skip
FURNISHED = ("chords", "layers", "texture", "start", "bed", "flip", "shelf", "arrange", "deliver",
             "keys", "recordings", "microphone", "style_page")  # fmt: skip
Drawer = KeysDrawer | Shelf | FindDrawer | MicrophoneDrawer | BedDrawer
Stage = ChordsStage | LayersStage | TextureStage | FlipStage | ArrangeStage | DeliverStage
_Sheet = TypeVar("_Sheet", bound=QDialog)
_Room = TypeVar("_Room", bound=QWidget)
_Drawer = TypeVar("_Drawer", KeysDrawer, Shelf, FindDrawer, MicrophoneDrawer, BedDrawer)


class Window(QMainWindow):
    """One window for one session."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._leaving = False  # whether nobody is there to be asked
        self._settled = False  # whether it has been asked what becomes of what is not saved
        self.ended = True  # after closing: whether all that ran has ended
        self.tasks = Tasks(self)
        self.files = Files(session, self.tasks, self)
        self.heading = Heading(session)
        self.rail = Rail()
        self.ribbon = Ribbon(session, self.tasks)
        self.drawers: dict[str, Drawer] = {}  # those that have been built
        self.checking = Checking(session, self.tasks, self)
        self.marking = Marking(session, self.tasks)
        self._before_style = 0  # the stage that the style card's page stands over
        self.stack = Pages(len(ROOMS))
        self.fit(QSize(*USUAL))
        self.message = QLabel("")
        self.message.setTextFormat(Qt.TextFormat.PlainText)  # names in it are a stranger's words
        self.message.setWordWrap(True)
        self.message.hide()
        self.quiet = button(
            "",
            self._open_missed,
            name="link",
            tip="What the style card asks and "
            "is not so on this stage; press to see what would meet it",
        )
        self.quiet.setProperty("fit", "foot")
        self._lay_out()
        self.menus = Menus(self, menu_table(), self.do)
        self.recent = self.menus.add_recent(
            OPEN, lambda: session.preferences.recent, self.files.open_file
        )
        self._connect()
        self._clock = QTimer(self)
        self._clock.setInterval(FRAME_MS)
        self._clock.setTimerType(Qt.TimerType.PreciseTimer)
        self._clock.timeout.connect(self._follow_sound)
        self._message_clock = QTimer(self)
        self._message_clock.setSingleShot(True)
        self._message_clock.timeout.connect(self.message.hide)
        self.show_stage(0)
        self._show_title()
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        app.focusChanged.connect(self._focus_moved)

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
        self._drawers = vertical()
        fill(column, self._drawers, self.ribbon)
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
        self.files.wanted.connect(lambda: self._leave_start(0))
        self.files.opened.connect(lambda: self.show_stage(0))

    # --- rooms: each is built when it is gone to first, or in a moment when nothing is done ------

    @cached_property
    def chords(self) -> ChordsStage:
        """The chord row."""
        made = ChordsStage(self.session)
        made.row_bar.keys_wanted.connect(self.open_keys)
        made.row_bar.keep_wanted.connect(self.files.keep_row)
        made.row_bar.midi_chosen.connect(self.open_midi)
        return self._put(made)

    @cached_property
    def layers(self) -> LayersStage:
        """What plays the row."""
        made = LayersStage(self.session, self.tasks)
        made.shelf_wanted.connect(self.open_shelf)
        made.inspector.keep_wanted.connect(self._keep_own)
        made.keys_wanted.connect(self._play_a_layer_in)
        made.recordings_wanted.connect(self.open_recordings)
        made.sampled_dropped.connect(self._bring_sampled)
        return self._put(made)

    @cached_property
    def texture(self) -> TextureStage:
        """What layers and the loop go through."""
        return self._put(TextureStage(self.session, self.tasks))

    @cached_property
    def flip(self) -> FlipStage:
        """Prints, cut up."""
        made = FlipStage(self.session, self.tasks)
        made.result.apart_wanted.connect(self._open_apart)
        return self._put(made)

    @cached_property
    def arrange(self) -> ArrangeStage:
        """Sections."""
        return self._put(ArrangeStage(self.session, self.tasks))

    @cached_property
    def deliver(self) -> DeliverStage:
        """What is handed over."""
        made = DeliverStage(self.session, self.tasks, self.checking)
        made.open_wanted.connect(self.files.open_file)
        return self._put(made)

    @cached_property
    def start(self) -> StartPage:
        """What a loop is begun from."""
        made = StartPage(self.session, self.tasks)
        made.begun.connect(self._begin)
        made.left.connect(lambda: self.show_stage(0))
        return self._put(made)

    @cached_property
    def style_page(self) -> StylePage:
        """The style card's page."""
        made = StylePage(self.session, self.tasks, self.marking)
        made.closed.connect(lambda: self.show_stage(self._before_style))
        return self._put(made)

    @cached_property
    def keys(self) -> KeysDrawer:
        """Keys to play."""
        return self._put_below("Play keys", KeysDrawer(self.session))

    @cached_property
    def shelf(self) -> Shelf:
        """The sounds."""
        return self._put_below("Shelf", Shelf(self.session, self.tasks))

    @cached_property
    def recordings(self) -> FindDrawer:
        """Recordings of others, and those in folders of one's own."""
        session = self.session
        folders = OwnFolders(lambda: session.preferences.recording_folders)
        services: dict[str, Service] = {"Exchange": StandIn(), "My folders": folders}
        return self._put_below("Recordings", FindDrawer(session, self.tasks, services))

    @cached_property
    def microphone(self) -> MicrophoneDrawer:
        """Takes that are sung."""
        return self._put_below("Microphone", MicrophoneDrawer(self.session, self.tasks))

    @cached_property
    def bed(self) -> BedDrawer:
        """Drums and a long bass."""
        return self._put_below(BED, BedDrawer(self.session, self.tasks))

    def _put(self, room: _Room) -> _Room:
        return self.stack.put(ROOMS.index(type(room)), room)

    def _put_below(self, name: str, drawer: _Drawer) -> _Drawer:
        drawer.hide()
        drawer.closed.connect(self._drawer_closed)
        self.drawers[name] = drawer
        self._drawers.addWidget(drawer)
        return drawer

    def stage(self, at: int) -> Stage:
        """Return a stage by its number."""
        stage: Stage = getattr(self, STAGES[at].lower())
        return stage

    def _is_built(self, room: str) -> bool:
        return room in self.__dict__  # where what is cached is kept

    def furnish(self) -> None:
        """Build the rooms that nobody has gone to yet, one in each moment that nothing is done."""
        if self._settled or self._leaving:
            return
        missing = next((name for name in FURNISHED if not self._is_built(name)), "")
        if missing:
            getattr(self, missing)
            QTimer.singleShot(FURNISH_MS, self.furnish)
        else:
            leave_what_stands()

    # --- commands ------------------------------------------------------------------------------

    def hear_all(self) -> None:
        """Hear the whole loop, all of its layers, through all of its lines."""
        self.session.transport.hear_part(0.0, 1.0)
        self.session.hearing.hear_alone(())
        self.session.hearing.hear_up_to(None, None)
        self.ribbon.update()

    def add_up(self) -> None:
        """Hear the first layer, then two, then three; behind the last it begins anew."""
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

    def open_history(self) -> HistorySheet:
        """Open the history beside the window."""
        sheet = HistorySheet(self.session, self)
        sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        sheet.show()
        return sheet

    def chords_of_layer(self) -> None:
        """Put the chords of the chosen layer's own notes in the row's place; for a line, ask."""
        session = self.session
        layer_id = session.selection.layer_id
        if not layer_id:
            self.say("there is no layer to read chords from; add one in Layers")
        elif chords_of(session.loop, session.loop.layer(layer_id)):
            if session.apply("chords of a layer", lambda loop: put_chords_of(loop, layer_id)):
                self.say(
                    f"{plural(len(session.loop.chords), 'chord')} of "
                    f"{session.loop.layer(layer_id).name}; other layers follow them",
                    good=True,
                )
        else:
            try:
                found = proposed_chords(session.loop, layer_id)
            except CloudriftError as error:
                self.say(str(error))
                return
            self._show_sheet(ProposalsSheet(found, session, self))

    def find_command(self) -> Finder:
        """Open the command finder."""
        finder = Finder(self.menus.commands, self)
        finder.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        finder.open()
        return finder

    def swap_theme(self) -> None:
        """Light to dark and back."""
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        name = "Nightfall" if look.look.name == "Daybreak" else "Daybreak"
        look.apply(app, name)
        self.session.preferences.remember(theme=name)

    def open_settings(self) -> SettingsSheet:
        """Open the settings of the program."""
        return self._show_sheet(SettingsSheet(self.session, self))

    def open_help(self) -> KeysSheet:
        """Show the keys of the stage that is open."""
        at = self.stack.currentIndex()
        stage = STAGES[at] if at < len(STAGES) else ""
        sheet = KeysSheet(stage, self.menus.commands, self)
        sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        sheet.show()
        return sheet

    def open_about(self) -> AboutSheet:
        """Say what Cloudrift is and where it keeps things."""
        places = (
            ("Settings", str(self.session.preferences.file)),
            ("Finishes, sounds, rows and templates of your own", str(user_data_path("cloudrift"))),
            ("Work that is not saved, and what went wrong", str(user_state_path("cloudrift"))),
        )
        return self._show_sheet(AboutSheet(places, self))

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
        if self._at_start:
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

    def open_midi(self, path: Path) -> None:
        """Find the chords of a MIDI file beside the interface, then show them."""
        if self._at_start:
            self.start.read(path)
            return
        self.say(f"Looking for chords in {path.name}…", good=True)
        self.tasks.run(
            "midi",
            lambda cancelled, _progress: read_song(path, cancelled=cancelled),
            lambda song: self._show_midi(song, path),
            lambda error: self.say(str(error)),
            lane=Lane.READING,
        )

    def choose_reference(self) -> None:
        """Ask for a recording whose tempo and key to take."""
        words = "A recording to listen to"
        if chosen := ask_for_file(self, self.session, words, RECORDINGS):
            self.open_reference(chosen)

    def open_reference(self, path: Path) -> None:
        """Listen to a recording beside the interface, then show what was heard."""
        if self._at_start:
            self.start.read(path)
            return
        self.say(f"Listening to {path.name}…", good=True)
        self.tasks.run(
            "reference",
            lambda _cancelled, _progress: read_reference(path),
            lambda found: self._show_heard(found, path),
            lambda error: self.say(str(error)),
            lane=Lane.READING,
        )

    def _show_sheet(self, sheet: _Sheet) -> _Sheet:
        self.message.hide()
        sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        sheet.open()
        return sheet

    def _show_heard(self, found: Reference, path: Path) -> None:
        self._show_sheet(ReferenceSheet(found, path, self.session, self))

    def _show_midi(self, song: Song, path: Path) -> None:
        self._show_sheet(MidiSheet(song, path, self.session, self))

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
        if self._at_start and nothing_open and self.start.has_loop:
            self.start.begin_loop()
        self.show_stage(stage)

    @property
    def _at_start(self) -> bool:
        """Whether the start page is shown: the open loop is not."""
        return self.stack.currentIndex() == ROOMS.index(StartPage)

    @property
    def _at_style(self) -> bool:
        """Whether the style card's page is shown."""
        return self.stack.currentIndex() == ROOMS.index(StylePage)

    def start_loop(self) -> None:
        """Show the start page."""
        if not self._at_start:
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
            if self._at_start:
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
        set_look(self.message, "saidWell" if good else "said")
        self.message.setText(in_a_sentence(words))
        self.message.show()
        self._message_clock.start(MESSAGE_MS)

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
        if self._is_built("bed"):
            self.bed.show_place(share)
        self.stack.currentWidget().show_place(share)  # type: ignore[union-attr]

    def _focus_moved(self, before: QWidget | None, now: QWidget | None) -> None:
        """Listen to the keys of the button in focus; to all that happens would cost too much."""
        if isinstance(before, QAbstractButton):
            before.removeEventFilter(self)
        if isinstance(now, QAbstractButton):
            now.installEventFilter(self)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """Enter presses the button in focus: Space is taken, it plays and stops everywhere."""
        if (
            isinstance(watched, QAbstractButton)
            and isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.KeyPress
            and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
        ):
            watched.click()
            return True
        return False

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
        if self._is_built("arrange"):
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
