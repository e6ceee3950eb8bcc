"""The Groove stage: drums and long bass that a loop is tried against."""

from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QMenu, QPushButton, QWidget

from cloudrift.desktop.kit.asking import MIDI_KINDS, ask_for_file
from cloudrift.desktop.kit.choice_box import ChoiceBox
from cloudrift.desktop.kit.commands import Command
from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.flow import Flow, takes_rest
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.look import SEMI
from cloudrift.desktop.kit.own_words import why
from cloudrift.desktop.kit.parts import Elided, button, label, panel, scrolling, small_button
from cloudrift.desktop.kit.rows import toggle
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.desktop.stages.groove.bed_fields import FIELDS, GRIDS, ROLLS
from cloudrift.desktop.stages.groove.chosen import Chosen
from cloudrift.desktop.stages.groove.hit_lanes import HitLanes
from cloudrift.desktop.stages.groove.lead import groove_lead
from cloudrift.desktop.stages.groove.model import root_text
from cloudrift.ground.draws import MAX_VARIATION
from cloudrift.ground.words import plural
from cloudrift.loop.edits.bed import beds
from cloudrift.loop.edits.bed.bed_midi import lanes_of_midi
from cloudrift.loop.model.bed import BED, Bed
from cloudrift.loop.model.loop import Loop
from cloudrift.notes.from_midi import read_drums
from cloudrift.notes.midi_in import MidiSong
from cloudrift.notes.time import NOTE_VALUES
from cloudrift.render.engine.engine import Rendered
from cloudrift.render.measure.strokes import Strengths, onset_strengths
from cloudrift.style.groove import suggest_bed, usual_manner
from cloudrift.style.manner import find_manner, manners

SAYS_PX = 200  # that the words on top have at least
LISTENING, READING = "from the loop's onsets", "drums of a MIDI file"


DRAWN = ("draw a hit", "draw a roll")


class GrooveStage(QWidget):
    """What all of the bed shares on top, its lanes below; what is chosen is in the ``inspector``.

    ``line_wanted`` when the treatments of all of the bed are to be seen.
    """

    line_wanted = pyqtSignal()

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__()
        self._session, self._tasks = session, tasks
        self._strengths: Strengths = np.zeros(0)
        self._strengths_of: Loop | None = None
        self.lanes = HitLanes()
        self.lanes.edited.connect(self._edit_hits)
        self.lanes.settled.connect(session.end_drag)
        self.lanes.on_swapped.connect(self._swap_lane)
        self.lanes.chosen.connect(self._chosen)
        self.heard = toggle("on", self._swap_heard, "Groove bed on or off", spoken="Groove bed on")
        self.only = toggle(
            "solo", self._swap_alone, "Solo the groove bed", spoken="Solo the groove bed"
        )
        self.fields: dict[str, FieldWidget] = {}
        for name, field in FIELDS.items():
            widget = FieldWidget(field, field.default)
            widget.edited.connect(partial(self._set, name))
            widget.settled.connect(session.end_drag)
            self.fields[name] = widget
        self.manner = ChoiceBox("Manner")
        self.manner.addItems(list(manners()))
        self.manner.currentTextChanged.connect(self._show_manner)
        self.variation = button(
            "Suggest from the loop",
            self.suggest_one,
            name="strong",
            tip="Hits that land on the loop's onsets; each click is another variation, locked "
            "lanes stay",
        )
        self.patterns = horizontal(spacing=3)
        self._patterns_of: tuple[str, ...] = ()
        self.pattern: dict[str, QPushButton] = {}
        self.bars = small_button(
            "", self._double, tip="Doubles the pattern's length; after 8 bars, back to one"
        )
        self.grid, self.roll = ChoiceBox("Grid", GRIDS), ChoiceBox("Rolls in", ROLLS)
        self.grid.setCurrentText("1/16")
        self.roll.setCurrentText("1/32")
        self.grid.currentTextChanged.connect(self._set_grid)
        self.roll.currentTextChanged.connect(self._set_grid)
        self.add = QPushButton("Add a lane")
        self._add_menu = QMenu(self.add)
        for part, of in beds.PARTS.items():
            self._add_menu.addAction(of.name, partial(self._add_lane, part))
        self._add_menu.addSeparator()
        self._add_menu.addAction("From a MIDI file…", self._ask_for_midi)
        self.add.setMenu(self._add_menu)
        self.whole = Elided(size=11.5, name="soft")
        self.words = Elided(size=11.5, name="soft")
        self.chosen = Chosen(session, self.lanes, self.edit)
        self._struck: object = None  # the hit that was heard last
        self.lanes.chosen.connect(self._strike_chosen)
        self._lay_out()
        self._begin()
        self._set_grid()
        self._show_manner()
        session.changed.connect(lambda _b, _a: self._refresh_if_shown())
        session.opened.connect(self._begin)
        session.hearing.changed.connect(self._refresh_if_shown)
        session.hearing.sound_changed.connect(self._listen)

    def _lay_out(self) -> None:
        middle = panel()
        column = vertical(middle, (12, 9, 12, 9), 6)
        named, head, played, shared = QWidget(), QWidget(), QWidget(), QWidget()
        fill(
            horizontal(named, FLUSH, 6),
            label("Groove bed", size=14, weight=SEMI),
            why("bed"),
            (self.words, 1),
        )
        takes_rest(named, SAYS_PX)
        patterns = QWidget()
        self.patterns.setContentsMargins(*FLUSH)
        patterns.setLayout(self.patterns)
        grid = label("Grid", size=11.5, name="soft")
        rolls = label("Rolls in", size=11.5, name="soft")
        for holder, widgets in (
            (head, (named, self.add, self.manner, self.fields["variation"], self.variation)),
            (played, (self.heard, self.only, patterns, self.bars, grid, self.grid, rolls,
                      self.roll)),
        ):  # fmt: skip
            line = Flow(holder, spacing=6)
            for one in widgets:
                line.addWidget(one)
        line = Flow(shared, spacing=6, even=True, columns=4)
        for name in ("level_db", "swing", "late_ms", "busy"):
            line.addWidget(self.fields[name])
        self.filled = QWidget()
        inside = vertical(self.filled, FLUSH, 6)
        foot = horizontal(spacing=6)
        fill(
            foot,
            (self.whole, 1),
            button("Treatments", self.line_wanted.emit, name="link",
                   tip="The whole bed's treatments, in Texture"),
        )  # fmt: skip
        fill(inside, played, shared, (scrolling(self.lanes), 1), foot)
        self.lead = groove_lead(self._session, self.draw_in, self._drawn)
        fill(column, head, (self.filled, 1), (self.lead, 1))
        outer = vertical(self, FLUSH)
        outer.addWidget(middle)

    @property
    def inspector(self) -> Chosen:
        """What stands beside the stage."""
        return self.chosen

    # --- showing ------------------------------------------------------------------------------

    def _begin(self) -> None:
        self._strengths, self._strengths_of = np.zeros(0), None
        bed = self._session.loop.bed
        self.manner.setCurrentText(bed.manner if bed else usual_manner(self._session.loop))
        self._refresh_if_shown()

    def _refresh_if_shown(self) -> None:
        if self.isVisible():
            self.refresh()

    def refresh(self) -> None:
        """Show the bed as it is."""
        loop = self._session.loop
        bed = loop.bed or Bed()
        self.lanes.show_loop(loop, self._strengths)
        self.chosen.refresh()
        there = bool(bed.lanes)
        self.filled.setVisible(there)
        self.lead.setVisible(not there)
        for widget in (self.manner, self.fields["variation"], self.variation):
            widget.setVisible(there)
        self.whole.setText(_whole_words(loop))
        self.heard.setChecked(there and not bed.group.mute)
        self.only.setChecked(BED in self._session.hearing.alone)
        for name, value in (
            ("level_db", bed.group.level_db),
            ("swing", bed.swing),
            ("late_ms", bed.late_ms),
            ("busy", 100 * bed.busy),
            ("variation", float(bed.variation)),
        ):
            self.fields[name].set_value(value)
        self._show_patterns(bed)
        model = self.lanes.model
        said = f"{model.words} · " if model else ""
        low = any(model.is_low(row) for row in range(len(bed.lanes))) if model else False
        said += f"roots: {root_text(loop)}" if low else ""
        self.words.setText(said.removesuffix(" · "))
        self.words.setToolTip(self.words.text())

    def _show_manner(self) -> None:
        self.manner.setToolTip(find_manner(self.manner.currentText()).about)

    def _show_patterns(self, bed: Bed) -> None:
        names = bed.patterns
        if names != self._patterns_of:
            self._patterns_of = names
            while (item := self.patterns.takeAt(0)) is not None:
                widget = item.widget()
                if widget is not None:
                    widget.hide()
                    widget.deleteLater()
            self.pattern = {}
            for name in names:
                one = small_button(
                    name, partial(self._play, name), tip="All lanes play this pattern"
                )
                one.setCheckable(True)
                self.pattern[name] = one
                self.patterns.addWidget(one)
            if names:
                self.patterns.addWidget(
                    small_button("+", self._copy_pattern, tip="Duplicate this pattern")
                )
            if len(names) > 1:
                self.patterns.addWidget(
                    small_button("−", self._remove_pattern, tip="Delete this pattern")
                )
        plays = {beds.hits_of(x).plays for x in bed.lanes}
        for name, one in self.pattern.items():
            one.setChecked(plays == {name})
        self.bars.setText(f"{self.lanes.model.bars} bars" if self.lanes.model else "bars")

    def _chosen(self) -> None:
        lane_id = self.lanes.lane_id
        if lane_id:
            self._session.select(line_of=lane_id)
        self.chosen.refresh()

    def show_place(self, share: float) -> None:
        """Follow the sound."""
        if self.isVisible():
            self.lanes.show_place(share)

    # --- listening ----------------------------------------------------------------------------

    def _listen(self, _rendered: Rendered | None = None) -> None:
        """Hear beside the interface where the loop strikes, when its sound stands."""
        loop = self._session.hearing.heard_loop
        if not self.isVisible() or self._strengths_of is loop:
            return
        engine = self._session.engine

        def work(stale: Callable[[], bool], _moved: object) -> Strengths:
            return onset_strengths(engine.without_bed(loop, stale), loop.rate, loop)

        def came(found: Strengths) -> None:
            self._strengths, self._strengths_of = found, loop
            self.refresh()

        self._tasks.run(LISTENING, work, came)

    # --- doing --------------------------------------------------------------------------------

    def edit(self, words: str, edit: Callable[[Loop], Loop], *, moving: bool = False) -> bool:
        """Change the loop, as one step; said where it can't be."""
        return bool(self._session.apply(words, edit, merge=words if moving else "", moving=moving))

    def _edit_hits(self, words: str, edit: Callable[[Loop], Loop], moving: bool) -> None:
        """What one hand does is one step, though a press becomes a roll on its way.

        What is drawn where nothing would play turns on what is off.
        """
        lane_id, before = self.lanes.lane_id, self._session.loop
        drawn = words in DRAWN

        def and_heard(loop: Loop) -> Loop:
            return beds.sounding(edit(loop), lane_id) if drawn else edit(loop)

        self._session.apply(words, and_heard, merge="hits" if moving else "", moving=moving)
        if drawn and before.bed is not None and self._session.loop is not before:
            off = "The groove bed" if before.bed.group.mute else before.layer(lane_id).name
            if before.bed.group.mute or before.layer(lane_id).mute:
                self._session.say(f"{off} is now on, so you hear what you draw", good=True)

    def draw_in(self, manner: str) -> None:
        """Draw a groove in a manner."""
        self.manner.setCurrentText(manner)
        self.suggest_one()
        self.lanes.setFocus()

    def _drawn(self, name: str, loop: Loop) -> Loop:
        bed = loop.bed or Bed()
        manner = find_manner(name)
        drawn = suggest_bed(loop, manner, self._strengths, variation=bed.variation, busy=bed.busy)
        return beds.set_heard(drawn, on=True)

    def suggest_one(self) -> None:
        """Draw a groove in the chosen manner; another with each press."""
        bed = self._session.loop.bed or Bed()
        manner = self.manner.currentText()
        again = bed.manner == manner and any(x.id not in bed.locked for x in bed.lanes)
        self._draw(bed.variation % MAX_VARIATION + 1 if again else bed.variation, bed.busy)

    def _draw(self, variation: int, busy: float, *, moving: bool = False) -> None:
        manner, strengths = find_manner(self.manner.currentText()), self._strengths

        def edit(loop: Loop) -> Loop:
            loop = suggest_bed(loop, manner, strengths, variation=variation, busy=busy)
            return loop if moving else beds.set_heard(loop, on=True)

        done = self.edit("suggest a groove", edit, moving=moving)
        if done and not moving:
            self.lanes.choose(self.lanes.row)

    def _set(self, name: str, value: object) -> None:
        bed, number = self._session.loop.bed or Bed(), float(str(value))
        if name == "busy" and bed.manner:
            self.manner.setCurrentText(bed.manner)
            self._draw(bed.variation, number / 100, moving=True)
        elif name == "variation" and bed.manner:
            self.manner.setCurrentText(bed.manner)
            self._draw(round(number), bed.busy, moving=True)
        elif name == "level_db":
            self.edit(
                "level of the bed", lambda loop: loop.with_owner(BED, level_db=number), moving=True
            )
        elif name in ("busy", "variation"):
            number = number / 100 if name == "busy" else round(number)
            self.edit(name, lambda loop: beds.set_bed(loop, **{name: number}), moving=True)
        else:
            self.edit(
                "swing" if name == "swing" else "feel",
                lambda loop: beds.set_bed(loop, **{name: number}),
                moving=True,
            )

    def _set_grid(self) -> None:
        self.lanes.grid = NOTE_VALUES[self.grid.currentText()]
        self.lanes.roll_ticks = ROLLS[self.roll.currentText()]
        self.lanes.update()

    def _swap_heard(self, on: bool) -> None:
        self.edit(
            "groove bed on" if on else "groove bed off", lambda loop: beds.set_heard(loop, on=on)
        )

    def _swap_alone(self, on: bool) -> None:
        self._session.hearing.solo({BED} if on else ())

    def _swap_lane(self, lane_id: str) -> None:
        def edit(loop: Loop) -> Loop:
            return loop.with_owner(lane_id, mute=not loop.layer(lane_id).mute)

        self.edit("a lane on or off", edit)

    def _add_lane(self, part: str) -> None:
        if self.edit("add a lane", lambda loop: beds.add_lane(loop, part)):
            self.lanes.choose(len(self._session.loop.lanes) - 1)
            self.lanes.setFocus()

    def _ask_for_midi(self) -> None:
        path = ask_for_file(self, self._session, "Drums of a MIDI file", MIDI_KINDS)
        if path is not None:
            self.bring_midi(path)

    def bring_midi(self, path: Path) -> None:
        """Read a MIDI file beside the interface; its drums become lanes."""

        def came(song: MidiSong) -> None:
            before = len(self._session.loop.lanes)
            if self.edit(
                "drums of a MIDI file", lambda loop: lanes_of_midi(loop, song.drums, song.parts)
            ):
                count = len(self._session.loop.lanes) - before
                self._session.say(f"{plural(count, 'lane')} from {path.name}", good=True)

        self._tasks.run(
            READING,
            lambda stale, _moved: read_drums(path, stale),
            came,
            lambda error: self._session.say(str(error)),
            lane=Lane.READING,
        )

    def _play(self, name: str) -> None:
        self.edit(f"pattern {name}", lambda loop: beds.play_pattern(loop, name))
        self.refresh()

    def _copy_pattern(self) -> None:
        name = beds.next_pattern_name(beds.bed_of(self._session.loop))
        self.edit("copy a pattern", lambda loop: beds.copy_pattern(loop, name))

    def _remove_pattern(self) -> None:
        name = next((name for name, one in self.pattern.items() if one.isChecked()), "")
        if name:
            self.edit("delete a pattern", lambda loop: beds.remove_pattern(loop, name))

    def _double(self) -> None:
        model = self.lanes.model
        if model is not None:
            bars = 1 if model.bars >= 8 else 2 * model.bars
            self.edit("length of the pattern", lambda loop: beds.set_pattern_bars(loop, bars))

    # --- the stage ----------------------------------------------------------------------------

    def _strike_chosen(self) -> None:
        """While nothing plays, let the hit that is chosen or drawn be heard."""
        lanes, session = self.lanes, self._session
        if lanes.model is None or len(lanes.numbers) != 1 or session.player.playing:
            self._struck = None
            return
        hit = lanes.model.hits(lanes.row)[next(iter(lanes.numbers))]
        if (lanes.lane_id, hit) != self._struck:
            self._struck = lanes.lane_id, hit
            session.hearing.once.hit(lanes.lane_id, hit)

    def showEvent(self, _event: QShowEvent | None) -> None:
        self.chosen.read_own()
        self.refresh()
        self._listen()

    @staticmethod
    def commands() -> tuple[Command, ...]:
        """What can be done here, for the menus."""
        here = GrooveStage
        return (
            Command("&Suggest a groove from the loop", here.suggest_one, goes=True),
            Command("Groove &bed on or off", lambda it: it.heard.click(), goes=True),
            Command("Drums of a &MIDI file…", lambda it: it._ask_for_midi(), goes=True),
        )

    def focus_first(self) -> None:
        """Take the focus to the lanes, or to what draws some."""
        first = self.lanes if self.lanes.model else self.lead.first
        first.setFocus()


def _whole_words(loop: Loop) -> str:
    """Say what all of the bed goes through, and how it makes the loop duck."""
    bed = loop.bed
    if bed is None:
        return ""
    said = [t.says or t.of.label.lower() for t in bed.group.line if t.acts]
    if bed.duck is not None and bed.duck.lanes:
        said.append(f"ducks the loop by {bed.duck.depth_db:g} dB for {bed.duck.back_ms:g} ms")
    return "Whole bed: " + (" · ".join(said) or "no treatments, nothing ducks")
