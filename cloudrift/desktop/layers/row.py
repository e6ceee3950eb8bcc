"""One layer in the list: name, sound, what it plays, its notes in small, level, pan, hear, off."""

from PyQt6.QtCore import QEvent, QObject, QRectF, Qt
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QPushButton, QSizePolicy, QVBoxLayout

from cloudrift.desktop.field import FieldWidget
from cloudrift.desktop.layers.mini_notes import MiniNotes
from cloudrift.desktop.look import SEMI, color
from cloudrift.desktop.parts import Elided, label, set_look
from cloudrift.desktop.ride_lane import first_points, small_ride
from cloudrift.desktop.session import Session
from cloudrift.ground.settings import Field
from cloudrift.loop import edits
from cloudrift.loop.model import LEVEL, Layer

PAN = Field(name="pan", label="Pan", default=0, unit="%", low=-100, high=100, step=1)


class LayerRow(QFrame):
    """A card for one layer."""

    def __init__(self, session: Session, layer: Layer) -> None:
        super().__init__()
        self._session = session
        self.layer_id = layer.id
        self._role, self._quiet = layer.role, False
        self._shown: tuple[object, ...] = ()
        self.setFixedHeight(93)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.name = label(layer.name, size=13.5, weight=SEMI)
        self.name.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.sound = Elided(size=12)
        self.lens = Elided(size=11.5, name="soft")
        self.notes = MiniNotes()
        self.level = FieldWidget(LEVEL, layer.level_db, accent=layer.role)
        self.pan = FieldWidget(PAN, round(layer.pan * 100), accent=layer.role)
        for field in (self.level, self.pan):
            field.settled.connect(session.end_drag)
            field.setMinimumWidth(70)
        self.level.edited.connect(lambda v: self._set("level", level_db=v))
        self.level.ride_wanted.connect(self._ride_level)
        self.pan.edited.connect(lambda v: self._set("pan", pan=v / 100))
        self.hear = QPushButton("hear")
        self.off = QPushButton("off")
        for one, act, tip in (
            (self.hear, self._toggle_hear, "Hear only this layer (and others so marked)"),
            (self.off, self._toggle_off, "Take this layer out of the sound"),
        ):
            one.setCheckable(True)
            one.setFixedSize(44, 22)
            one.setToolTip(tip)
            one.setAccessibleName(f"{layer.name}: {one.text()}")
            one.setStyleSheet("QPushButton { padding: 0px 2px; min-height: 12px; }")
            one.clicked.connect(act)
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
        buttons = QVBoxLayout()
        buttons.setSpacing(3)
        buttons.addWidget(self.hear)
        buttons.addWidget(self.off)
        grid.addLayout(buttons, 0, 2, 3, 1)
        line = QHBoxLayout()
        line.setSpacing(6)
        line.addWidget(self.level, 3)
        line.addWidget(self.pan, 2)
        grid.addLayout(line, 3, 0, 1, 3)
        grid.setColumnStretch(0, 3)
        grid.setColumnStretch(1, 2)

    def _set(self, what: str, **changes: float) -> None:
        self._session.apply(
            what,
            lambda loop: edits.set_layer(loop, self.layer_id, **changes),
            merge=f"{what} {self.layer_id}",
        )

    def _ride_level(self, on: bool) -> None:
        """Let the level ride over the loop, at first as it stands, or stand again."""
        session = self._session
        value = session.loop.layer(self.layer_id).level_db
        points = first_points(value, session.loop.ticks) if on else ()
        session.select(layer_id=self.layer_id)
        session.apply(
            "level rides" if on else "level stands",
            lambda loop: edits.set_level_ride(loop, self.layer_id, points),
        )

    def _toggle_hear(self, on: bool) -> None:
        self._session.apply("hear only", lambda loop: edits.set_layer(loop, self.layer_id, solo=on))

    def _toggle_off(self, on: bool) -> None:
        self._session.apply(
            "layer off" if on else "layer on",
            lambda loop: edits.set_layer(loop, self.layer_id, mute=on),
        )

    def show_layer(self, layer: Layer) -> None:
        """Refresh from the loop, if something of it is shown otherwise now."""
        loop, selection = self._session.loop, self._session.selection
        quiet = layer not in loop.heard()
        self.notes.show_layer(loop, layer, quiet=quiet)
        selected = selection.layer_id == self.layer_id
        group = loop.group(layer.group).name if layer.group else ""
        shown = (layer, selected, quiet, group, loop.ticks)
        if shown == self._shown:
            return
        self._shown = shown
        self.name.setText(f"{layer.name}  (parked)" if layer.parked else layer.name)
        self.hear.setEnabled(not layer.parked)
        self.off.setEnabled(not layer.parked)
        sounds = " / ".join(use.of.label for use in layer.sounds)
        self.sound.setText(f"{sounds} · in {group}" if group else sounds)
        text = layer.text
        self.lens.setText(text)
        self.lens.setToolTip(f"{text} of the chords" if layer.follows else text)
        self.level.set_value(layer.level_db)
        self.level.let_ride(small_ride(layer.level_ride, LEVEL, loop.ticks))
        self.pan.set_value(float(round(layer.pan * 100)))
        self.hear.setChecked(layer.solo)
        self.off.setChecked(layer.mute)
        self._role, self._quiet = layer.role, quiet
        set_look(self, "cardSelected" if selected else "card")
        state = "" if not quiet else ", not heard"
        self.setAccessibleName(f"Layer {layer.name}: {sounds}, {text}{state}")
        self.update()

    def eventFilter(self, _watched: QObject | None, event: QEvent | None) -> bool:
        if event is not None and event.type() == QEvent.Type.MouseButtonPress:
            self._session.select(layer_id=self.layer_id)
        return False

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        self._session.select(layer_id=self.layer_id)

    def focusInEvent(self, event: object) -> None:
        self._session.select(layer_id=self.layer_id)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        super().paintEvent(event)
        painter = QPainter(self)
        strip = QRectF(2, 2, 5, self.height() - 4)
        if not self._quiet:
            painter.fillRect(strip, color(self._role))
            return
        painter.setPen(color(self._role))  # an empty strip: this layer is not heard
        painter.drawRect(strip.adjusted(0.5, 0.5, -0.5, -0.5))
