"""The page of the demo file: an order drawn or made by hand, seen as strata, heard at once."""

from collections.abc import Callable

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray
from PyQt6.QtCore import QEvent, QTimer, pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QLineEdit, QWidget

from cloudrift.deliver.demo_sound import lengths_of
from cloudrift.desktop.kit.choice_box import ChoiceBox
from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.flow import flow
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.look import SEMI
from cloudrift.desktop.kit.parts import (
    Inspector,
    WhileShown,
    button,
    clear,
    heading,
    label,
    panel,
    progress_bar,
)
from cloudrift.desktop.kit.rows import row
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.demo_heard import DemoHeard
from cloudrift.desktop.session.work.tasks import Tasks
from cloudrift.desktop.stages.deliver.demo_picture import DemoPicture, columns_of
from cloudrift.ground.draws import MAX_VARIATION
from cloudrift.ground.settings import Field
from cloudrift.ground.words import NAME_TYPED
from cloudrift.loop.model import demo_file as demos
from cloudrift.loop.model.demo_file import DemoFile, DemoPart, fitted, heard_in, suggest_demo
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.loop import Loop
from cloudrift.render.engine.engine import Engine
from cloudrift.render.measure.strata import strata

VARIATION = Field(
    name="variation", label="Variation", default=1, unit="№", low=1, high=MAX_VARIATION
)
TURNS = Field(name="turns", label="Passes", default=1, unit="passes", low=1, high=demos.MOST_TURNS)
CROSS = Field(
    name="cross_s",
    label="Crossfade",
    default=demos.CROSS_S,
    unit="s",
    low=demos.CROSS_LOW_S,
    high=demos.CROSS_HIGH_S,
    step=0.01,
)
TAG_DB = Field(
    name="tag_db",
    label="Tag",
    default=demos.TAG_DB,
    unit="dB",
    low=demos.TAG_LOW_DB,
    high=demos.TAG_HIGH_DB,
    step=0.5,
)
EVERY = Field(
    name="tag_every", label="Every", default=4, unit="parts", low=1, high=demos.MOST_PARTS
)
NO_TAG = "No tag"
TAGS = ("swell", "tower bell", "glass bell", "sub drop", "crash")
FRAME_MS = 40


class DemoPage(QWidget):
    """The picture above, what is chosen of it at the right, what holds for all below.

    ``files_wanted`` when it is to be written.
    """

    files_wanted = pyqtSignal()

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__()
        self._session, self._tasks = session, tasks
        self.heard = DemoHeard(session, tasks)
        self._curves: dict[str, NDArray[np.float32]] = {}
        self.picture = DemoPicture()
        self.variation = FieldWidget(VARIATION, 1.0)
        self.order = button(
            "Suggest an order",
            self._suggest,
            tip="Everything first, then a breakdown, then each layer alone",
        )
        self.cross = FieldWidget(CROSS, demos.CROSS_S)
        self.tag = ChoiceBox("Tag")
        self.tag_db, self.tag_every = FieldWidget(TAG_DB, demos.TAG_DB), FieldWidget(EVERY, 4.0)
        self.hear = button("Play it", self._hear_or_leave, name="strong")
        self.write = button(
            "To the files…", self.files_wanted.emit, tip="Select the demo file for export"
        )
        self.bar = progress_bar()
        self.name = QLineEdit()
        self.name.setMaxLength(NAME_TYPED)
        self.name.setAccessibleName("Name of the part")
        self.turns = FieldWidget(TURNS, 1.0)
        self.layers: dict[str, QCheckBox] = {}
        self._layers = vertical()
        self.earlier = button("Earlier", lambda: self._move(-1))
        self.later = button("Later", lambda: self._move(1))
        self.add = button("Add a part", self._add)
        self.remove = button("Remove", self._remove)
        self._chosen, self.inspector = QWidget(), Inspector()
        self._lay_out()
        self._connect()
        self._clock = QTimer(self)
        self._clock.setInterval(FRAME_MS)
        self._clock.timeout.connect(lambda: self.picture.show_place(self.heard.share))
        self._show()

    def _lay_out(self) -> None:
        main = panel()
        column = vertical(main, (14, 12, 14, 12))
        head = horizontal()
        fill(head, label("Demo file", size=14, weight=SEMI), 1)
        for widget in (self.hear, self.write):
            head.addWidget(widget)
        fill(column, head, self.bar, (self.picture, 1))
        below = flow(self.variation, self.order, self.cross, self.tag, self.tag_db, self.tag_every,
                     spacing=6)  # fmt: skip
        column.addWidget(below)
        inside = vertical(self._chosen, FLUSH, 5)
        fill(
            inside,
            heading("Name of the part"),
            self.name,
            heading("Length"),
            self.turns,
            heading("Layers that play"),
            self._layers,
        )
        inside.addWidget(row((self.earlier, self.later, self.remove)))
        fill(self.inspector.body, self._chosen, 1)
        self.inspector.foot.addWidget(self.add)
        outer = vertical(self, FLUSH)
        outer.addWidget(main)

    def _connect(self) -> None:
        session = self._session
        self.picture.chosen.connect(lambda _at: self._show_part())
        self.picture.wanted.connect(self.heard.hear)
        self.heard.changed.connect(self._show_heard)
        self.heard.moved.connect(lambda share, _what: self.bar.setValue(round(1000 * share)))
        self.variation.edited.connect(lambda value: self._take_variation(int(float(value))))
        self.name.editingFinished.connect(self._rename)
        self.turns.edited.connect(
            lambda value: self._set_part("turns", int(float(value)), "length")
        )
        for field, widget in (("cross_s", self.cross), ("tag_db", self.tag_db)):
            widget.edited.connect(lambda value, field=field: self._set(field, float(value)))
        self.tag_every.edited.connect(lambda value: self._set("tag_every", int(float(value))))
        self.tag.activated.connect(lambda _at: self._set("tag", self.tag.currentData()))
        WhileShown(self, self._show, session.changed, session.opened)
        WhileShown(self, self._measure, session.hearing.sound_changed)

    # --- changing -----------------------------------------------------------------------------

    @property
    def demo(self) -> DemoFile:
        """The demo file as it is now, without what is gone."""
        now = self._session.document.history.now
        return fitted(now.demo, now.loop)

    def change(
        self, words: str, edit: Callable[[DemoFile, Loop], DemoFile], merge: str = ""
    ) -> None:
        """Change the demo file, one step to undo."""

        def on_document(document: Document) -> Document:
            made = edit(fitted(document.demo, document.loop), document.loop)
            return document if made == document.demo else replace(document, demo=made)

        self._session.document.change(words, on_document, merge=merge)
        self._show()

    def _suggest(self) -> None:
        """Draw an order, or another one where there is one."""
        demo = self.demo
        self._take_variation(
            demo.variation % MAX_VARIATION + 1 if demo.parts else int(float(self.variation.value))
        )

    def _take_variation(self, variation: int) -> None:
        def edit(before: DemoFile, loop: Loop) -> DemoFile:
            made = suggest_demo(loop, variation)
            return replace(before, parts=made.parts, variation=variation)

        self.change(f"order of the demo file, variation {variation}", edit)

    def _set(self, field: str, value: object) -> None:
        words = {
            "cross_s": "crossfade",
            "tag_db": "level of the tag",
            "tag_every": "how often the tag plays",
        }
        self.change(
            words.get(field, field),
            lambda demo, _loop: replace(demo, **{field: value}),
            f"demo {field}",
        )

    @property
    def part(self) -> DemoPart | None:
        """The part that is chosen."""
        parts = self.demo.parts
        return parts[self.picture.at] if self.picture.at < len(parts) else None

    def _set_part(self, field: str, value: object, words: str) -> None:
        part = self.part
        if part is not None:
            self.change(
                f"{words} of {part.name}",
                lambda demo, _loop: demos.set_part(demo, part.id, **{field: value}),
                f"demo {part.id} {field}",
            )

    def _rename(self) -> None:
        part, name = self.part, self.name.text().strip()
        if part is not None and name and name != part.name:
            self._set_part("name", name, "name")

    def _turn(self, layer_id: str, *, on: bool) -> None:
        part = self.part
        if part is not None:
            self.change(
                f"layers of {part.name}",
                lambda demo, loop: demos.with_layer(demo, loop, part.id, layer_id, on=on),
            )

    def _move(self, by: int) -> None:
        part = self.part
        if part is None:
            return
        self.picture.at = min(max(self.picture.at + by, 0), len(self.demo.parts) - 1)
        self.change(
            f"{part.name} {'later' if by > 0 else 'earlier'}",
            lambda demo, _loop: demos.move_part(demo, part.id, by),
        )

    def _add(self) -> None:
        self.picture.at = len(self.demo.parts)
        self.change("another part of the demo file", lambda demo, _loop: demos.add_part(demo))

    def _remove(self) -> None:
        part = self.part
        if part is not None:
            self.change(
                f"without {part.name}", lambda demo, _loop: demos.remove_part(demo, part.id)
            )

    # --- hearing ------------------------------------------------------------------------------

    def _hear_or_leave(self) -> None:
        if self.heard.busy:
            self.heard.stop_making()
        elif self.heard.on:
            self.heard.leave()
        else:
            self.heard.hear(0)

    def _show_heard(self) -> None:
        heard = self.heard
        self.hear.setText("Stop" if heard.busy else "Play the loop" if heard.on else "Play it")
        self.bar.setVisible(heard.busy)
        self.bar.setRange(0, 1000)
        if heard.on and self.isVisible():
            self._clock.start()
        else:
            self._clock.stop()
            self.picture.show_place(heard.share)

    def _measure(self, *_: object) -> None:
        loop, engine = self._session.loop, self._session.engine
        self._tasks.run("demo strata", lambda _stop, _moved: _heights(engine, loop), self._take)

    def showEvent(self, event: QEvent | None) -> None:
        self._show()

    def _take(self, curves: dict[str, NDArray[np.float32]]) -> None:
        self._curves = curves
        self._show_picture()

    # --- showing ------------------------------------------------------------------------------

    def _show(self) -> None:
        demo, loop = self.demo, self._session.loop
        unknown = {one.id for one in loop.heard()} - set(self._curves)
        if self.isVisible() and (unknown or not self._curves):
            self._measure()
        self.variation.set_value(float(demo.variation or 1))
        self.cross.set_value(demo.cross_s)
        self.tag_db.set_value(demo.tag_db)
        self.tag_every.set_value(float(demo.tag_every))
        self._show_tags(demo, loop)
        there = bool(demo.parts)
        for widget in (self.hear, self.write):
            widget.setEnabled(there)
        self.tag_db.setVisible(bool(demo.tag))
        self.tag_every.setVisible(bool(demo.tag))
        self.order.setText("Suggest another order" if there else "Suggest an order")
        self._show_picture()
        self._show_part()

    def _show_tags(self, demo: DemoFile, loop: Loop) -> None:
        names = [one.name for one in loop.layers if one.recorded is not None]
        choices = ["", *TAGS, *names]
        if demo.tag not in choices:
            choices.append(demo.tag)
        if [self.tag.itemData(at) for at in range(self.tag.count())] != choices:
            self.tag.clear()
            for one in choices:
                self.tag.addItem(f"Tag: {one}" if one else NO_TAG, one)
        self.tag.setCurrentIndex(choices.index(demo.tag))

    def _show_picture(self) -> None:
        demo, loop = self.demo, self._session.loop
        seconds = sum(lengths_of(loop, demo)) / loop.rate
        self.picture.show_columns(columns_of(loop, demo, self._curves), seconds, self.picture.at)

    def _show_part(self) -> None:
        part, loop = self.part, self._session.loop
        self._chosen.setVisible(part is not None)
        self.inspector.title.setText(part.name if part else "No part")
        self.inspector.under.setText(
            "What plays in this part of the demo file, and for how long." if part
            else "Suggest an order, or add a part."
        )  # fmt: skip
        if part is None:
            return
        if not self.name.hasFocus() or self.name.text() not in ("", part.name):
            self.name.setText(part.name)
        self.turns.set_value(float(part.turns))
        ids = [one.id for one in loop.heard()]
        if ids != list(self.layers):
            clear(self._layers)
            self.layers = {}
            for layer in loop.heard():
                box = QCheckBox(layer.name)
                box.clicked.connect(lambda on, name=layer.id: self._turn(name, on=on))
                self.layers[layer.id] = box
                self._layers.addWidget(box)
        heard = {one.id for one in heard_in(loop, part)}
        for name, box in self.layers.items():
            box.setChecked(name in heard)
        at, last = self.picture.at, len(self.demo.parts) - 1
        self.earlier.setEnabled(at > 0)
        self.later.setEnabled(at < last)


def _heights(engine: Engine, loop: Loop) -> dict[str, NDArray[np.float32]]:
    return {
        layer.id: curve
        for layer, (_role, curve) in zip(loop.heard(), strata(engine, loop), strict=True)
    }
