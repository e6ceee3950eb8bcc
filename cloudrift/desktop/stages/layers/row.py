"""One layer in the list: name, sound, what it plays, its notes in small, level, pan, hear, off."""

from typing import Any

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QFocusEvent, QMouseEvent
from PyQt6.QtWidgets import QGridLayout

from cloudrift.desktop.kit.parts import Elided, set_look
from cloudrift.desktop.kit.ride_lane import first_points, small_ride
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.stages.layers.mini_notes import MiniNotes
from cloudrift.desktop.stages.layers.owner_row import OwnerRow
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.model.loop import LEVEL, Layer, Loop


class LayerRow(OwnerRow):
    """A card for one layer."""

    def __init__(self, session: Session, layer: Layer) -> None:
        super().__init__(session, layer, layer.role, "layer")
        self.layer_id = layer.id
        self.by_tab = False  # how it came to the keyboard last
        self._shown: tuple[object, ...] = ()
        self.setFixedHeight(101)
        self.sound = Elided(size=12)
        self.lens = Elided(size=11.5, name="soft")
        self.notes = MiniNotes()
        self.level.ride_wanted.connect(self._ride_level)
        self._lay_out()
        for child in (self.name, self.sound, self.lens, self.notes):
            child.installEventFilter(self)

    def _lay_out(self) -> None:
        grid = QGridLayout(self)
        grid.setContentsMargins(14, 5, 8, 6)
        grid.setHorizontalSpacing(6)
        grid.setVerticalSpacing(1)
        grid.addWidget(self.name, 0, 0)
        grid.addWidget(self.sound, 1, 0)
        grid.addWidget(self.notes, 0, 1, 2, 1)
        grid.addWidget(self.lens, 2, 0, 1, 2)
        grid.addLayout(self._switches(), 0, 2, 3, 1)
        grid.addLayout(self._fields(), 3, 0, 1, 3)
        grid.setColumnStretch(0, 3)
        grid.setColumnStretch(1, 2)

    def change(self, loop: Loop, **changes: Any) -> Loop:
        return layer_edits.set_layer(loop, self.layer_id, **changes)

    def _ride_level(self, on: bool) -> None:
        """Let the level ride over the loop, at first as it stands, or stand again."""
        session = self._session
        value = session.loop.layer(self.layer_id).level_db
        points = first_points(value, session.loop.ticks) if on else ()
        session.select(layer_id=self.layer_id)
        session.apply(
            "level ride" if on else "no level ride",
            lambda loop: line_edits.set_level_ride(loop, self.layer_id, points),
        )

    def show_layer(self, layer: Layer) -> None:
        """Refresh from the loop, if something of it is shown otherwise now."""
        session = self._session
        loop, selection = session.loop, session.selection
        quiet = layer.id not in {one.id for one in session.hearing.heard_loop.heard()}
        self.notes.show_layer(loop, layer, quiet=quiet)
        selected = selection.layer_id == self.layer_id
        shown = (layer, selected, quiet, loop.ticks, layer.id in session.hearing.alone)
        if shown == self._shown:
            return
        self._shown = shown
        self.name.setText(f"{layer.name}  (off)" if layer.parked else layer.name)
        self.hear.setEnabled(not layer.parked)
        self.off.setEnabled(not layer.parked)
        sounds = layer.source.sound_text
        self.sound.setText(sounds)
        text = layer.source.text
        self.lens.setText(text)
        self.lens.setToolTip(f"{text} of the chords" if layer.follows else text)
        self.level.let_ride(small_ride(layer.level_ride, LEVEL, loop.ticks))
        self._role = layer.role
        self.show_switches(layer, quiet=quiet)
        set_look(self, "cardSelected" if selected else "card")
        state = "" if not quiet else ", muted"
        self.setAccessibleName(f"Layer {layer.name}: {sounds}, {text}{state}")
        self.update()

    def eventFilter(self, _watched: QObject | None, event: QEvent | None) -> bool:
        if event is not None and event.type() == QEvent.Type.MouseButtonPress:
            self._session.select(layer_id=self.layer_id)
        return False

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        self._session.select(layer_id=self.layer_id)

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        assert event is not None
        self.by_tab = event.reason() in (
            Qt.FocusReason.TabFocusReason,
            Qt.FocusReason.BacktabFocusReason,
        )
