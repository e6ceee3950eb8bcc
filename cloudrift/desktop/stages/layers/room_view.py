"""The room in the Layers stage: who is heard where, who is in whose way, and what helps."""

from collections.abc import Callable
from functools import partial

from PyQt6.QtWidgets import QPushButton, QWidget

from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.flow import Flow, flow
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.own_words import why
from cloudrift.desktop.kit.parts import (
    Elided,
    WhileShown,
    heading,
    label,
    panel,
    plain_tip,
    small_button,
)
from cloudrift.desktop.kit.trying import Trying
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.tasks import Tasks
from cloudrift.desktop.stages.layers.room_map import NAMES, RoomMap
from cloudrift.ground.settings import Field, hz_text
from cloudrift.ground.words import number
from cloudrift.loop.edits.layers import remedies
from cloudrift.loop.model.loop import Loop
from cloudrift.render.measure.room import Crowded, Room, gap, in_words, look_at

GAP_FIELDS = (
    Field(name="low", label="From", default=300, unit="Hz", low=80, high=2000, step=10, log=True),
    Field(
        name="high", label="To", default=3400, unit="Hz", low=500, high=12_000, step=10, log=True
    ),
    Field(name="level", label="At most", default=-6, unit="dB", low=-30, high=0, step=0.5),
)


class RoomView(QWidget):
    """The map, words on the worst crowding, remedies for it, and a check for what is to come."""

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__()
        self._session = session
        self._tasks = tasks
        self.room: Room | None = None
        self.map = RoomMap()
        self.map.cut_moved.connect(self._cut)
        self.map.cut_let_go.connect(session.end_drag)
        self.words = Elided(size=11.5, name="soft")
        self.helps: dict[str, QPushButton] = {}
        for name, remedy in remedies.REMEDIES.items():
            one = small_button(
                name, partial(self._help, name), tip=f"{remedy.about}; rest on it to hear it first"
            )
            Trying(one, session, partial(self._helped, name), f"{name.lower()}, preview")
            self.helps[name] = one
        self.for_voice = QPushButton("Gap for a voice")
        self.for_voice.setCheckable(True)
        self.for_voice.setToolTip("Shows how much of the loop lies in a voice's range")
        self.for_voice.setProperty("fit", "small")
        self.for_voice.toggled.connect(self._show_gap)
        self.gap_fields = {f.name: FieldWidget(f, f.default, accent="good") for f in GAP_FIELDS}
        self.gap_words = Elided(size=11.5, name="soft")
        self._lay_out()
        for field in self.gap_fields.values():
            field.edited.connect(lambda _value: self._show_gap())
        WhileShown(self, self._ask, session.hearing.sound_changed)
        WhileShown(self, self._follow, session.hearing.shown_changed, session.changed)
        session.selected.connect(self._follow)
        self._follow()

    def _lay_out(self) -> None:
        frame = panel()
        column = vertical(frame, (12, 8, 8, 6), 4)
        head = horizontal(spacing=6)
        fill(head, heading("Room"), why("room"), (self.words, 1), self.for_voice)
        column.addLayout(head)
        self._help_line = QWidget()
        line = Flow(self._help_line)
        self.whom = label("", size=11.5)
        for one in (self.whom, *self.helps.values()):
            line.addWidget(one)
        column.addWidget(self._help_line)
        self._gap_line = QWidget()
        rows = vertical(self._gap_line, FLUSH, 2)
        fill(rows, flow(*self.gap_fields.values(), even=True), self.gap_words)
        self._gap_line.hide()
        fill(column, self._gap_line, (self.map, 1))
        outer = vertical(self, FLUSH)
        outer.addWidget(frame)

    def _ask(self) -> None:
        if not self.isVisible():
            return
        loop, engine = self._session.hearing.heard_loop, self._session.engine

        def work(stop: Callable[[], bool], _moved: object) -> Room:
            return look_at(loop, engine, stop)

        self._tasks.run("room", work, self._take)

    def showEvent(self, _event: object) -> None:
        self._ask()
        self._follow()

    def _take(self, room: Room) -> None:
        self.room = room
        self.map.show_room(room)
        self._say()

    def _follow(self) -> None:
        self.map.show_loop(self._session.hearing.shown, self._session.selection.layer_id or "")
        self._say()

    def show_place(self, share: float) -> None:
        """Move the playhead."""
        self.map.show_place(share)

    # --- cuts ---------------------------------------------------------------------------------

    def _cut(self, name: str, hz: float) -> None:
        layer_id = self._session.selection.layer_id
        if layer_id:
            self._session.apply(
                NAMES[name],
                lambda loop: remedies.set_cut(loop, layer_id, name, hz),
                merge=f"{name} {layer_id}",
            )

    # --- crowding -----------------------------------------------------------------------------

    def _worst(self) -> Crowded | None:
        """The worst of the selected layer, else of all, among layers that are still there."""
        there = {layer.id for layer in self._session.loop.layers}
        found = [c for c in (self.room.crowded if self.room else ()) if set(c.layers) <= there]
        mine = [c for c in found if self._session.selection.layer_id in c.layers]
        return next(iter(mine or found), None)

    def _say(self) -> None:
        if self._session.hearing.previewing:
            return  # the words stay with what they are about while a remedy is tried
        worst = self._worst()
        self._help_line.setVisible(worst is not None and not self.for_voice.isChecked())
        if worst is None:
            known = self.room is not None and bool(self.room.levels)
            self.words.setText("no crowding" if known else "nothing plays yet")
            self.words.setToolTip("")
        else:
            loop = self._session.loop
            first, second = (loop.layer(x).name for x in worst.layers)
            moved = loop.layer(self._whom(worst)).name
            band = f"{hz_text(worst.low_hz)} to {hz_text(worst.high_hz)}"
            self.words.setText(f"{first} and {second} crowd {band}")
            self.whom.setText(f"{moved}:")
            self.words.setToolTip(plain_tip(in_words(worst, loop)))
        self._say_gap()

    def _whom(self, worst: Crowded) -> str:
        """Who is changed: the selected one of the two, else the second."""
        selected = self._session.selection.layer_id
        return selected if selected in worst.layers else worst.layers[1]

    def _helped(self, name: str, loop: Loop) -> Loop:
        worst = self._worst()
        if worst is None:
            return loop
        layer_id = self._whom(worst)
        other = next(x for x in worst.layers if x != layer_id)
        edit = remedies.REMEDIES[name].edit
        return edit(loop, layer_id, other, worst.low_hz, worst.high_hz)

    def _help(self, name: str) -> None:
        self._session.apply(f"room: {name.lower()}", partial(self._helped, name))

    # --- a gap for a voice ----------------------------------------------------------------------

    def _band(self) -> tuple[float, float]:
        low, high = (float(self.gap_fields[name].value) for name in ("low", "high"))
        return min(low, high), max(low, high)

    def _show_gap(self, _on: bool = True) -> None:
        on = self.for_voice.isChecked()
        self._gap_line.setVisible(on)
        self.map.show_gap(self._band() if on else None)
        self._say()

    def _say_gap(self) -> None:
        if not self.for_voice.isChecked() or self.room is None or not self.room.levels:
            self.gap_words.setText("there is room: nothing plays yet" if self.room else "")
            return
        found, wanted = gap(self.room, *self._band()), float(self.gap_fields["level"].value)
        loop = self._session.loop
        names = {layer.id: layer.name for layer in loop.layers}
        loudest = ", ".join(
            f"{names[x]} {number(db, '.0f')} dB" for x, db in found.layers[:2] if x in names
        )
        verdict = "there is room" if found.level_db <= wanted else "too full"
        self.gap_words.setText(
            f"{verdict}: {number(found.level_db, '.1f')} dB of the loop's loudness, wanted at most "
            f"{number(wanted, '.1f')} dB; most from {loudest}"
        )
        self.gap_words.setToolTip(plain_tip(self.gap_words.text()))
