"""What is chosen in the groove bed: the hits, the lane, or all of it; a page of fields each."""

from collections.abc import Callable
from functools import partial

from PyQt6.QtWidgets import QMenu, QPushButton, QVBoxLayout, QWidget

from cloudrift.desktop.kit.choice_box import ChoiceBox
from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.parts import ChoiceRow, Inspector, Pages, clear, label, small_button
from cloudrift.desktop.kit.rows import row, small, toggle
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.stages.groove.chosen_fields import DUCK, HIT, LATE, PAN
from cloudrift.desktop.stages.groove.hit_lanes import HitLanes
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.settings import Field
from cloudrift.ground.words import plural
from cloudrift.loop.edits.bed import beds
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.model.bed import BED, Duck, hits_of
from cloudrift.loop.model.hits import Hit
from cloudrift.loop.model.layer import LEVEL, Layer
from cloudrift.loop.model.loop import Loop
from cloudrift.notes.time import TICKS_PER_QUARTER
from cloudrift.sound.catalogue import CATALOGUE, find_sound
from cloudrift.sound.own_files import Shelved, load_own, own_sounds

PAGES = (("hits", "Hits"), ("lane", "Lane"), ("bed", "Whole bed"))
SHARES = {"pan"}  # held as -1 to 1, shown in %
DRUMS = ("drums", "bass")
NO_CHOKE = "rings on"


class Chosen(Inspector):
    """A lane: its hits that are chosen, all of it, or all of the bed."""

    def __init__(self, session: Session, lanes: HitLanes, edit: Callable[..., bool]) -> None:
        """``edit`` takes words, an edit of the loop, and whether a hand still moves."""
        super().__init__()
        self._session, self._lanes, self._edit = session, lanes, edit
        self.tabs = ChoiceRow(list(PAGES), columns=3, name="Selection")
        self.tabs.chosen.connect(self.show_page)
        self.says = self.under
        self.pages = Pages()
        self.hit: dict[str, FieldWidget] = {}
        self.lane: dict[str, FieldWidget] = {}
        self.duck: dict[str, FieldWidget] = {}
        self.stack: list[ChoiceBox] = []
        self._stack_of: object = None
        self._own: list[Shelved] = []
        self._hits_page()
        self._lane_page()
        self._bed_page()
        self.top.addWidget(self.tabs)
        fill(self.body, self.pages, 1)
        self.show_page("hits")

    def _page(self) -> QVBoxLayout:
        inside = QWidget()
        body = vertical(inside, FLUSH, 5)
        self.pages.addWidget(inside)
        return body

    def _field(self, field: Field, act: Callable[[object], None], body: QVBoxLayout) -> FieldWidget:
        widget = FieldWidget(field, field.default)
        widget.edited.connect(act)
        widget.settled.connect(self._session.end_drag)
        body.addWidget(widget)
        return widget

    def _hits_page(self) -> None:
        body = self._page()
        for name, field in HIT.items():
            self.hit[name] = self._field(field, partial(self._set_hit, name), body)
        self.more = QPushButton("More…")
        self.more.setToolTip("More for the selected hits, or the whole lane")
        self._more = QMenu(self.more)
        self._more.aboutToShow.connect(self._fill_more)
        self.more.setMenu(self._more)
        fill(body, self.more, 1)

    def _fill_more(self) -> None:
        self._more.clear()
        for words, act in self._lanes.acts():
            self._more.addAction(words, act)

    def _lane_page(self) -> None:
        body = self._page()
        self.on = toggle("on", self._swap_on, "Lane on or off (M)")
        self.alone = toggle("solo", self._swap_alone, "Solo this lane")
        self.ducks = toggle("ducks the loop", self._swap_ducks, "This lane's hits duck the loop")
        self.locked = toggle("locked", self._swap_locked, "Keep it when a groove is suggested")
        body.addWidget(row((self.on, self.alone, self.ducks, self.locked)))
        self.sounds = vertical(spacing=3)
        body.addLayout(self.sounds)
        self.lane["level_db"] = self._field(LEVEL, partial(self._set_owner, "level_db"), body)
        self.lane["pan"] = self._field(PAN, partial(self._set_owner, "pan"), body)
        self.lane["late_ms"] = self._field(LATE, self._set_late, body)
        self.choke = ChoiceBox("Choke group")
        self.choke.setToolTip("Lanes of one group cut each other off, and themselves")
        self.choke.setEditable(True)
        self.choke.activated.connect(self._set_choke)
        body.addWidget(self.choke)
        acts = (
            ("Duplicate", self._copy_lane, "Duplicate this lane"),
            ("Up", partial(self._move_lane, -1), "Move up"),
            ("Down", partial(self._move_lane, 1), "Move down"),
            ("Remove", self._remove_lane, "Remove this lane"),
        )
        fill(body, row(small(*one) for one in acts), 1)

    def _bed_page(self) -> None:
        body = self._page()
        for name, field in DUCK.items():
            self.duck[name] = self._field(field, partial(self._set_duck, name), body)
        self.bass = toggle(
            "low drums duck too",
            lambda on: self._set_duck("bass", on),
            "The same hits duck lanes on roots",
        )
        body.addWidget(self.bass)
        self.dirty = toggle(
            "drive",
            lambda _on: self._press(beds.make_dirty),
            "Drive on the whole bed, blended; click again: off",
        )
        self.air = toggle(
            "room",
            lambda _on: self._press(beds.give_air),
            "A small room on the whole bed; click again: off",
        )
        body.addWidget(row((self.dirty, self.air)))
        self.steps = ChoiceRow([(240, "1/16"), (480, "1/8")], columns=2, name="Swings in")
        self.steps.chosen.connect(
            lambda ticks: self._edit("swing in", lambda loop: beds.set_bed(loop, swing_ticks=ticks))
        )
        fill(body, label("Swings in", size=11.5, name="soft"), self.steps)
        self.pan = self._field(PAN, partial(self._set_owner, "pan", of=BED), body)
        body.addStretch(1)

    # --- showing ------------------------------------------------------------------------------

    def show_page(self, page: object) -> None:
        """Show the fields of the hits, of the lane, or of all of it."""
        self.tabs.show_choice(page)
        self.pages.setCurrentIndex([name for name, _ in PAGES].index(str(page)))
        self.refresh()

    @property
    def layer(self) -> Layer | None:
        """The lane that is chosen."""
        lane_id = self._lanes.lane_id
        return next((x for x in self._session.loop.lanes if x.id == lane_id), None)

    def refresh(self) -> None:
        """Show what is chosen as it is now."""
        lane, bed = self.layer, self._session.loop.bed
        self.setEnabled(bed is not None)
        there = bed is not None and lane is not None and self._lanes.model is not None
        self.tabs.setVisible(there)
        self.pages.setVisible(there)
        if not there:
            self.title.setText("No lane")
            self.says.setText("Suggest a groove, or add a lane and draw hits in it.")
            return
        assert bed is not None and lane is not None
        self.title.setText(lane.name)
        self._show_hits(lane)
        self._show_lane(lane)
        duck = bed.duck or Duck()
        for name, widget in self.duck.items():
            widget.set_value(float(getattr(duck, name)))
            widget.setEnabled(bed.duck is not None)
        self.bass.setChecked(duck.bass)
        self.bass.setEnabled(bed.duck is not None)
        on = {t.kind for t in bed.group.line if t.on}
        self.dirty.setChecked("overdrive" in on)
        self.air.setChecked("room" in on)
        self.steps.show_choice(bed.swing_ticks)
        self.pan.set_value(100 * bed.group.pan)

    def _show_hits(self, lane: Layer) -> None:
        model, numbers = self._lanes.model, self._lanes.numbers
        assert model is not None
        hits = model.hits(self._lanes.row)
        shown = hits[min(numbers)] if numbers else hits[0] if hits else Hit(tick=0)
        for name, widget in self.hit.items():
            value = float(getattr(shown, name))
            value = 100 * value if name in SHARES else value
            value = value / TICKS_PER_QUARTER if name == "length_ticks" else value
            widget.set_value(value)
            widget.setEnabled(bool(hits))
        stacked = len(hits_of(lane).stack)
        self.hit["sound"].setVisible(stacked > 1)
        if len(numbers) == 1:
            said = model.text_of(self._lanes.row, min(numbers))
        else:
            said = f"{len(numbers)} hits selected" if numbers else f"all {plural(len(hits), 'hit')}"
            said = said if hits else "no hits yet; click in the lane"
        self.says.setText(f"{lane.name}: {said}")

    def _show_lane(self, lane: Layer) -> None:
        bed, hits = self._session.loop.bed, hits_of(lane)
        assert bed is not None
        self.on.setChecked(not lane.mute)
        self.alone.setChecked(lane.id in self._session.hearing.alone)
        self.ducks.setChecked(bed.duck is not None and lane.id in bed.duck.lanes)
        self.locked.setChecked(lane.id in bed.locked)
        self.lane["level_db"].set_value(lane.level_db)
        self.lane["pan"].set_value(100 * lane.pan)
        self.lane["late_ms"].set_value(hits.late_ms)
        names = [hits_of(x).choke for x in bed.lanes]
        chokes = [NO_CHOKE, *sorted({*names, lane.name.lower()} - {""})]
        if chokes != [self.choke.itemText(i) for i in range(self.choke.count())]:
            self.choke.clear()
            self.choke.addItems(chokes)
        self.choke.setCurrentText(hits.choke or NO_CHOKE)
        shape = (lane.id, tuple(one.use.name for one in hits.stack))
        if shape != self._stack_of:
            self._stack_of = shape
            self._build_stack(lane)

    def read_own(self) -> None:
        """Look for own sounds again: there may be others."""
        self._own, self._stack_of = own_sounds(), None

    def _build_stack(self, lane: Layer) -> None:
        clear(self.sounds)
        self.stack = []
        hits = hits_of(lane)
        names = [
            sound.name for family in DRUMS for sound in CATALOGUE.values() if sound.family == family
        ]
        for i, one in enumerate(hits.stack):
            line = horizontal(spacing=3)
            box = ChoiceBox(f"Sound {i + 1} of the stack")
            for name in dict.fromkeys([one.use.name, *names]):
                known = one.use.of if name == one.use.name else find_sound(name)
                box.addItem(known.label, name)
            for own in self._own:
                if own.own.name != one.use.name:
                    box.addItem(f"{own.own.name} (yours)", own)
            box.activated.connect(partial(self._set_sound, i))
            self.stack.append(box)
            line.addWidget(box, 1)
            if len(hits.stack) > 1:
                level = FieldWidget(LEVEL, one.level_db)
                level.edited.connect(partial(self._set_stacked, i, "level_db"))
                level.settled.connect(self._session.end_drag)
                fill(line, level, small_button("×", partial(self._take_sound, i), tip="Remove it"))
            self.sounds.addLayout(line)
        if len(hits.stack) < 4:
            self.sounds.addWidget(small_button("Layer another sound with it", self._add_sound))

    # --- doing --------------------------------------------------------------------------------

    def _set_hit(self, name: str, value: object) -> None:
        number = float(str(value))
        if name in SHARES:
            number = round(number / 100, 3)
        whole = name in ("velocity", "st", "sound", "length_ticks")
        if name == "length_ticks":
            number *= TICKS_PER_QUARTER
        self._lanes.set_all(name, round(number) if whole else number, moving=True)

    def _set_owner(self, name: str, value: object, of: str = "") -> None:
        lane_id = of or self._lanes.lane_id
        number = float(str(value)) / (100 if name in SHARES else 1)
        words = f"{name.removesuffix('_db')} of a lane"
        self._edit(words, lambda loop: loop.with_owner(lane_id, **{name: number}), moving=True)

    def _set_late(self, value: object) -> None:
        lane_id, number = self._lanes.lane_id, float(str(value))
        self._edit(
            "a late lane", lambda loop: beds.set_lane(loop, lane_id, late_ms=number), moving=True
        )

    def _set_choke(self, _at: int) -> None:
        lane_id, words = self._lanes.lane_id, self.choke.currentText().strip()
        name = "" if words == NO_CHOKE else words
        self._edit("choke group", lambda loop: beds.set_lane(loop, lane_id, choke=name))

    def _set_sound(self, which: int, at: int) -> None:
        lane_id, chosen = self._lanes.lane_id, self.stack[which].itemData(at)
        if isinstance(chosen, Shelved):
            clips = self._session.clips
            try:
                if chosen.file and any(one.clip not in clips for one in chosen.own.recordings):
                    load_own(chosen.file, clips)
            except CloudriftError as error:
                self._session.say(str(error))
                return
        sound = chosen.own if isinstance(chosen, Shelved) else str(chosen)
        if (
            isinstance(sound, str)
            and sound == hits_of(self._session.loop.layer(lane_id)).stack[which].use.name
        ):
            return  # as it is
        self._edit(
            "sound of a lane",
            lambda loop: beds.set_stacked(loop, lane_id, which, use=layer_edits.sound_use(sound)),
        )

    def _set_stacked(self, which: int, name: str, value: object) -> None:
        lane_id, number = self._lanes.lane_id, float(str(value))
        self._edit(
            "level in the stack",
            lambda loop: beds.set_stacked(loop, lane_id, which, **{name: number}),
            moving=True,
        )

    def _add_sound(self) -> None:
        lane_id = self._lanes.lane_id
        self._edit("stack a sound", lambda loop: beds.add_to_stack(loop, lane_id, "clap"))

    def _take_sound(self, which: int) -> None:
        lane_id = self._lanes.lane_id
        self._edit("remove a sound", lambda loop: beds.take_from_stack(loop, lane_id, which))

    def _swap_on(self, on: bool) -> None:
        lane_id = self._lanes.lane_id
        self._edit(
            "a lane on" if on else "a lane off", lambda loop: loop.with_owner(lane_id, mute=not on)
        )

    def _swap_alone(self, _on: bool) -> None:
        self._session.hearing.swap_alone(self._lanes.lane_id)
        self.refresh()

    def _swap_ducks(self, on: bool) -> None:
        lane_id = self._lanes.lane_id

        def edit(loop: Loop) -> Loop:
            duck = beds.bed_of(loop).duck
            lanes = tuple(x for x in (duck.lanes if duck else ()) if x != lane_id)
            return beds.duck_under(loop, (*lanes, lane_id) if on else lanes)

        self._edit("duck the loop" if on else "no ducking", edit)

    def _swap_locked(self, on: bool) -> None:
        lane_id = self._lanes.lane_id
        self._edit(
            "lock a lane" if on else "unlock a lane", lambda loop: beds.lock(loop, lane_id, on=on)
        )

    def _copy_lane(self) -> None:
        lane_id = self._lanes.lane_id
        self._edit("duplicate a lane", lambda loop: beds.copy_lane(loop, lane_id))

    def _move_lane(self, by: int) -> None:
        lane_id = self._lanes.lane_id
        if self._edit("move a lane", lambda loop: beds.move_lane(loop, lane_id, by)):
            self._lanes.choose(self._lanes.row + by)

    def _remove_lane(self) -> None:
        lane_id = self._lanes.lane_id
        self._edit("remove a lane", lambda loop: beds.remove_lane(loop, lane_id))

    def _set_duck(self, name: str, value: object) -> None:
        self._edit("ducking", lambda loop: beds.set_duck(loop, **{name: value}), moving=True)

    def _press(self, edit: Callable[[Loop], Loop]) -> None:
        self._edit("the whole bed", edit)
