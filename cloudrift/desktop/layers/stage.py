"""The Layers stage: the list and the inspector."""

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QHBoxLayout, QMenu, QPushButton, QVBoxLayout, QWidget

from cloudrift.desktop.layers.inspector import LayerInspector
from cloudrift.desktop.layers.room_view import RoomView
from cloudrift.desktop.layers.row import LayerRow
from cloudrift.desktop.notes.view import NotesView
from cloudrift.desktop.parts import WhileShown, clear, label, panel, scrolling
from cloudrift.desktop.session import Session
from cloudrift.desktop.tasks import Tasks
from cloudrift.loop import edits
from cloudrift.loop.model import Loop
from cloudrift.sound import look_up
from cloudrift.sound.instrument import FAMILIES
from cloudrift.style import house_cards

ROOM_FROM = 400  # pixels of height
LIST_PX = 292


class LayersStage(QWidget):
    """A card a layer; what is heard is said above them."""

    shelf_wanted = pyqtSignal()

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__()
        self._session = session
        self.room = RoomView(session, tasks)
        self.rows: dict[str, LayerRow] = {}
        self.inspector = LayerInspector(session)
        self.inspector.shelf_wanted.connect(self.shelf_wanted)
        self.heard = label("", size=12, name="soft")
        self.add = QPushButton("Add a layer")
        self.add.setObjectName("strong")
        self.add.setMenu(self._sounds_menu())
        self.notes = NotesView(session)
        left = panel()
        left.setFixedWidth(LIST_PX)
        inside = QVBoxLayout(left)
        inside.setContentsMargins(10, 8, 4, 8)
        inside.setSpacing(3)
        top = QHBoxLayout()
        top.setContentsMargins(0, 0, 6, 0)
        top.addWidget(label("Layers", size=14), 1)
        top.addWidget(self.add)
        inside.addLayout(top)
        self.heard.setWordWrap(True)
        inside.addWidget(self.heard)
        self._list = QVBoxLayout()
        self._list.setSpacing(5)
        self._list.setContentsMargins(0, 2, 6, 4)
        holder = QWidget()
        holder.setLayout(self._list)
        inside.addWidget(scrolling(holder), 1)
        middle = QVBoxLayout()
        middle.setSpacing(6)
        middle.addWidget(self.room, 2)
        middle.addWidget(self.notes, 3)
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 6, 8, 6)
        row.setSpacing(8)
        row.addWidget(left)
        row.addLayout(middle, 1)
        row.addWidget(self.inspector)
        refresh = WhileShown(self, self._show)
        session.changed.connect(refresh)
        session.opened.connect(refresh)
        session.selected.connect(refresh)
        self._show()

    def _sounds_menu(self) -> QMenu:
        """The sounds by family, and the shelf for whoever wants to hear them first."""
        menu = QMenu(self.add)
        menu.addAction("Find one on the shelf…", self.shelf_wanted.emit)
        menu.addSeparator()
        for family in FAMILIES:
            inside = menu.addMenu(family.capitalize())
            assert inside is not None
            for sound in look_up(family=family):
                action = inside.addAction(f"{sound.label}: {sound.about}")
                assert action is not None
                action.triggered.connect(lambda _c, name=sound.name: self._add(name))
        return menu

    def _add(self, sound: str) -> None:
        if self._session.apply("add a layer", lambda loop: edits.add_layer(loop, sound)):
            self._session.select(layer_id=self._session.loop.layers[-1].id)

    def _show(self) -> None:
        loop = self._session.loop
        ordered = sorted(loop.layers, key=lambda layer: layer.parked)  # parked ones below
        if list(self.rows) != [layer.id for layer in ordered]:
            clear(self._list)
            self.rows = {layer.id: LayerRow(self._session, layer) for layer in ordered}
            for row in self.rows.values():
                self._list.addWidget(row)
            if not self.rows:
                self._list.addWidget(label("No layers yet. Add one: it follows the chords at once.",
                                           name="soft"))  # fmt: skip
            self._list.addStretch(1)
        for layer in loop.layers:
            self.rows[layer.id].show_layer(layer)
        self.heard.setText(heard_words(loop))
        alone = any(layer.solo for layer in loop.layers if not layer.parked)
        name = "signal" if alone or not loop.heard() else "soft"
        if loop.layers and name != self.heard.objectName():
            self.heard.setObjectName(name)
            style = self.heard.style()
            assert style is not None
            style.unpolish(self.heard)
            style.polish(self.heard)

    def resizeEvent(self, _event: QResizeEvent | None) -> None:
        """Where a drawer leaves little room, the list has it."""
        self.room.setVisible(self.height() > ROOM_FROM)

    def focus_first(self) -> None:
        """Put the keyboard where the work is."""
        (self.rows.get(self._session.selection.layer_id) or self.add).setFocus()

    def show_place(self, share: float) -> None:
        """Move the playheads."""
        self.room.show_place(share)
        self.notes.grid.show_place(share)


def heard_words(loop: Loop) -> str:
    """Say which layers are heard, unmistakably, and how many the style keeps to."""
    heard, layers = loop.heard(), loop.layers
    if not layers:
        return ""
    if not heard:
        return "nothing is heard: every layer is off"
    parked = sum(layer.parked for layer in layers)
    if len(heard) == len(layers) - parked:
        words = f"all {len(heard)} are heard" + (f", {parked} parked" if parked else "")
    elif any(layer.solo for layer in heard):
        words = "only " + ", ".join(layer.name for layer in heard)
    else:
        off = ", ".join(x.name for x in layers if x.mute and not x.parked)
        words = f"{len(heard)} of {len(layers) - parked} are heard, without {off}"
    card = house_cards().get(loop.style)
    if card is None:
        return words
    low, high = card.layer_counts
    span = f"{low}" if low == high else f"{low} to {high}"
    return f"{words} · {card.name} keeps to {span}"
