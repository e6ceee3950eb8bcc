"""The window: heading, rail, stages, drawers, ribbon."""

import time
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

from platformdirs import user_data_path, user_state_path
from PyQt6.QtCore import QEvent, QObject, QSize, Qt, QTimer
from PyQt6.QtGui import QCloseEvent, QKeyEvent, QShowEvent
from PyQt6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QDialog,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QMainWindow,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from cloudrift.audio.stretch import stop_stretching
from cloudrift.desktop.frame.finder import Finder
from cloudrift.desktop.frame.heading import Heading
from cloudrift.desktop.frame.help_sheet import AboutSheet, KeysSheet
from cloudrift.desktop.frame.history_sheet import HistorySheet
from cloudrift.desktop.frame.menus import Menus
from cloudrift.desktop.frame.midi_sheet import MidiSheet
from cloudrift.desktop.frame.rail import STAGES, Rail
from cloudrift.desktop.frame.reference_sheet import ReferenceSheet
from cloudrift.desktop.frame.ribbon import Ribbon
from cloudrift.desktop.frame.settings_sheet import SettingsSheet
from cloudrift.desktop.kit import look
from cloudrift.desktop.kit.asking import RECORDINGS, ask, ask_for_file, ask_for_name
from cloudrift.desktop.session.session import CLOSING_S, Session
from cloudrift.desktop.session.tasks import Lane, Tasks
from cloudrift.desktop.stages.chords.stage import ChordsStage
from cloudrift.desktop.stages.deliver.stage import DeliverStage
from cloudrift.desktop.stages.keys.drawer import KeysDrawer
from cloudrift.desktop.stages.layers.stage import LayersStage
from cloudrift.desktop.stages.shelf.drawer import Shelf
from cloudrift.desktop.stages.start.page import StartPage
from cloudrift.desktop.stages.texture.stage import TextureStage
from cloudrift.ground.errors import CloudriftError, in_a_sentence
from cloudrift.ground.words import free_name, plural
from cloudrift.loop.document import Document
from cloudrift.loop.from_notes import put_chords_of
from cloudrift.loop.kept import keep, row_folder, row_of, template_folder
from cloudrift.loop.model import Loop
from cloudrift.loop.storage import SUFFIX, load_document, with_suffix
from cloudrift.loop.takes import Becomes
from cloudrift.notes.from_midi import Song, read_song
from cloudrift.notes.reference import Reference, read_reference

USUAL, LEAST = (1280, 800), (1100, 700)  # pixels of the window
FRAME_MS = 16
MESSAGE_MS = 9000
SAVING_SAID_MS = 400  # what takes longer is said
FILE_KINDS = f"Loops (*{SUFFIX})"
_Sheet = TypeVar("_Sheet", bound=QDialog)


class Window(QMainWindow):
    """One window for one session."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._leaving = False  # whether nobody is there to be asked
        self._settled = False  # whether it has been asked what becomes of what is not saved
        self.ended = True  # after closing: whether all that ran has ended
        self.tasks = Tasks(self)
        self.heading = Heading(session)
        self.rail = Rail()
        self.ribbon = Ribbon(session, self.tasks)
        self.start = StartPage(session, self.tasks)
        self.chords = ChordsStage(session)
        self.layers = LayersStage(session, self.tasks)
        self.texture = TextureStage(session, self.tasks)
        self.deliver = DeliverStage(session, self.tasks)
        self.keys, self.shelf = KeysDrawer(session), Shelf(session, self.tasks)
        self.drawers: dict[str, KeysDrawer | Shelf] = {"Shelf": self.shelf, "Play keys": self.keys}
        for drawer in self.drawers.values():
            drawer.hide()
        self.stages = (self.chords, self.layers, self.texture, self.deliver)
        self.stack = QStackedWidget()
        self.fit(QSize(*USUAL))
        for page in (*self.stages, self.start):
            self.stack.addWidget(page)
        self.message = QLabel("")
        self.message.setTextFormat(Qt.TextFormat.PlainText)  # names in it are a stranger's words
        self.message.setWordWrap(True)
        self.message.setStyleSheet("padding: 6px 14px; font-weight: 600;")
        self.message.hide()
        self._lay_out()
        self.menus = Menus(self)
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
        assert app is not None
        app.installEventFilter(self)

    def _lay_out(self) -> None:
        body = QWidget()
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.heading)
        column.addWidget(self.message)
        row = QHBoxLayout()
        row.setSpacing(0)
        row.addWidget(self.rail)
        row.addWidget(self.stack, 1)
        column.addLayout(row, 1)
        for drawer in self.drawers.values():
            column.addWidget(drawer)
        column.addWidget(self.ribbon)
        self.setCentralWidget(body)

    def fit(self, free: QSize) -> None:
        """Be as large as the work wants, and no larger than what a screen has free."""
        self.setMinimumSize(QSize(*LEAST).boundedTo(free))
        self.resize(QSize(*USUAL).boundedTo(free))

    def _connect(self) -> None:
        session = self.session
        self.rail.chosen.connect(self.choose_stage)
        session.changed.connect(lambda _b, _a: self._show_title())
        session.document.saved.connect(self._show_title)
        for signal in (session.hearing.shown_changed, session.hearing.changed):
            signal.connect(lambda: self.rail.show_facts(session.hearing.heard_loop))
        session.failed.connect(self.say)
        session.told.connect(lambda words: self.say(words, good=True))
        self.tasks.broke.connect(self.say)
        self.rail.drawer_chosen.connect(self.swap_drawer)
        for drawer in self.drawers.values():
            drawer.closed.connect(self._drawer_closed)
        self.layers.shelf_wanted.connect(self.open_shelf)
        self.layers.inspector.keep_wanted.connect(self.shelf.take_own)
        self.layers.keys_wanted.connect(self._play_a_layer_in)
        self.layers.sounds_dropped.connect(self._take_sounds)
        self.chords.row_bar.keys_wanted.connect(self.open_keys)
        self.chords.row_bar.keep_wanted.connect(self.keep_row)
        self.chords.row_bar.midi_chosen.connect(self.open_midi)
        self.start.begun.connect(self._begin)
        self.start.left.connect(lambda: self.show_stage(0))

    # --- commands ------------------------------------------------------------------------------

    def hear_all(self) -> None:
        """Hear the whole loop, through all of its lines."""
        self.session.player.hear_part(0.0, 1.0)
        self.session.hearing.hear_up_to(None, None)
        self.ribbon.update()

    def in_stage(self, stage: str, act: Callable[[], object]) -> None:
        """Go to a stage and do something there."""
        self.choose_stage(STAGES.index(stage))
        act()

    def open_history(self) -> HistorySheet:
        """Open the history beside the window."""
        sheet = HistorySheet(self.session, self)
        sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        sheet.show()
        return sheet

    def chords_of_layer(self) -> None:
        """Put the chords that the chosen layer's own notes make in the row's place."""
        layer_id = self.session.selection.layer_id
        if not layer_id:
            self.say("there is no layer to read chords from; add one in Layers")
        elif self.session.apply(
            "chords of a layer", lambda loop: put_chords_of(loop, layer_id)
        ):  # fmt: skip
            self.say(f"{plural(len(self.session.loop.chords), 'chord')} of "
                     f"{self.session.loop.layer(layer_id).name}; other layers follow them",
                     good=True)  # fmt: skip

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

    # --- chords -------------------------------------------------------------------------------

    # --- drawers ------------------------------------------------------------------------------

    def open_keys(self) -> None:
        """Open the Play keys drawer."""
        self._leave_start(0)
        self._open_drawer("Play keys")
        self.keys.keys.setFocus()

    def open_shelf(self) -> None:
        """Open the Shelf at the sound of the layer that is worked on."""
        self._leave_start(STAGES.index("Layers"))
        self._open_drawer("Shelf")
        self.shelf.show_layer_sound()
        self.shelf.search.setFocus()

    def _leave_start(self, stage: int) -> None:
        """What is for an open loop: from the start page, go to a stage first."""
        if self._at_start:
            self.choose_stage(stage)

    def _open_drawer(self, name: str) -> None:
        for other, drawer in self.drawers.items():
            if other != name and drawer.isVisible():
                drawer.close_drawer()
        self.drawers[name].show()
        self.rail.show_drawer(name)

    def swap_drawer(self, name: str) -> None:
        """Open a drawer, or close it."""
        if self.drawers[name].isVisible():
            self.drawers[name].close_drawer()
        elif name == "Shelf":
            self.open_shelf()
        else:
            self.open_keys()

    def _drawer_closed(self) -> None:
        self.rail.show_drawer("")
        current = self.stack.currentIndex()
        if current < len(self.stages):
            self.stages[current].focus_first()

    def _play_a_layer_in(self) -> None:
        self.open_keys()
        self.keys.choose(Becomes.NEW)

    def _take_sounds(self, paths: list[Path]) -> None:
        self.open_shelf()
        self.shelf.bring_files(paths)

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
        self.stack.setCurrentIndex(stage)
        self.rail.show_stage(stage)
        if not self.rail.hasFocus():
            self.stages[stage].focus_first()

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
        return self.stack.currentWidget() is self.start

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
            self.session.document.open(loop, None)
            self.show_stage(STAGES.index("Layers") if plays_in else 0)
            if plays_in:
                self._play_a_layer_in()

        def stay() -> None:
            if self._at_start:
                self.start.show_again()

        if self.session.document.is_untouched:
            go()
        else:
            self._leave_then(go, stay)

    # --- files --------------------------------------------------------------------------------

    def _leave_then(
        self, go: Callable[[], object], stay: Callable[[], object] = lambda: None
    ) -> None:
        """Let go of the loop to do something else, when it is settled what becomes of changes."""
        self.session.document.saver.when_rested(lambda: self._ask_then(go, stay))

    def _ask_then(self, go: Callable[[], object], stay: Callable[[], object]) -> None:
        session = self.session
        if not session.document.would_be_lost:
            go()
            return
        words = f"{session.loop.title} has changes that are not saved."
        chosen = ask(self, "Not saved", words, "Save", "Throw away", "Go back")
        if chosen == "Save":  # and ask again if it was changed while it was written
            self.save(lambda good: self._leave_then(go, stay) if good else stay())
        elif chosen == "Throw away":
            go()
        else:
            stay()

    def save(self, then: Callable[[bool], object] = lambda _good: None) -> None:
        """Save; asks for a place the first time. From the start page: the loop that it leads to.

        ``then`` hears, when all is written, whether it is.
        """
        self._leave_start(0)
        if self.session.document.path is None:
            self.save_as(then)
        else:
            self._save_to(self.session.document.path, then)

    def _save_to(self, path: Path, then: Callable[[bool], object] = lambda _good: None) -> None:
        session = self.session
        if path == session.document.path and session.document.is_changed_outside:
            other = self._beside(path)
            if other is None:
                then(False)
                return
            path = other

        def written(good: bool) -> None:
            if good:
                self.session.preferences.opened(path)
                self.say(f"Saved {path}", good=True)
            then(good)

        session.document.save(path, written)
        QTimer.singleShot(SAVING_SAID_MS, self._say_saving)

    def _say_saving(self) -> None:
        if self.session.document.saver.busy:
            self.say("Saving…", good=True)

    def save_as(self, then: Callable[[bool], object] = lambda _good: None) -> None:
        """Ask for a place and save there; ``then`` as in ``save``."""
        self._leave_start(0)
        name = self.session.loop.title.replace("/", "-") + SUFFIX
        chosen, _ = QFileDialog.getSaveFileName(
            self, "Save the loop", str(self._loop_folder / name), FILE_KINDS
        )
        path = with_suffix(Path(chosen))
        # The dialog has asked about the name as it was typed.
        asks = path != Path(chosen) and path.exists()
        if chosen and (not asks or self._may_replace(path)):
            self._save_to(path, then)
        else:
            then(False)

    def _beside(self, path: Path) -> Path | None:
        """Ask what to do where another program has written the file; None means: go back."""
        free = path.with_name(
            free_name(path.stem, (one.stem for one in path.parent.glob(f"*{SUFFIX}"))) + SUFFIX
        )
        words = (
            f"{path.name} was changed by another program since it was opened here. Keep both, and "
            f"save this one as {free.name}?"
        )
        title = "Changed by another program"
        chosen = ask(self, title, words, "Keep both", "Replace it", "Go back")
        return {"Keep both": free, "Replace it": path}.get(chosen)

    def _may_replace(self, path: Path) -> bool:
        words = f"{path.name} is there already. Replace it?"
        return ask(self, "There already", words, "", "Replace it", "Go back") == "Replace it"

    @property
    def _loop_folder(self) -> Path:
        """Where loop files are asked for: beside the open one."""
        path = self.session.document.path
        return path.parent if path else self.session.preferences.folder

    def keep_template(self) -> None:
        """Keep the open loop to begin others from; its name is asked for."""
        self._leave_start(0)
        title = self.session.loop.title
        name = ask_for_name(self, "Keep as a template", "Name of the template", title)
        if name:
            self._keep(self.session.loop, name, template_folder(), "to begin from: Start a loop, "
                       "A template")  # fmt: skip

    def keep_row(self) -> None:
        """Put the open loop's chords on the shelf of rows; their name is asked for."""
        self._leave_start(0)
        title = self.session.loop.title
        name = ask_for_name(self, "Put the row on the shelf", "Name of the row", title)
        if name:
            try:
                row = row_of(self.session.loop)
            except CloudriftError as error:
                self.say(str(error))
                return
            self._keep(row, name, row_folder(), "among the rows: Row, in the Chords stage")

    def _keep(self, loop: Loop, name: str, folder: Path, where: str) -> None:
        try:
            one = keep(loop, name, folder, self.session.clips)
        except CloudriftError as error:
            self.say(str(error))
        else:
            self.say(f"Kept {one.name} {where}", good=True)

    def ask_to_open(self) -> None:
        """Ask for a loop file and open it."""
        folder = str(self._loop_folder)
        chosen, _ = QFileDialog.getOpenFileName(self, "Open a loop", folder, FILE_KINDS)
        if chosen:
            self.open_file(Path(chosen))

    def open_file(self, path: Path) -> None:
        """Open a loop file; a bad one is said and the open loop stays."""
        try:
            document = load_document(path, self.session.clips)
        except CloudriftError as error:
            self.say(str(error))
            return
        self._leave_then(lambda: self._open(document, path))

    def _open(self, document: Document, path: Path) -> None:
        self.session.document.open(document, path)
        self.session.preferences.opened(path)
        self.show_stage(0)
        strange = list(document.loop.unknown)
        if document.newer is not None:
            strange.append("what a newer version of the program has written into it")
        if strange:
            self.say(f"{path.name}: not known here, and kept in the file: {'; '.join(strange)}")

    # --- telling ------------------------------------------------------------------------------

    def say(self, words: str, *, good: bool = False) -> None:
        """Say something in one line under the heading, for a while."""
        tokens = look.look.tokens
        ground = tokens.good if good else tokens.signal
        self.message.setStyleSheet(
            f"padding: 6px 14px; font-weight: 600; background: {ground}; color: {tokens.on_ink};"
        )
        self.message.setText(in_a_sentence(words))
        self.message.show()
        self._message_clock.start(MESSAGE_MS)

    def _show_title(self) -> None:
        session = self.session
        star = "" if session.document.is_saved else " *"
        self.setWindowTitle(f"{session.loop.title}{star} – Cloudrift")
        self.rail.show_facts(session.hearing.heard_loop)
        history = session.document.history
        self.menus.show_history(history.undo_label, history.redo_label)

    def _follow_sound(self) -> None:
        """Sixty times a second: everything that follows the place in the loop."""
        share = self.session.player.share
        self.heading.show_place(share)
        self.ribbon.show_place(share)
        self.stack.currentWidget().show_place(share)  # type: ignore[union-attr]

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
        return False  # all events of the program come by here

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
        app = QApplication.instance()
        if app is not None:
            app.removeEventFilter(self)
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

        self._leave_then(go)
        waited = True
        return self._settled

    def leave(self) -> None:
        """Close without a question: what is not saved is kept for the next start."""
        self._leaving = True
        self.close()
