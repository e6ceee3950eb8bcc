"""A window in which stages are shown, and things open beside them, at their foot, over them."""

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QSplitter

from cloudrift.desktop.frame.rail import (
    INSPECTOR,
    KEYS,
    MICROPHONE,
    RECORDINGS,
    SHELF,
    STAGES,
    STYLE,
    Rail,
)
from cloudrift.desktop.frame.rooms import MISSED_TIP, ROOMS, Rooms
from cloudrift.desktop.kit.parts import put_away
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.stages.style.page import StylePage
from cloudrift.loop.model.bed import BED as BED_ID

# Which marks are a stage's own matter.
MARKS_OF = {
    "Chords": ("Setting", "Chords"),
    "Layers": ("Layers", "Playing", "Bass"),
    "Texture": ("Texture", "Sound"),
    "Flip": ("Flip",),
    "Groove": ("Groove",),
    "Arrange": ("Form",),
}


class Beside(Rooms):
    """Knows which stage or page is shown, and what is open beside it."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.rail = Rail()
        self.splitter = QSplitter(Qt.Orientation.Horizontal)
        self.stage_before = 0  # the stage that the style card's page stands over
        self.rail.chosen.connect(self.choose_stage)
        self.rail.opened.connect(self.open_or_close)
        self.pane.changed.connect(lambda _name: self.show_open())
        self.shelf_wanted.connect(self.open_shelf)
        self.inspector_wanted.connect(self.open_inspector)
        self.bed_line_wanted.connect(self._open_bed_line)
        self.recordings_wanted.connect(self.open_recordings)
        self.style_closed.connect(lambda: self.show_stage(self.stage_before))
        self.tool_closed.connect(self._tool_closed)
        self.keys_closed.connect(self._keys_closed)
        self.keys_wanted.connect(self.open_keys)

    # --- stages -------------------------------------------------------------------------------

    def show_stage(self, stage: int) -> None:
        """Show a stage by number."""
        room = self.stage(stage)
        self.stack.setCurrentIndex(stage)
        self.pane.show_stage(type(room))
        self.pane.show()
        self.rail.show_stage(stage)
        self.show_open()
        if not self.rail.has_keyboard:
            room.focus_first()

    def choose_stage(self, stage: int) -> None:
        """Go to a stage; from the start page of a new program that means: with the loop shown."""
        session = self.session
        nothing_open = session.document.path is None and not session.document.would_be_lost
        if self.at_start and nothing_open and self.start.has_loop:
            self.start.begin_loop()
        self.show_stage(stage)

    @property
    def at_style(self) -> bool:
        """Whether the style card's page is shown."""
        return self.stack.currentIndex() == ROOMS.index(StylePage)

    # --- the side pane, the keys, the style card -------------------------------------------------

    def open_keys(self) -> None:
        """Open the keys at the foot."""
        self.leave_page(0)
        self.keys.show()
        self.show_open()
        self.keys.keys.setFocus()

    def open_inspector(self) -> None:
        """Have the inspector in the side pane."""
        self.leave_page(self.stage_before)
        self.pane.open(INSPECTOR)

    def _open_bed_line(self) -> None:
        self.session.select(line_of=BED_ID, treatment_id="")
        self.show_stage(STAGES.index("Texture"))

    def open_shelf(self) -> None:
        """Open the Shelf at the sound of the layer that is worked on."""
        self.leave_page(STAGES.index("Layers"))
        shelf = self.shelf
        self.pane.open(SHELF)
        shelf.show_layer_sound()
        shelf.search.setFocus()
        shelf.search.selectAll()  # what was looked for last gives way to what is typed

    def open_recordings(self) -> None:
        """Open what recordings are found in."""
        self.leave_page(STAGES.index("Layers"))
        recordings = self.recordings
        self.pane.open(RECORDINGS)
        recordings.search.setFocus()
        recordings.search.selectAll()

    def open_microphone(self) -> None:
        """Open what takes are sung in."""
        self.leave_page(STAGES.index("Layers"))
        microphone = self.microphone
        self.pane.open(MICROPHONE)
        microphone.take.setFocus()

    def leave_page(self, stage: int) -> None:
        """What is for an open loop: from the start page or the style card, go to a stage first."""
        if self.at_start:
            self.choose_stage(stage)
        elif self.at_style:
            self.show_stage(self.stage_before)

    def show_open(self) -> None:
        """Say on the rail what is open beside the stage."""
        keys = (KEYS,) if self.is_built("keys") and self.keys.isVisible() else ()
        if self.at_style:
            self.rail.show_open(STYLE, *keys)
        elif self.at_start:
            self.rail.show_open()
        else:
            self.rail.show_open(self.pane.shows, *keys)

    def open_style(self) -> None:
        """Show the style card's page over the stage, or the stage again."""
        if self.at_style:
            self.show_stage(self.stage_before)
        elif self.stack.currentIndex() < len(STAGES):
            self.stage_before = self.stack.currentIndex()
            page = self.style_page
            self.show_page(ROOMS.index(StylePage))
            page.focus_first()

    def show_page(self, at: int) -> None:
        """Show a page that is no stage: it has no side pane."""
        self.stack.setCurrentIndex(at)
        self.pane.hide()
        self.rail.show_stage(-1)
        self.show_open()

    def open_missed(self) -> None:
        if not self.at_style:
            self.open_style()
        self.style_page.show_tab("marks")
        self.style_page.show_missed()

    def show_missed_here(self) -> None:
        """Say under the inspector what the card asks of this stage and is not so."""
        at = self.stack.currentIndex()
        stage = STAGES[at] if at < len(STAGES) else ""
        words = self.marking.missed_in(MARKS_OF.get(stage, ()))
        self.quiet.say(words)
        self.quiet.setToolTip(f"{words}. {MISSED_TIP}" if words else "")
        self.pane.show_foot(on=bool(words))

    def open_or_close(self, name: str) -> None:
        """Open what the rail names, or close it."""
        if name == STYLE:
            self.open_style()
        elif name == KEYS and self.is_built("keys") and self.keys.isVisible():
            self.keys.leave()
        elif name == self.pane.shows and self.pane.isVisible():
            self._tool_closed()
        else:
            {
                INSPECTOR: self.open_inspector,
                SHELF: self.open_shelf,
                RECORDINGS: self.open_recordings,
                MICROPHONE: self.open_microphone,
                KEYS: self.open_keys,
            }[name]()

    def _tool_closed(self) -> None:
        """The inspector is there again, the keyboard where the work is."""
        self.pane.open(INSPECTOR)
        self._back_to_work()

    def _keys_closed(self) -> None:
        put_away(self.keys)
        self.show_open()
        self._back_to_work()

    def _back_to_work(self) -> None:
        current = self.stack.currentIndex()
        if current < len(STAGES):
            self.stage(current).focus_first()
