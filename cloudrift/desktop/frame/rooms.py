"""The rooms of the window: stages, pages, what opens beside them; built when first wanted."""

from functools import cached_property
from typing import TypeVar

from PyQt6.QtCore import QTimer, pyqtSignal
from PyQt6.QtWidgets import QMainWindow, QVBoxLayout, QWidget

from cloudrift.desktop.frame.rail import MICROPHONE, RECORDINGS, SHELF, STAGES
from cloudrift.desktop.frame.side_pane import SidePane
from cloudrift.desktop.kit.layouts import FLUSH, vertical
from cloudrift.desktop.kit.parts import LinkLine, Pages, ScrollingPage
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.ahead import TonesAhead
from cloudrift.desktop.session.work.checking import Checking
from cloudrift.desktop.session.work.marking import Marking
from cloudrift.desktop.session.work.tasks import Tasks
from cloudrift.desktop.stages.arrange.stage import ArrangeStage
from cloudrift.desktop.stages.chords.stage import ChordsStage
from cloudrift.desktop.stages.deliver.stage import DeliverStage
from cloudrift.desktop.stages.find.pane import FindPane
from cloudrift.desktop.stages.flip.stage import FlipStage
from cloudrift.desktop.stages.groove.stage import GrooveStage
from cloudrift.desktop.stages.keys.strip import KeysStrip
from cloudrift.desktop.stages.layers.stage import LayersStage
from cloudrift.desktop.stages.microphone.pane import MicrophonePane
from cloudrift.desktop.stages.shelf.pane import Shelf
from cloudrift.desktop.stages.start.page import StartPage
from cloudrift.desktop.stages.style.page import StylePage
from cloudrift.desktop.stages.texture.stage import TextureStage
from cloudrift.exchange import Service, StandIn
from cloudrift.exchange.folders import OwnFolders
from cloudrift.ground.memory import leave_what_stands

MISSED_TIP = "Marks of the style card that this stage misses; click to see what would meet them"
FURNISH_MS = 60  # between two rooms that are built while nothing is done
# In the order of the stack, which begins with the stages in the order of the rail.
ROOMS = (ChordsStage, LayersStage, TextureStage, FlipStage, GrooveStage, ArrangeStage, DeliverStage,
         StartPage, StylePage)  # fmt: skip
FURNISHED = ("chords", "layers", "texture", "start", "flip", "groove", "shelf", "arrange",
             "deliver", "keys", "recordings", "microphone", "style_page")  # fmt: skip
Stage = (
    ChordsStage | LayersStage | TextureStage | FlipStage | GrooveStage | ArrangeStage | DeliverStage
)
_Room = TypeVar("_Room", bound=QWidget)
_Stage = TypeVar("_Stage", ChordsStage, LayersStage, TextureStage, FlipStage, GrooveStage,
                 ArrangeStage, DeliverStage)  # fmt: skip
_Tool = TypeVar("_Tool", Shelf, FindPane, MicrophonePane)


class Rooms(QMainWindow):
    """A window that has the rooms; what they wish of each other goes through its signals."""

    keys_wanted = pyqtSignal()
    inspector_wanted = pyqtSignal()
    bed_line_wanted = pyqtSignal()  # the treatments of all of the groove bed
    layer_in_wanted = pyqtSignal()  # a layer is to be played in
    shelf_wanted = pyqtSignal()
    recordings_wanted = pyqtSignal()
    keep_row_wanted = pyqtSignal()
    midi_chosen = pyqtSignal(object)  # Path
    file_chosen = pyqtSignal(object)  # Path of a loop
    own_kept = pyqtSignal(object)  # OwnSound
    sampled_dropped = pyqtSignal(list)  # list[Path]
    apart_wanted = pyqtSignal(object)  # Document, to be opened in the open one's place
    begun = pyqtSignal(object)  # Loop
    start_left = pyqtSignal()
    demo_wanted = pyqtSignal()
    learn_wanted = pyqtSignal()  # a card is to be learnt
    style_closed = pyqtSignal()
    tool_closed = pyqtSignal()  # what stood in the inspector's place
    keys_closed = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.tasks = Tasks(self)
        self.checking = Checking(session, self.tasks, self)
        self.marking = Marking(session, self.tasks)
        TonesAhead(session, self.tasks)
        self.stack = Pages(len(ROOMS))
        self.quiet = LinkLine(self.open_missed)
        self.pane = SidePane(self.quiet)
        self.below: QVBoxLayout = vertical(margins=FLUSH)  # where the keys are put

    def open_missed(self) -> None:
        """Show what the style card asks and is not so."""

    @property
    def closing(self) -> bool:
        """Whether no more rooms are to be built."""
        return False

    @cached_property
    def chords(self) -> ChordsStage:
        """The chord row."""
        made = ChordsStage(self.session)
        made.row_bar.keys_wanted.connect(self.keys_wanted)
        made.row_bar.keep_wanted.connect(self.keep_row_wanted)
        made.row_bar.midi_chosen.connect(self.midi_chosen)
        return self._put_stage(made)

    @cached_property
    def layers(self) -> LayersStage:
        """What plays the row."""
        made = LayersStage(self.session, self.tasks)
        made.shelf_wanted.connect(self.shelf_wanted)
        made.inspector.keep_wanted.connect(self.own_kept)
        made.keys_wanted.connect(self.layer_in_wanted)
        made.recordings_wanted.connect(self.recordings_wanted)
        made.sampled_dropped.connect(self.sampled_dropped)
        return self._put_stage(made)

    @cached_property
    def texture(self) -> TextureStage:
        """What layers and the loop go through."""
        made = TextureStage(self.session, self.tasks)
        made.finishes_wanted.connect(self.inspector_wanted)
        return self._put_stage(made)

    @cached_property
    def flip(self) -> FlipStage:
        """Prints, cut up."""
        made = FlipStage(self.session, self.tasks)
        made.result.apart_wanted.connect(self.apart_wanted)
        made.recordings_wanted.connect(self.recordings_wanted)
        return self._put_stage(made)

    @cached_property
    def groove(self) -> GrooveStage:
        """The groove bed: drums and a long bass."""
        made = GrooveStage(self.session, self.tasks)
        made.line_wanted.connect(self.bed_line_wanted)
        return self._put_stage(made)

    @cached_property
    def arrange(self) -> ArrangeStage:
        """Sections."""
        return self._put_stage(ArrangeStage(self.session, self.tasks))

    @cached_property
    def deliver(self) -> DeliverStage:
        """What is handed over."""
        made = DeliverStage(self.session, self.tasks, self.checking)
        made.open_wanted.connect(self.file_chosen)
        return self._put_stage(made)

    @cached_property
    def start(self) -> StartPage:
        """What a loop is begun from."""
        made = StartPage(self.session, self.tasks)
        made.begun.connect(self.begun)
        made.left.connect(self.start_left)
        made.demo_wanted.connect(self.demo_wanted)
        made.learn_wanted.connect(self.learn_wanted)
        return self._put(made)

    @cached_property
    def style_page(self) -> StylePage:
        """The style card's page."""
        made = StylePage(self.session, self.tasks, self.marking)
        made.closed.connect(self.style_closed)
        return self._put(made)

    @cached_property
    def keys(self) -> KeysStrip:
        """Keys to play, at the foot."""
        made = KeysStrip(self.session)
        made.hide()
        made.closed.connect(self.keys_closed)
        self.below.addWidget(made)
        return made

    @cached_property
    def shelf(self) -> Shelf:
        """The sounds."""
        return self._put_tool(SHELF, Shelf(self.session, self.tasks))

    @cached_property
    def recordings(self) -> FindPane:
        """Recordings of others, and those in folders of one's own."""
        session = self.session
        folders = OwnFolders(lambda: session.preferences.recording_folders)
        services: dict[str, Service] = {"Exchange": StandIn(), "My folders": folders}
        return self._put_tool(RECORDINGS, FindPane(session, self.tasks, services))

    @cached_property
    def microphone(self) -> MicrophonePane:
        """Takes that are sung."""
        return self._put_tool(MICROPHONE, MicrophonePane(self.session, self.tasks))

    def _put(self, room: _Room) -> _Room:
        self.stack.put(ROOMS.index(type(room)), ScrollingPage(room))
        return room

    def _put_stage(self, stage: _Stage) -> _Stage:
        self.pane.put_inspector(type(stage), stage.inspector)
        return self._put(stage)

    def _put_tool(self, name: str, tool: _Tool) -> _Tool:
        tool.closed.connect(self.tool_closed)
        self.pane.put_tool(name, tool)
        return tool

    def stage(self, at: int) -> Stage:
        """Return a stage by its number."""
        stage: Stage = getattr(self, STAGES[at].lower())
        return stage

    def is_built(self, room: str) -> bool:
        """Return whether a room has been built, by the name of its attribute."""
        return room in self.__dict__  # where what is cached is kept

    def furnish(self) -> None:
        """Build the rooms that nobody has gone to yet, one in each moment that nothing is done."""
        if self.closing:
            return
        missing = next((name for name in FURNISHED if not self.is_built(name)), "")
        if missing:
            getattr(self, missing)
            QTimer.singleShot(FURNISH_MS, self.furnish)
        else:
            leave_what_stands()

    @property
    def room(self) -> QWidget | None:
        """The stage or page that is shown."""
        page = self.stack.currentWidget()
        return page.widget() if isinstance(page, ScrollingPage) else page

    @property
    def at_start(self) -> bool:
        """Whether the start page is shown: the open loop is not."""
        return self.stack.currentIndex() == ROOMS.index(StartPage)
