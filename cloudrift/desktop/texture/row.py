"""One row of the descent: what the treatment is, its fields, what it does now, its strip."""

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from cloudrift.desktop.field import FieldWidget
from cloudrift.desktop.look import SEMI, color
from cloudrift.desktop.parts import label
from cloudrift.desktop.session import Session
from cloudrift.desktop.texture.strip import Strip
from cloudrift.ground.draws import MAX_DRAW
from cloudrift.ground.settings import Field, Value
from cloudrift.loop import edits
from cloudrift.texture import Treatment

BLEND = Field(name="blend", label="Blend", default=100, unit="%", low=0, high=100)
DRAW = Field(name="draw", label="Draw", default=1, unit="№", low=0, high=MAX_DRAW)
FIELDS_A_LINE, FIELD_WIDTH, WORDS_WIDTH = 3, 94, 136
FIRST = 2  # settings shown while the row is not selected, besides the blend


class _Row(QFrame):
    """What the bare row and the treatment rows share: words at the left, a strip at the right."""

    def __init__(self, role: str, title: str, under: str) -> None:
        super().__init__()
        self.setObjectName("card")
        self.title = label(title, size=14.5, weight=SEMI)
        self.under = label(under, size=11, name="soft")
        self.strip = Strip(role, title)
        self.words = QVBoxLayout()
        self.words.setSpacing(2)
        self.words.addWidget(self.title)
        self.words.addWidget(self.under)
        holder = QWidget()
        holder.setFixedWidth(WORDS_WIDTH)
        holder.setLayout(self.words)
        self.words.setContentsMargins(0, 0, 0, 0)
        self.middle = QVBoxLayout()
        self.middle.setSpacing(4)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 8, 8, 8)
        row.setSpacing(8)
        row.addWidget(holder)
        row.addLayout(self.middle)
        row.addWidget(self.strip, 1)


class BareRow(_Row):
    """The top of the descent."""

    def __init__(self, role: str, words: str) -> None:
        super().__init__(role, "Bare", "before any treatment")
        self.setMinimumHeight(92)
        self.words.addStretch(1)
        about = label(words, size=11.5, name="soft")
        about.setWordWrap(True)
        about.setFixedWidth(FIELDS_A_LINE * (FIELD_WIDTH + 4))
        self.middle.addWidget(about)
        self.middle.addStretch(1)


class TreatmentRow(_Row):
    """A treatment. ``chosen`` is emitted when it is to be selected."""

    chosen = pyqtSignal()

    def __init__(
        self, session: Session, line_of: str | None, treatment: Treatment, role: str, *, open_: bool
    ) -> None:
        super().__init__(role, treatment.of.label, treatment.of.family)
        self._session, self._line_of, self._role = session, line_of, role
        self.treatment_id = treatment.id
        self._on = treatment.on
        self.fields: dict[str, FieldWidget] = {}
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        if open_:
            self.setObjectName("cardSelected")
        self.switch = QPushButton()
        self.switch.setCheckable(True)
        self.switch.setFixedSize(48, 25)
        self.switch.setStyleSheet("QPushButton { padding: 0 4px; min-height: 12px; }")
        self.switch.clicked.connect(self._switch)
        total = len(treatment.of.spec.fields) + 1 + treatment.of.draws
        self.more = QPushButton("close" if open_ else f"all {total} ›")
        self.more.setObjectName("link")
        self.more.clicked.connect(self._open)
        line = QHBoxLayout()
        line.setSpacing(4)
        line.addWidget(self.switch)
        line.addWidget(self.more)
        line.addStretch(1)
        self.words.addLayout(line)
        if open_:
            self._add_hands()
        self.words.addStretch(1)
        self._add_fields(treatment, open_)
        self.says = label("", size=11.5, name="soft")
        self.says.setWordWrap(True)
        self.says.setFixedWidth(FIELDS_A_LINE * (FIELD_WIDTH + 4))
        self.middle.addWidget(self.says)
        self.middle.addStretch(1)
        self.show_treatment(treatment)

    def _add_hands(self) -> None:
        line = QHBoxLayout()
        line.setSpacing(2)
        for text, by, tip in (("up", -1, "Move up (Alt+↑)"), ("down", 1, "Move down (Alt+↓)")):
            one = QPushButton(text)
            one.setObjectName("link")
            one.setToolTip(tip)
            one.clicked.connect(lambda _c, step=by: self.move_by(step))
            line.addWidget(one)
        remove = QPushButton("remove")
        remove.setObjectName("link")
        remove.setToolTip("Take it out of the line (Delete)")
        remove.clicked.connect(self.remove)
        line.addWidget(remove)
        line.addStretch(1)
        self.words.addLayout(line)

    def _add_fields(self, treatment: Treatment, open_: bool) -> None:
        specs = list(treatment.of.spec)
        drawn = [DRAW] if treatment.of.draws else []
        shown = [*specs, BLEND, *drawn] if open_ else [*specs[:FIRST], BLEND]
        values = field_values(treatment)
        grid = QGridLayout()
        grid.setSpacing(4)
        for i, field in enumerate(shown):
            widget = FieldWidget(field, values[field.name], accent=self._role, stacked=True)
            widget.setFixedWidth(FIELD_WIDTH)
            widget.edited.connect(lambda value, name=field.name: self._edit(name, value))
            widget.settled.connect(self._session.end_drag)
            self.fields[field.name] = widget
            grid.addWidget(widget, i // FIELDS_A_LINE, i % FIELDS_A_LINE)
        if len(shown) < FIELDS_A_LINE:
            grid.setColumnStretch(FIELDS_A_LINE, 1)
        self.middle.addLayout(grid)

    def show_treatment(self, treatment: Treatment) -> None:
        """Refresh values and words."""
        self._on = treatment.on
        for name, value in field_values(treatment).items():
            if name in self.fields:
                self.fields[name].set_value(value)
        self.switch.setChecked(treatment.on)
        self.switch.setText("in" if treatment.on else "out")
        self.switch.setToolTip("Take it out of the sound" if treatment.on else "Put it in again")
        self.switch.setAccessibleName(f"{treatment.of.label} is {'in' if treatment.on else 'out'}")
        self.says.setText(treatment.says)
        self.title.setEnabled(treatment.on)
        self.update()

    # --- edits --------------------------------------------------------------------------------

    def _edit(self, name: str, value: Value) -> None:
        line_of, treatment_id = self._line_of, self.treatment_id
        merge = f"{line_of} {treatment_id} {name}"
        if name == "blend":
            assert not isinstance(value, str)
            share = value / 100
            self._session.apply(
                "blend",
                lambda loop: edits.set_treatment(loop, line_of, treatment_id, blend=share),
                merge=merge,
            )
        elif name == "draw":
            assert not isinstance(value, str)
            draw = int(value)
            self._session.apply(
                "another draw",
                lambda loop: edits.set_treatment(loop, line_of, treatment_id, draw=draw),
                merge=merge,
            )
        else:
            self._session.apply(
                name.replace("_", " "),
                lambda loop: edits.set_treatment_setting(loop, line_of, treatment_id, name, value),
                merge=merge,
            )

    def _switch(self, on: bool) -> None:
        self._session.apply(
            "treatment in" if on else "treatment out",
            lambda loop: edits.set_treatment(loop, self._line_of, self.treatment_id, on=on),
        )

    def move_by(self, by: int) -> None:
        """Move it in its line."""
        self._session.apply(
            "move a treatment",
            lambda loop: edits.move_treatment(loop, self._line_of, self.treatment_id, by),
        )

    def remove(self) -> None:
        """Take it out of its line."""
        self._session.apply(
            "remove a treatment",
            lambda loop: edits.remove_treatment(loop, self._line_of, self.treatment_id),
        )

    def _open(self) -> None:
        opened = self._session.selection.treatment_id == self.treatment_id
        self._session.select(treatment_id="" if opened else self.treatment_id)

    # --- hands --------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if self._session.selection.treatment_id != self.treatment_id:
            self._open()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        key, alt = event.key(), bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        if alt and key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.move_by(-1 if key == Qt.Key.Key_Up else 1)
        elif key == Qt.Key.Key_Delete:
            self.remove()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._open()
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        self.update()

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        super().paintEvent(event)
        painter = QPainter(self)
        painter.fillRect(QRectF(2, 2, 4, self.height() - 4),
                         color(self._role if self._on else "line"))  # fmt: skip
        if self.hasFocus():
            painter.setPen(color("focus"))
            for inset in (1, 2):
                painter.drawRect(self.rect().adjusted(inset, inset, -inset - 1, -inset - 1))


class Link(QWidget):
    """The short line from one row to the next: the sound runs down here."""

    def __init__(self, role: str) -> None:
        super().__init__()
        self._role = role
        self.setFixedHeight(7)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(color(self._role, 0.8))
        painter.drawRect(QRectF(QPointF(24, 0), QPointF(28, 7)))


def field_values(treatment: Treatment) -> dict[str, Value]:
    """Return what the fields of a treatment show."""
    return {
        **treatment.full,
        "blend": float(round(treatment.blend * 100)),
        "draw": float(treatment.draw),
    }
