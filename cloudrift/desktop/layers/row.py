"""One layer in the list: name, sound, lens, its notes in small, level, pan, hear and off."""

from PyQt6.QtCore import QEvent, QObject, QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from cloudrift.desktop.field import FieldWidget
from cloudrift.desktop.look import SEMI, color
from cloudrift.desktop.parts import label
from cloudrift.desktop.session import Session
from cloudrift.ground.settings import Field
from cloudrift.loop import edits, spec
from cloudrift.loop.model import Layer

LEVEL = Field(name="level_db", label="Level", default=0, unit="dB", low=spec.MIN_LEVEL_DB,
              high=spec.MAX_LEVEL_DB, step=0.5, off_low=True)  # fmt: skip
PAN = Field(name="pan", label="Pan", default=0, unit="%", low=-100, high=100, step=1)


class MiniNotes(QWidget):
    """The notes of a layer over the loop, small; time runs to the right, pitch up."""

    def __init__(self) -> None:
        super().__init__()
        self._marks: list[tuple[float, float, float]] = []
        self._role = "keys"
        self._quiet = False
        self.setMinimumWidth(120)
        self.setAccessibleName("Notes over the loop")

    def sizeHint(self) -> QSize:
        return QSize(260, 44)

    def show_layer(self, session: Session, layer: Layer) -> None:
        """Show a layer's notes."""
        loop = session.loop
        notes = loop.notes_of(layer)
        low = min((n.pitch for n in notes), default=60)
        span = max(max((n.pitch for n in notes), default=60) - low, 7)
        marks = [
            (n.start_tick / loop.ticks, n.length_ticks / loop.ticks, (n.pitch - low) / span)
            for n in notes
        ]
        quiet = layer not in loop.heard()
        if (marks, layer.role, quiet) != (self._marks, self._role, self._quiet):
            self._marks, self._role, self._quiet = marks, layer.role, quiet
            self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        width, height = self.width() - 4, self.height() - 8
        painter.setPen(color("hair"))
        painter.drawLine(QPointF(2, self.height() - 1), QPointF(width + 2, self.height() - 1))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(color("ink_soft", 0.4) if self._quiet else color(self._role))
        for start, length, place in self._marks:
            y = 2 + (1 - place) * (height - 3)
            painter.drawRoundedRect(
                QRectF(2 + start * width, y, max(2.0, length * width - 1.5), 3), 1, 1
            )


class LayerRow(QFrame):
    """A card for one layer."""

    def __init__(self, session: Session, layer: Layer) -> None:
        super().__init__()
        self._session = session
        self.layer_id = layer.id
        self._role = layer.role
        self.setFixedHeight(74)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.name = label(layer.name, size=13.5, weight=SEMI)
        self.sound = label("", size=12)
        self.lens = label("", size=11.5, name="soft")
        self.notes = MiniNotes()
        self.level = FieldWidget(LEVEL, layer.level_db, accent=layer.role, stacked=True)
        self.pan = FieldWidget(PAN, round(layer.pan * 100), accent=layer.role, stacked=True)
        for field in (self.level, self.pan):
            field.setFixedWidth(92)
            field.settled.connect(session.end_drag)
        self.level.edited.connect(lambda v: self._set("level", level_db=v))
        self.pan.edited.connect(lambda v: self._set("pan", pan=v / 100))
        self.hear = QPushButton("hear only")
        self.off = QPushButton("off")
        for one, act, tip in (
            (self.hear, self._toggle_hear, "Hear only this layer (and others so marked)"),
            (self.off, self._toggle_off, "Take this layer out of the sound"),
        ):
            one.setCheckable(True)
            one.setFixedSize(78, 26)
            one.setToolTip(tip)
            one.setAccessibleName(f"{layer.name}: {one.text()}")
            one.setStyleSheet("QPushButton { padding: 1px 4px; min-height: 14px; }")
            one.clicked.connect(act)
        self._lay_out()
        for child in (self.name, self.sound, self.lens, self.notes):
            child.installEventFilter(self)

    def _lay_out(self) -> None:
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 6, 10, 6)
        row.setSpacing(10)
        words = QVBoxLayout()
        words.setSpacing(1)
        for one in (self.name, self.sound, self.lens):
            words.addWidget(one)
        holder = QWidget()
        holder.setLayout(words)
        words.setContentsMargins(0, 0, 0, 0)
        holder.setFixedWidth(198)
        row.addWidget(holder)
        row.addWidget(self.notes, 1)
        row.addWidget(self.level)
        row.addWidget(self.pan)
        buttons = QVBoxLayout()
        buttons.setSpacing(4)
        buttons.addWidget(self.hear)
        buttons.addWidget(self.off)
        row.addLayout(buttons)

    def _set(self, what: str, **changes: float) -> None:
        self._session.apply(
            what,
            lambda loop: edits.set_layer(loop, self.layer_id, **changes),
            merge=f"{what} {self.layer_id}",
        )

    def _toggle_hear(self, on: bool) -> None:
        self._session.apply("hear only", lambda loop: edits.set_layer(loop, self.layer_id, solo=on))

    def _toggle_off(self, on: bool) -> None:
        self._session.apply(
            "layer off" if on else "layer on",
            lambda loop: edits.set_layer(loop, self.layer_id, mute=on),
        )

    def show_layer(self, layer: Layer) -> None:
        """Refresh from the loop."""
        self.name.setText(f"{layer.name}  (parked)" if layer.parked else layer.name)
        self.hear.setEnabled(not layer.parked)
        self.off.setEnabled(not layer.parked)
        self.sound.setText(layer.sound.of.label)
        self.lens.setText(layer.lens.text)
        self.lens.setToolTip(f"{layer.lens.text} of the chords")
        self.notes.show_layer(self._session, layer)
        self.level.set_value(layer.level_db)
        self.pan.set_value(float(round(layer.pan * 100)))
        self.hear.setChecked(layer.solo)
        self.off.setChecked(layer.mute)
        self._role = layer.role
        selected = self._session.selection.layer_id == self.layer_id
        name = "cardSelected" if selected else "card"
        if name != self.objectName():
            self.setObjectName(name)
            style = self.style()
            assert style is not None
            style.unpolish(self)
            style.polish(self)
        self.setAccessibleName(f"Layer {layer.name}: {layer.sound.of.label}, {layer.lens.text}")
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
        painter.fillRect(QRectF(2, 2, 5, self.height() - 4), color(self._role))
