"""The Layers stage: the list, the room, the notes; what is chosen is in the inspector."""

from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import NamedTuple

from PyQt6.QtCore import QPoint, pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import QApplication, QMenu, QPushButton, QWidget

from cloudrift.desktop.kit.asking import MIDI_KINDS, RECORDINGS, ask_for_file, ask_for_files
from cloudrift.desktop.kit.commands import Command
from cloudrift.desktop.kit.dropped import MIDI_FILES, RECORDED, SAMPLED, dropped
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.parts import WhileShown, button, clear, label, panel, scrolling, set_look
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.desktop.stages.layers.group_row import GroupRow
from cloudrift.desktop.stages.layers.inspector import LayerInspector
from cloudrift.desktop.stages.layers.notes.view import NotesView
from cloudrift.desktop.stages.layers.recording_view import RecordingView
from cloudrift.desktop.stages.layers.recording_words import (
    heard_words,
    listed,
    offer_words,
    role_of,
)
from cloudrift.desktop.stages.layers.room_view import RoomView
from cloudrift.desktop.stages.layers.row import LayerRow
from cloudrift.ground.cancel import Cancelled
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.paths import shown
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.edits.layers.from_notes import put_layers
from cloudrift.loop.edits.layers.recordings import add_recording, facts_of, laid_in, put_instead
from cloudrift.loop.model.loop import Group, Layer, Loop
from cloudrift.loop.model.recorded import Facts
from cloudrift.notes.from_midi import read_parts
from cloudrift.notes.listening import read_and_listen
from cloudrift.notes.note import Note
from cloudrift.notes.tools import GROUPS, TOOLS
from cloudrift.sound import look_up
from cloudrift.sound.instrument import FAMILIES

ROOM_FROM = 470  # px of height
LIST_PX = 276
BRINGING = "bring recordings"
INDENT_PX = 12  # of a layer under its group


class Brought(NamedTuple):
    """A recording that was read and heard."""

    clip: str
    facts: Facts


class LayersStage(QWidget):
    """A card a layer; what is heard is said above them."""

    shelf_wanted = pyqtSignal()
    keys_wanted = pyqtSignal()
    recordings_wanted = pyqtSignal()
    sampled_dropped = pyqtSignal(list)  # files

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__()
        self._session, self._tasks = session, tasks
        self.setAcceptDrops(True)
        self.room = RoomView(session, tasks)
        self.rows: dict[str, LayerRow] = {}
        self.groups: dict[str, GroupRow] = {}
        self._listed: list[str] | None = None  # the layers in the list; None before the first look
        self.inspector = LayerInspector(session)
        self.inspector.shelf_wanted.connect(self.shelf_wanted)
        self.heard = label("", size=12, name="soft")
        self.add = QPushButton("Add a layer")
        self.add.setObjectName("strong")
        self.add.setMenu(self._sounds_menu())
        self.variation = button(
            "Notes",
            self.add_note_layer,
            tip="Add an empty layer with the selected layer's sound: draw notes or record them",
        )
        self.notes = NotesView(session)
        self.recording = RecordingView(session, tasks)
        self.recording.hide()
        left = panel()
        left.setFixedWidth(LIST_PX)
        inside = vertical(left, (10, 8, 4, 8), 3)
        top = horizontal(margins=(0, 0, 6, 0))
        fill(top, (label("Layers", size=14), 1), self.variation, self.add)
        inside.addLayout(top)
        self.heard.setWordWrap(True)
        inside.addWidget(self.heard)
        self._list = vertical(margins=(0, 2, 6, 4), spacing=5)
        holder = QWidget()
        holder.setLayout(self._list)
        self._scroll = scrolling(holder)
        self._in_view = ""  # the layer whose card was brought into view last
        bar = self._scroll.verticalScrollBar()
        assert bar is not None
        bar.rangeChanged.connect(self._bring_into_view)  # cards that are new have their places
        inside.addWidget(self._scroll, 1)
        middle = vertical(spacing=6)
        fill(middle, (self.room, 2), (self.notes, 3), (self.recording, 3))
        row = horizontal(self, FLUSH, 8)
        fill(row, left, (middle, 1))
        WhileShown(
            self,
            self._show,
            session.changed,
            session.opened,
            session.selected,
            session.hearing.changed,
        )
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        app.focusChanged.connect(self._focus_moved)
        self._show()

    def _sounds_menu(self) -> QMenu:
        """The sounds by family, and the shelf for whoever wants to hear them first."""
        menu = QMenu(self.add)
        menu.addAction("Find one on the shelf…", self.shelf_wanted.emit)
        menu.addAction("Find a recording…", self.recordings_wanted.emit)
        menu.addAction("A recording from a file…", self.choose_recording)
        menu.addAction("Notes from a MIDI file…", self.choose_midi)
        menu.addAction("Record one…", self.keys_wanted.emit)
        menu.addSeparator()
        for family in FAMILIES:
            inside = menu.addMenu(family.capitalize())
            assert inside is not None
            for sound in (match.of for match in look_up(family=family)):
                action = inside.addAction(f"{sound.label}: {sound.about}")
                assert action is not None
                action.triggered.connect(lambda _c, name=sound.name: self._add(name))
        return menu

    def _add(self, sound: str) -> None:
        if self._session.apply("add a layer", lambda loop: layer_edits.add_layer(loop, sound)):
            self._session.select(layer_id=self._session.loop.layers[-1].id)

    def add_note_layer(self) -> None:
        """Add a layer without notes and put the keyboard on its grid."""
        like = self._session.selection.layer_id
        if self._session.apply(
            "add a note layer", lambda loop: layer_edits.add_note_layer(loop, like)
        ):
            self._session.select(layer_id=self._session.loop.layers[-1].id)
            self.notes.focus_grid()

    def next_layer(self) -> None:
        """Choose the next layer; after the last comes the first."""
        ids = [layer.id for layer in self._session.loop.layers]
        if ids:
            now = self._session.selection.layer_id
            at = ids.index(now) + 1 if now in ids else 0
            self._session.select(layer_id=ids[at % len(ids)])

    def choose_midi(self) -> None:
        """Ask for a MIDI file whose parts become layers."""
        words = "A MIDI file whose parts become layers"
        if chosen := ask_for_file(self, self._session, words, MIDI_KINDS):
            self.bring_midi(chosen)

    def choose_recording(self) -> None:
        """Ask for recordings that become layers."""
        words = "Recordings that become layers"
        if chosen := ask_for_files(self, self._session, words, RECORDINGS):
            self.bring_recordings(chosen)

    def bring_recordings(self, paths: Sequence[Path], instead_of: str = "") -> None:
        """Listen to recordings beside the interface; each becomes a layer when it was heard.

        Or one is put in a recording's place: through its treatments, as that lies.
        """
        clips = self._session.clips

        def work(
            cancelled: Callable[[], bool], moved: Callable[[float, str], None]
        ) -> tuple[list[Brought], list[str]]:
            found, problems = [], []
            for i, path in enumerate(paths):
                moved(i / len(paths), f"analysing {path.name}, {i + 1} of {len(paths)}")
                if cancelled():
                    raise Cancelled
                try:
                    audio, rate, heard = read_and_listen(path)
                    facts = facts_of(heard, shown(path.stem), origin=f"the file {path.name}")
                    found.append(Brought(clips.record(audio, rate), facts))
                except CloudriftError as error:  # the others come in all the same
                    problems.append(str(error))
            return found, problems

        self._tasks.run(
            BRINGING,
            work,
            lambda what: self._put_recordings(what[0], what[1], instead_of),
            moved=lambda _share, words: self._session.say(f"{words}…", good=True),
            lane=Lane.READING,
        )

    def stop_listening(self) -> None:
        """Leave the recordings that are being listened to."""
        self._tasks.cancel(BRINGING)
        self._session.say("stopped analysing recordings", good=True)

    def _put_recordings(
        self, found: Sequence[Brought], problems: Sequence[str], instead_of: str
    ) -> None:
        if not found:
            self._session.say("; ".join(problems))
            return

        def edit(loop: Loop) -> Loop:
            for one in found:
                source = laid_in(loop, one.clip, one.facts)
                loop = (
                    put_instead(loop, instead_of, source, 0.0)
                    if instead_of
                    else add_recording(loop, source)
                )
            return loop

        first = len(self._session.loop.layers)
        words = "another recording" if instead_of else "add a recording"
        if self._session.apply(words, edit):
            loop = self._session.loop
            layer = loop.layer(instead_of) if instead_of else loop.layers[first]
            self._session.select(layer_id=layer.id)
            if problems:
                self._session.say("; ".join(problems))
            elif layer.recorded is not None:
                self._session.say(offer_words(self._session.loop, layer.recorded), good=True)

    def bring_midi(self, path: Path) -> None:
        """Add a layer for each part of a MIDI file, with the notes as they are, when it is read."""
        self._tasks.run(
            f"reading {path.name}",
            lambda cancelled, _moved: read_parts(path, cancelled),
            lambda song: self._put_layers(song.parts, f"the file {path.name}"),
            lane=Lane.READING,
        )

    def _put_layers(self, parts: Sequence[tuple[str, Sequence[Note]]], origin: str) -> None:
        first = len(self._session.loop.layers)
        if self._session.apply(
            "layers from a MIDI file", lambda loop: put_layers(loop, parts, origin=origin)
        ):
            self._session.select(layer_id=self._session.loop.layers[first].id)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """MIDI files, recordings and sampled instruments may be dropped here."""
        assert event is not None
        if dropped(event.mimeData(), MIDI_FILES | RECORDED | SAMPLED):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        assert event is not None
        data = event.mimeData()
        for path in dropped(data, MIDI_FILES):
            self.bring_midi(path)
        if sampled := dropped(data, SAMPLED):
            self.sampled_dropped.emit(sampled)
        if recordings := dropped(data, RECORDED):
            onto = self._recording_at(event.position().toPoint())
            self.bring_recordings(recordings, onto if len(recordings) == 1 else "")

    def _recording_at(self, place: QPoint) -> str:
        """The recording whose card is at a place, in whose place another may be put; or none."""
        for layer in self._session.loop.layers:
            row = self.rows.get(layer.id)
            if row is None or layer.recorded is None or not row.isVisible():
                continue
            if row.rect().contains(row.mapFrom(self, place)):
                return layer.id
        return ""

    def _show(self) -> None:
        loop = self._session.loop
        ordered = listed(loop)
        ids = [owner.id for owner in ordered]
        if ids != self._listed:
            # The new rows come first: what is cleared may give the focus on, and ask for them.
            self.rows = {x.id: LayerRow(self._session, x) for x in ordered if isinstance(x, Layer)}
            self.groups = {
                x.id: GroupRow(self._session, x, role_of(loop, x))
                for x in ordered
                if isinstance(x, Group)
            }
            self._listed = ids
            clear(self._list)
            for owner in ordered:
                self._list_row(owner)
            if not self.rows:
                empty = label(
                    "No layers yet. Add one: it follows the chords at once. Or drop a "
                    "MIDI file or one-shots here.",
                    name="soft",
                    wrap=True,
                )
                self._list.addWidget(empty)
            self._list.addStretch(1)
        for layer in loop.layers:
            self.rows[layer.id].show_layer(layer)
        for group_id, row in self.groups.items():
            row.show_group(loop, loop.group(group_id))
        chosen = self._session.selection.layer_id
        is_recording = any(x.id == chosen and x.recorded is not None for x in loop.layers)
        self.notes.setVisible(not is_recording)
        self.recording.setVisible(is_recording)
        alone = self._session.hearing.alone
        self.heard.setText(heard_words(loop, alone))
        name = "signal" if alone or not loop.heard() else "soft"
        if loop.layers:
            set_look(self.heard, name)
        if chosen != self._in_view:
            self._in_view = chosen
            self._bring_into_view()

    def _bring_into_view(self, *_: int) -> None:
        row = self.rows.get(self._session.selection.layer_id)
        if row is not None:
            self._scroll.ensureWidgetVisible(row, 0, 8)

    def _list_row(self, owner: Layer | Group) -> None:
        """Put a card into the list; layers of a group stand in under it."""
        row: QWidget = self.groups[owner.id] if isinstance(owner, Group) else self.rows[owner.id]
        line = horizontal(margins=FLUSH)
        if isinstance(owner, Layer) and owner.group:
            line.addSpacing(INDENT_PX)
        line.addWidget(row)
        self._list.addLayout(line)

    def fold(self, height: int) -> None:
        """Where there is little room the notes have it."""
        self.room.setVisible(height >= ROOM_FROM)

    @staticmethod
    def commands() -> tuple[Command, ...]:
        """What can be done here, for the menus."""
        here = LayersStage
        return (
            Command("Empty &note layer", here.add_note_layer, "Ctrl+L", goes=True),
            Command("Layers from &recordings…", here.choose_recording),
            Command("Stop analysing recordings", here.stop_listening),
            Command("Layers from a &MIDI file…", here.choose_midi),
            Command("Step to the &next layer", here.next_layer, "F7"),
            Command("&Detach from chords", lambda it: it.notes.moves.detach()),
            Command("&Follow chords", lambda it: it.notes.moves.take_again()),
            *(Command(f"{tool.label}: {tool.about}", partial(here.open_tool, name=tool.name),
                      goes=True, inside=f"Notes: {group}")
              for group in GROUPS for tool in TOOLS.values() if tool.group == group),
        )  # fmt: skip

    def open_tool(self, name: str) -> None:
        """Open a tool for notes."""
        self.notes.open_tool(name)

    def _focus_moved(self, before: QWidget | None, now: QWidget | None) -> None:
        """Who tabs to a card works on its layer. The keyboard also comes there by itself, when what
        had it is hidden or off: that says nothing.
        """
        was_left = before is not None and before.isVisible() and before.isEnabled()
        if isinstance(now, LayerRow) and now.by_tab and was_left:
            self._session.select(layer_id=now.layer_id)

    def focus_first(self) -> None:
        """Put the keyboard where the work is."""
        (self.rows.get(self._session.selection.layer_id) or self.add).setFocus()

    def show_place(self, share: float) -> None:
        """Move the playheads."""
        self.room.show_place(share)
        self.notes.show_place(share)
        self.recording.show_place(share)
