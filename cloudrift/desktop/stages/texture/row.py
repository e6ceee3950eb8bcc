"""One row of the descent: what the treatment is, its fields, what it does now, its strip."""

from collections.abc import Callable

from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QKeyEvent, QKeySequence, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QGridLayout, QPushButton

from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.held import held
from cloudrift.desktop.kit.layouts import fill, horizontal
from cloudrift.desktop.kit.look import SEMI, color
from cloudrift.desktop.kit.parts import button, label, set_look
from cloudrift.desktop.kit.ride_lane import RideLane, first_points, small_ride
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.stages.texture.bare_row import (
    FIELD_WIDTH,
    FIELDS_A_LINE,
    MIDDLE_WIDTH,
    LineRow,
)
from cloudrift.desktop.stages.texture.note_line import NoteLine
from cloudrift.desktop.stages.texture.passing import copy_line
from cloudrift.desktop.stages.texture.portrait_view import PortraitView
from cloudrift.desktop.stages.texture.slot_lane import SlotLane
from cloudrift.ground.draws import MAX_VARIATION
from cloudrift.ground.settings import Field, Value
from cloudrift.loop.edits.layers import line_edits
from cloudrift.loop.model.loop import LineAt
from cloudrift.render.measure.step_facts import StepFacts, added, heed
from cloudrift.texture import RidePoint, Treatment
from cloudrift.texture.kinds.slots import SLOT_NAMES
from cloudrift.texture.ride import BLEND

VARIATION = Field(
    name="variation", label="Variation", default=1, unit="№", low=0, high=MAX_VARIATION
)
FIRST = 2  # settings shown while the row is not selected, besides the blend
OPEN_STRIP = 84  # px
DRAG_FROM = 10  # px: a shorter move is a press


class TreatmentRow(LineRow):
    """A treatment. ``dropped`` carries how far down the window it was let go, in pixels."""

    dropped = pyqtSignal(float)
    swap_wanted = pyqtSignal()

    def __init__(
        self, session: Session, line_of: LineAt, treatment: Treatment, role: str, *, open_: bool
    ) -> None:
        super().__init__(role, treatment.of.label, treatment.of.family)
        self._session, self._line_of, self._role = session, line_of, role
        self.treatment_id = treatment.id
        self._on = treatment.on
        self._pressed_y: float | None = None
        self.fields: dict[str, FieldWidget] = {}
        self.lanes: dict[str, RideLane] = {}
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        if open_:
            self.setObjectName("cardSelected")
        self._add_switch(treatment, open_)
        if open_:
            self._add_hands()
        self.words.addStretch(1)
        self.slots: SlotLane | None = None
        self._add_fields(treatment, open_)
        self.says = self.add_words()
        self.added = self.add_words(size=11)
        self.heed = self.add_words("", 11)
        self.heed.hide()
        self.note = NoteLine(treatment.note, edited=self._write_note, open_=open_)
        self.note.setFixedWidth(MIDDLE_WIDTH)
        fill(self.middle, self.note, 1)
        self.portrait: PortraitView | None = None
        if open_:
            self.strip.setFixedHeight(OPEN_STRIP)
            self.portrait = PortraitView(role)
            fill(self.right, self.portrait, 1)
        self.show_treatment(treatment)

    def _add_switch(self, treatment: Treatment, open_: bool) -> None:
        self.switch = QPushButton()
        self.switch.setCheckable(True)
        self.switch.setFixedSize(66, 26)
        self.switch.setProperty("fit", "narrow")
        self.switch.clicked.connect(self._switch)
        total = len(treatment.of.spec.fields) + 1 + treatment.of.draws
        self.more = QPushButton("close" if open_ else f"all {total} ›")
        self.more.setObjectName("link")
        self.more.clicked.connect(self._open)
        line = horizontal(spacing=4)
        fill(line, self.switch, self.more, 1)
        self.words.addLayout(line)

    def _add_hands(self) -> None:
        """What can be done with the whole card."""
        self.hands: dict[str, QPushButton] = {}
        grid = QGridLayout()
        grid.setSpacing(0)
        grid.setContentsMargins(0, 4, 0, 0)
        acts: tuple[tuple[str, Callable[[], object], str], ...] = (
            ("up", lambda: self.move_by(-1), "Move up (Alt+↑, or drag it)"),
            ("down", lambda: self.move_by(1), "Move down (Alt+↓, or drag it)"),
            ("copy", self.copy, "Copy the treatment as text (Ctrl+C)"),
            (
                "swap",
                self.swap_wanted.emit,
                "Swap with the next treatment; B then compares both orders",
            ),
            ("note", self._begin_note, "Add a note"),
            ("remove", self.remove, "Remove it (Delete)"),
        )
        for i, (text, act, tip) in enumerate(acts):
            one = button(text, act, name="link", tip=tip)
            self.hands[text] = one
            grid.addWidget(one, i // 2, i % 2, Qt.AlignmentFlag.AlignLeft)
        self.words.addLayout(grid)

    def _add_fields(self, treatment: Treatment, open_: bool) -> None:
        specs = list(treatment.of.spec)
        drawn = [VARIATION] if treatment.of.draws else []
        first = [field for field in specs if not field.part]
        parts = [field for field in specs if field.part]
        shown = [*first, BLEND, *drawn, *parts] if open_ else [*specs[:FIRST], BLEND]
        values = field_values(treatment)
        grid = QGridLayout()
        grid.setSpacing(4)
        line, column, part = 0, 0, ""
        in_lane = [field for field in shown if field.name in SLOT_NAMES] if open_ else []
        for field in shown:
            if field in in_lane:
                continue
            if open_ and field.part != part:  # a heading over each part of a large card
                line, column, part = line + (column > 0), 0, field.part
                if part:
                    grid.addWidget(label(part, size=11, weight=SEMI, name="soft"), line, 0, 1, 3)
                    line += 1
            widget = FieldWidget(field, values[field.name], accent=self._role, stacked=True)
            widget.setFixedWidth(FIELD_WIDTH)
            widget.edited.connect(lambda value, name=field.name: self._edit(name, value))
            widget.settled.connect(self._session.end_drag)
            widget.ride_wanted.connect(lambda on, name=field.name: self._ride(name, on))
            self.fields[field.name] = widget
            grid.addWidget(widget, line, column)
            line, column = (line, column + 1) if column + 1 < FIELDS_A_LINE else (line + 1, 0)
        if len(shown) - len(in_lane) < FIELDS_A_LINE:
            grid.setColumnStretch(FIELDS_A_LINE, 1)
        self.middle.addLayout(grid)
        if in_lane:
            self.slots = SlotLane(in_lane, self._role, MIDDLE_WIDTH)
            self.slots.edited.connect(self._edit)
            self.slots.settled.connect(self._session.end_drag)
            self.middle.addWidget(self.slots)

    # --- showing ------------------------------------------------------------------------------

    def show_treatment(self, treatment: Treatment) -> None:
        """Refresh values and words."""
        self._on = treatment.on
        values = field_values(treatment)
        for name, widget in self.fields.items():
            widget.set_value(values[name])
            if name != VARIATION.name:
                ride, ticks = treatment.ride_of(name), self._session.loop.ticks
                widget.let_ride(small_ride(ride, widget.spec, ticks))
        if self.slots is not None:
            self.slots.show_values(values)
        self.switch.setChecked(treatment.on)
        self.switch.setText("on" if treatment.on else "bypassed")
        self.switch.setToolTip("Bypass it" if treatment.on else "Switch it on")
        self.switch.setAccessibleName(
            f"{treatment.of.label} is {'on' if treatment.on else 'bypassed'}"
        )
        self.says.setText(treatment.says)
        set_look(self.says, "soft" if treatment.known else "")
        self.title.setEnabled(treatment.on)
        self.note.show_note(treatment.note)
        if self.portrait is not None:
            self._show_lanes(treatment)
        self.update()

    def _show_lanes(self, treatment: Treatment) -> None:
        """A lane for each value that rides, under the strip, over the same time."""
        loop = self._session.loop
        riding = {ride.of: ride for ride in treatment.rides}
        for name in [n for n in self.lanes if n not in riding]:
            lane = self.lanes.pop(name)
            self.right.removeWidget(lane)
            lane.hide()
            lane.deleteLater()
        for name, ride in riding.items():
            if name not in self.lanes:
                lane = RideLane(treatment.field(name), self._role, loop.ticks, loop.metre)
                lane.curve.edited.connect(lambda points, n=name: self._draw_ride(n, points))
                lane.curve.settled.connect(self._session.end_drag)
                lane.every_chosen.connect(lambda every, n=name: self._ride_again(n, every))
                self.lanes[name] = lane
                self.right.insertWidget(len(self.lanes), lane)
            self.lanes[name].show_ride(ride, loop.ticks)

    def show_facts(self, treatment: Treatment, before: StepFacts, after: StepFacts) -> None:
        """Show the picture after it, what it has added, and what to heed."""
        self.strip.show_picture(after.picture)
        loop = self._session.loop
        self.added.setText(added(before, after, treatment, loop.tempo) if treatment.acts else "")
        warnings = heed(loop, self._line_of, treatment, before, after)
        self.heed.setText("\n".join(f"! {words}" for words in warnings))
        self.heed.setVisible(bool(warnings))

    def show_place(self, share: float) -> None:
        """Move the playhead on strip and lanes."""
        self.strip.show_place(share)
        for lane in self.lanes.values():
            lane.curve.show_place(share)

    # --- edits --------------------------------------------------------------------------------

    def _edit(self, name: str, value: Value) -> None:
        line_of, treatment_id = self._line_of, self.treatment_id
        merge = f"{line_of} {treatment_id} {name}"
        if name in (BLEND.name, VARIATION.name):
            assert not isinstance(value, str)
            blend = name == BLEND.name
            change = {"blend": value / 100} if blend else {"variation": int(value)}
            self._session.apply(
                "blend" if blend else "another variation",
                lambda loop: line_edits.set_treatment(loop, line_of, treatment_id, **change),
                merge=merge,
            )
        else:
            self._session.apply(
                self._label(name),
                lambda loop: line_edits.set_treatment_setting(
                    loop, line_of, treatment_id, name, value
                ),
                merge=merge,
            )

    def _ride(self, name: str, on: bool) -> None:
        """Let a value ride, at first as it stands, or let it stand again."""
        session = self._session
        treatment = next(
            t for t in session.loop.line_of(self._line_of) if t.id == self.treatment_id
        )
        value = float(field_values(treatment)[name])
        self._draw_ride(name, first_points(value, session.loop.ticks) if on else ())
        session.end_drag()
        if on and session.selection.treatment_id != self.treatment_id:
            session.select(treatment_id=self.treatment_id)  # its lane is in the open card

    def _draw_ride(self, name: str, points: tuple[RidePoint, ...]) -> None:
        """Let a value ride through points, as often as it does; with none it stands."""
        line_of, treatment_id = self._line_of, self.treatment_id
        line = {t.id: t for t in self._session.loop.line_of(line_of)}
        before = line[treatment_id].ride_of(name)
        every = before.every_ticks if before else 0
        self._session.apply(
            f"ride of {self._label(name)}" if points else f"{self._label(name)} without a ride",
            lambda loop: line_edits.set_ride(loop, line_of, treatment_id, name, points, every),
            merge=f"ride {line_of} {treatment_id} {name}",
            moving=True,
        )

    def _ride_again(self, name: str, every: int) -> None:
        """Let a ride come again so often, its way as it is."""
        line_of, treatment_id = self._line_of, self.treatment_id
        self._session.apply(
            f"how often {self._label(name)} rides",
            lambda loop: line_edits.ride_again(loop, line_of, treatment_id, name, every),
        )

    def _label(self, name: str) -> str:
        """What a value is called on the card, for the history."""
        treatment = next(
            t for t in self._session.loop.line_of(self._line_of) if t.id == self.treatment_id
        )
        return treatment.field(name).label.lower()

    def _switch(self, on: bool) -> None:
        self._session.apply(
            "treatment on" if on else "bypass a treatment",
            lambda loop: line_edits.set_treatment(loop, self._line_of, self.treatment_id, on=on),
        )

    def _begin_note(self) -> None:
        self.note.begin()

    def _write_note(self, text: str) -> None:
        self._session.apply(
            "a note",
            lambda loop: line_edits.set_treatment(
                loop, self._line_of, self.treatment_id, note=text
            ),
        )

    def copy(self) -> None:
        """Put the card on the clipboard, as the text of a line file."""
        line = self._session.loop.line_of(self._line_of)
        copy_line(tuple(t for t in line if t.id == self.treatment_id))

    def move_by(self, by: int) -> None:
        """Move it in its line."""
        if by:
            self._session.apply(
                "move a treatment",
                lambda loop: line_edits.move_treatment(loop, self._line_of, self.treatment_id, by),
            )

    def remove(self) -> None:
        """Take it out of its line."""
        self._session.apply(
            "remove a treatment",
            lambda loop: line_edits.remove_treatment(loop, self._line_of, self.treatment_id),
        )

    def _open(self) -> None:
        opened = self._session.selection.treatment_id == self.treatment_id
        self._session.select(treatment_id="" if opened else self.treatment_id)

    # --- hands --------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self.setFocus()
        self._pressed_y = event.position().y()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self._pressed_y is not None and abs(event.position().y() - self._pressed_y) > DRAG_FROM:
            self.setCursor(Qt.CursorShape.ClosedHandCursor)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        pressed, self._pressed_y = self._pressed_y, None
        self.unsetCursor()
        if pressed is None:
            return
        if abs(event.position().y() - pressed) > DRAG_FROM:
            self.dropped.emit(self.mapToParent(event.position()).y())
        elif self._session.selection.treatment_id != self.treatment_id:
            self._open()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        key, alt = event.key(), held(event).alt
        if alt and key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.move_by(-1 if key == Qt.Key.Key_Up else 1)
        elif event.matches(QKeySequence.StandardKey.Copy):
            self.copy()
        elif event.matches(QKeySequence.StandardKey.Cut):
            self.copy()
            self.remove()
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
        painter.fillRect(
            QRectF(2, 2, 4, self.height() - 4), color(self._role if self._on else "line")
        )
        if self.hasFocus():
            painter.setPen(color("focus"))
            for inset in (1, 2):
                painter.drawRect(self.rect().adjusted(inset, inset, -inset - 1, -inset - 1))


def field_values(treatment: Treatment) -> dict[str, Value]:
    """Return what the fields of a treatment show."""
    return {
        **treatment.full,
        "blend": float(round(treatment.blend * 100)),
        "variation": float(treatment.variation),
    }
