"""The strip of a tool: its settings, tried as they are moved, and used or dropped."""

from collections.abc import Callable

from PyQt6.QtCore import QEvent, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QFrame, QWidget

from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.flow import Flow
from cloudrift.desktop.kit.layouts import fill, horizontal, vertical
from cloudrift.desktop.kit.parts import button, clear, heading, label, set_look
from cloudrift.desktop.session.hearing.preview import Preview
from cloudrift.desktop.stages.layers.notes.moves import NoteMoves
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.settings import Settings, Value
from cloudrift.loop.edits.layers import own_notes
from cloudrift.loop.model.loop import Loop
from cloudrift.notes.note import Note
from cloudrift.notes.tools import Tool

COLUMNS = 4


class ToolStrip(QFrame):
    """Shown while a tool is open. ``tried`` carries what it would make of the notes, or None."""

    tried = pyqtSignal(object)
    ended = pyqtSignal()

    def __init__(self, moves: NoteMoves) -> None:
        super().__init__()
        self.setObjectName("card")
        self._moves = moves
        self._session = moves.session
        self._tool: Tool | None = None
        self._values: dict[str, dict[str, Value]] = {}  # by tool: as they were left
        self._preview = Preview(moves.session.hearing.previews, self)
        self.fields: dict[str, FieldWidget] = {}
        self.title = heading("")
        self.about = label("", size=11.5, name="soft")
        self.use = button("Apply", self.apply, name="strong", tip="Apply to the notes (Enter)")
        self.drop = button("Cancel", self.close_strip, tip="Change nothing (Esc)")
        head = horizontal()
        fill(head, self.title, (self.about, 1), self.drop, self.use)
        fields = QWidget()
        self._fields = Flow(fields, even=True, columns=COLUMNS)
        column = vertical(self, (10, 6, 10, 8), 5)
        fill(column, head, fields)
        self.hide()

    @property
    def tool(self) -> Tool | None:
        """The tool that is open."""
        return self._tool

    def open_tool(self, tool: Tool, **put: Value) -> None:
        """Open a tool on the picked notes, or all of them, with its settings as they were left.

        ``put`` are settings that it is opened with instead.
        """
        if not self._moves.may():
            return
        self._tool = tool
        values = self._values.setdefault(tool.name, {f.name: f.default for f in tool.spec})
        values |= put
        clear(self._fields)
        self.fields = {}
        for field in tool.spec:
            widget = FieldWidget(field, values[field.name], accent="focus")
            widget.edited.connect(lambda value, name=field.name: self._put(name, value))
            self.fields[field.name] = widget
            self._fields.addWidget(widget)
        self.title.setText(f"{tool.label}: {tool.about}")
        self.show()
        self.try_it()
        first: QWidget = next(iter(self.fields.values()), self.use)
        first.setFocus(Qt.FocusReason.OtherFocusReason)

    def _put(self, name: str, value: Value) -> None:
        assert self._tool is not None
        self._values[self._tool.name][name] = value
        self.try_it()

    def try_it(self) -> None:
        """Make what the tool would make, show it and let it be heard; nothing is changed."""
        tool, layer = self._tool, self._moves.layer
        if tool is None or layer is None:
            return
        edit = self._edit(tool, layer.id)
        try:
            self._preview.put(lambda loop: edit(loop)[0], f"{tool.name}, preview")
        except CloudriftError as error:
            self._session.say(str(error))
            return
        assert self._preview.loop is not None
        notes: tuple[Note, ...] = self._preview.loop.layer(layer.id).own or ()
        self._say_what_changes(same=notes == layer.own)
        self.tried.emit(notes)

    def _say_what_changes(self, *, same: bool) -> None:
        """Say beforehand on which notes it is used, and when it does nothing to them."""
        count = len(self._moves.picked)
        whose = f"{count} selected" if count else f"all {len(self._moves.notes)}"
        notes = "note" if count == 1 else "notes"
        self.about.setText(
            f"· changes nothing at this setting, on {whose} {notes}"
            if same
            else f"· changes {whose} {notes}"
        )
        set_look(self.about, "signal" if same else "soft")

    def _edit(self, tool: Tool, layer_id: str) -> Callable[[Loop], tuple[Loop, frozenset[int]]]:
        """What the tool does to a loop as it is set now."""
        settings: Settings = tuple(self._values[tool.name].items())
        picked, grid = self._moves.picked, self._moves.grid.ticks
        return lambda loop: own_notes.use_tool(loop, layer_id, tool, picked, settings, grid)

    def apply(self) -> None:
        """Change the notes, in one step."""
        tool, layer = self._tool, self._moves.layer
        self.close_strip()
        if tool is None or layer is None:
            return
        before = self._session.loop
        left = self._session.make(tool.name, self._edit(tool, layer.id))
        if left is not None and self._session.loop.layer(layer.id) == before.layer(layer.id):
            self._session.say(f"{tool.label} changed nothing: the notes already fit")
        if self._moves.picked and left:
            self._moves.pick(left)

    def close_strip(self) -> None:
        """Leave the notes as they are."""
        if self._tool is None:
            return
        self._tool = None
        self._preview.end()
        self.tried.emit(None)
        self.hide()
        self.ended.emit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if event.key() == Qt.Key.Key_Escape:
            self.close_strip()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.apply()
        else:
            super().keyPressEvent(event)

    def hideEvent(self, event: QEvent | None) -> None:
        """A strip that goes with its stage leaves nothing being tried."""
        if event is not None and not event.spontaneous():
            self.close_strip()
