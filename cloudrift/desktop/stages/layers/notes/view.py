"""The notes of the chosen layer: what they are, tools for them, the grid."""

from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QMenu, QPushButton, QVBoxLayout, QWidget

from cloudrift.desktop.kit.flow import Flow, takes_rest
from cloudrift.desktop.kit.grid import Grid, GridChoice
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.look import text_font
from cloudrift.desktop.kit.parts import (
    Elided,
    WhileShown,
    button,
    clear,
    panel,
    set_look,
    small_button,
)
from cloudrift.desktop.kit.ride_lane import RideLane
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.stages.layers.notes.grid import NoteGrid
from cloudrift.desktop.stages.layers.notes.hints import HINT
from cloudrift.desktop.stages.layers.notes.model import said
from cloudrift.desktop.stages.layers.notes.moves import NoteMoves
from cloudrift.desktop.stages.layers.notes.places import LEFT
from cloudrift.desktop.stages.layers.notes.tool_strip import ToolStrip
from cloudrift.loop.edits.layers import line_edits
from cloudrift.loop.edits.layers.from_notes import put_roots, roots_of_what_plays
from cloudrift.loop.edits.layers.slowed import slowed
from cloudrift.loop.model.loop import LEVEL, Layer
from cloudrift.loop.sounding import heard_time
from cloudrift.notes.tools import GROUPS, TOOLS
from cloudrift.texture.ride import RidePoint

NAME_PX = 190  # that a layer's name and its words have at least
DETACH, FOLLOW = "Detach", "Follow chords"


class NotesView(QWidget):
    """The lower half of the Layers stage."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.moves = NoteMoves(session, Grid("1/16"))
        self.grid = NoteGrid(self.moves)
        self.strip = ToolStrip(self.moves)
        self.title = Elided(size=14)
        self.words = Elided(size=11.5, name="soft")
        self.follow = button(DETACH, self._swap_follow)
        self.step = GridChoice(self.moves.grid)
        self.moves.grid.changed.append(self._follow_grid)
        self.pull = small_button("pull into it", self.pull_into_slow)
        self.roots = small_button(
            "Sounding roots", self._put_roots, tip="Detached notes: the sounding roots"
        )
        self.heard = small_button(
            "As heard", self._swap_heard, tip="See and draw notes when they sound, in the octave "
            "they sound in, after all treatments; what is written is bent for that",
        )  # fmt: skip
        self.heard.setCheckable(True)
        self.help = small_button("?", self._say_keys, tip=HINT)
        self.lane: RideLane | None = None
        self._lane_of: tuple[object, ...] = ()
        self.tools: dict[str, QPushButton] = {}
        self._lay_out()
        self.strip.tried.connect(self.grid.show_tried)
        self.strip.ended.connect(self.grid.setFocus)
        self.moves.refused.connect(self._say)
        session.opened.connect(self.grid.fit)
        WhileShown(self, self._show, session.changed, session.opened, session.selected)
        self._show()

    def _lay_out(self) -> None:
        frame = panel()
        column = vertical(frame, (12, 8, 8, 8), 5)
        words, head = QWidget(), QWidget()
        fill(horizontal(words, FLUSH, 6), (self.title, 1), (self.words, 2))
        takes_rest(words, NAME_PX)
        line = Flow(head, spacing=6)
        for one in (words, self.roots, self.pull, self.heard, self.step, self.help, self.follow):
            line.addWidget(one)
        column.addWidget(head)
        tools = QWidget()
        line = Flow(tools)
        for group in GROUPS:
            made = QPushButton(group)
            made.setFont(text_font(11.5))
            made.setProperty("fit", "small")
            menu = QMenu(made)
            menu.setToolTipsVisible(True)
            for tool in TOOLS.values():
                if tool.group == group:
                    action = menu.addAction(f"{tool.label}: {tool.about}")
                    assert action is not None
                    action.triggered.connect(partial(self.open_tool, tool.name))
            made.setMenu(menu)
            made.setAccessibleName(f"Tools: {group}")
            self.tools[group] = made
            line.addWidget(made)
        fill(column, tools, self.strip)
        self._level = QVBoxLayout()  # the level's lane, while it rides
        self._level.setContentsMargins(LEFT, 0, 4, 0)
        fill(column, self._level, (self.grid, 1))
        outer = vertical(self, FLUSH)
        outer.addWidget(frame)

    def open_tool(self, name: str, _checked: bool = False) -> None:
        """Open a tool's strip."""
        self.strip.open_tool(TOOLS[name])

    def pull_into_slow(self) -> None:
        """Open the tool that pulls notes into what a slow treatment lets one hear, set for it."""
        layer = self.moves.layer
        slow = slowed(self._session.loop, layer) if layer else None
        if slow is not None:
            self.strip.open_tool(TOOLS["to the front"], window=slow.window, share=slow.share * 100)

    def _swap_heard(self) -> None:
        self.moves.as_heard = self.heard.isChecked()
        self.grid.fit()
        self._show()

    def _follow_grid(self) -> None:
        self.strip.try_it()
        self.grid.update()

    def _put_roots(self) -> None:
        layer = self.moves.layer
        if layer is not None:
            self._session.apply("sounding roots", lambda loop: put_roots(loop, layer.id))

    def _swap_follow(self) -> None:
        layer = self.moves.layer
        if layer is None:
            return
        self.strip.close_strip()
        if layer.follows:
            self.moves.detach()
        else:
            self.moves.take_again()

    def _say(self, words: str) -> None:
        self.words.setText(words)
        set_look(self.words, "signal")

    def _say_keys(self) -> None:
        from PyQt6.QtWidgets import QToolTip  # noqa: PLC0415

        QToolTip.showText(self.help.mapToGlobal(self.help.rect().bottomLeft()), HINT, self.help)

    def _show(self) -> None:
        layer = self.moves.layer
        if self.strip.tool is not None:
            self.strip.try_it()  # what it was tried on has changed
        self.follow.setVisible(layer is not None)
        loop = self._session.loop
        waits = layer is not None and layer.follows and not loop.chords
        self.roots.setVisible(waits and bool(roots_of_what_plays(loop)))
        self.heard.setVisible(layer is not None and heard_time(loop, layer) is not None)
        slow = slowed(self._session.loop, layer) if layer else None
        self.pull.setVisible(slow is not None)
        if slow is not None:
            self.pull.setText(f"{slow.share:.0%} heard: pull in".replace("%", " %"))
            self.pull.setToolTip(f"{slow.says}; squeeze the notes into that part")
        for one in self.tools.values():
            one.setEnabled(layer is not None)
        if layer is None:
            self.title.setText("Notes")
            self.words.setText("")
        else:
            self.title.setText(layer.name)
            self.follow.setText(DETACH if layer.follows else FOLLOW)
            self.follow.setToolTip(
                "Make these notes your own; the lens is off"
                if layer.follows
                else "The lens makes the notes again; yours are deleted (undo restores them)"
            )
            self.words.setText(said(self._session.loop, layer, len(self.moves.picked)))
        set_look(self.words, "soft")
        self._show_level(layer)
        self.grid.update()

    def _show_level(self, layer: Layer | None) -> None:
        """Show the lane of a level that rides, over the same time as the notes."""
        loop = self._session.loop
        ride = layer.level_ride if layer else None
        lane_of = (layer.id, layer.role, loop.ticks, loop.metre) if layer and ride else ()
        if lane_of != self._lane_of:
            self._lane_of, self.lane = lane_of, None
            clear(self._level)
        if layer is None or ride is None:
            return
        if self.lane is None:
            self.lane = RideLane(LEVEL, layer.role, loop.ticks, loop.metre)
            self.lane.curve.edited.connect(partial(self._draw_level, layer.id))
            self.lane.curve.settled.connect(self._session.end_drag)
            self.lane.every_chosen.connect(partial(self._level_again, layer.id))
            self._level.addWidget(self.lane)
        self.lane.show_ride(ride, loop.ticks)

    def _level_again(self, layer_id: str, every: int) -> None:
        """Let the ride of the level come again so often, its way as it is."""
        self._session.apply(
            "how often the level ride repeats",
            lambda p: line_edits.level_ride_again(p, layer_id, every),
        )

    def _draw_level(self, layer_id: str, points: tuple[RidePoint, ...]) -> None:
        """Let the level ride through points, as often as it does; with none it stands."""
        before = self._session.loop.layer(layer_id).level_ride
        every = before.every_ticks if before else 0
        self._session.apply(
            "level ride" if points else "no level ride",
            lambda loop: line_edits.set_level_ride(loop, layer_id, points, every),
            merge=f"level ride {layer_id}",
            moving=True,
        )

    def show_place(self, share: float) -> None:
        """Move the playheads."""
        self.grid.show_place(share)
        if self.lane is not None:
            self.lane.curve.show_place(share)

    def focus_grid(self) -> None:
        """Put the keyboard on the notes."""
        self.grid.setFocus(Qt.FocusReason.OtherFocusReason)
