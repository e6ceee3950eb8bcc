"""The Flip stage: a print, its pieces, and what becomes of them."""

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray
from PyQt6.QtCore import QSignalBlocker, Qt, pyqtSignal
from PyQt6.QtGui import QHideEvent, QShowEvent
from PyQt6.QtWidgets import QPushButton, QWidget

from cloudrift.desktop.kit.asking import ask_for_label
from cloudrift.desktop.kit.choice_box import ChoiceBox
from cloudrift.desktop.kit.commands import Command
from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.flow import Flow, flow, takes_rest
from cloudrift.desktop.kit.layouts import FLUSH, fill, vertical
from cloudrift.desktop.kit.own_words import why
from cloudrift.desktop.kit.parts import (
    ChoiceRow,
    Elided,
    WhileShown,
    button,
    label,
    panel,
    set_look,
    small_button,
)
from cloudrift.desktop.kit.pitch_ruler import PitchRuler, RulerPart
from cloudrift.desktop.kit.trying import Trying
from cloudrift.desktop.session.hearing.preview import Preview
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.trouble import error_words
from cloudrift.desktop.session.work.printing import Printing
from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.desktop.stages.flip.compare_button import CompareButton
from cloudrift.desktop.stages.flip.lead import FlipLead
from cloudrift.desktop.stages.flip.model import wave_of, words_of
from cloudrift.desktop.stages.flip.passes import PassesSheet
from cloudrift.desktop.stages.flip.piece_fields import EVEN
from cloudrift.desktop.stages.flip.print_menu import PrintMenu
from cloudrift.desktop.stages.flip.prints_sheet import PrintsSheet
from cloudrift.desktop.stages.flip.result import Result
from cloudrift.desktop.stages.flip.threads import Threads
from cloudrift.ground.cancel import Cancelled
from cloudrift.loop.edits.flip import cutting, flipping, flips, ordering
from cloudrift.loop.model.flip import MOST_TICKS, Flipped
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.loop.sounding import ruler
from cloudrift.notes.time import beat_ticks
from cloudrift.render.plan.laying import Laying, made_of
from cloudrift.render.plan.plan import layer_laying
from cloudrift.render.plan.slicing import hits_in

WAVE_COLUMNS, STUTTER = 4096, 4
SAYS_PX = 150  # that the words on the print have at least
WHOLE = (
    "Reversed, chords in order",
    "Reverse",
    "On the beat",
    "Original order",
)  # what is done to it


class FlipStage(QWidget):
    """The picture, what is done to it below; what comes of it is in the ``inspector``."""

    recordings_wanted = pyqtSignal()

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__()
        self._session, self._tasks = session, tasks
        self._layer_id = ""
        self._alone = Preview(session.hearing.previews, self)
        self._wave_of: Laying | None = None
        self.which = ChoiceBox("Flip")
        self.which.setMinimumWidth(150)
        self.which.activated.connect(self._choose)
        self.says = Elided(size=11.5, name="soft")
        takes_rest(self.says, SAYS_PX)
        self.print = QPushButton("Print")
        self.print.setObjectName("strong")
        self.printing = Printing(session, tasks, lambda: self.layer)
        self.print_menu = PrintMenu(session, self.printing, self.print)
        self.print.setMenu(self.print_menu)
        self.again = button(
            "Print again",
            self.printing.reprint,
            tip="Print the loop as it is now in place of this print: all its flips follow",
        )
        self.recipe = button(
            "Open source loop",
            self.printing.show_recipe,
            tip="The loop that this print was made from, in place of the open one",
        )
        self.stop = button("Cancel", self.printing.cancel)
        self.stop.hide()
        self.cuts = ChoiceRow([(what, what) for what in cutting.CUT_AT], name="Slice", even=False)
        self.cuts.chosen.connect(self._cut)
        self.even = FieldWidget(EVEN, 16.0)
        self.even.edited.connect(lambda _v: self._cut("equal", moving=True))
        self.even.settled.connect(session.end_drag)
        self.threads = Threads()
        self.threads.edited.connect(self.edit)
        self.ruler = PitchRuler(session, "Pitch ruler of the flip")
        self.words = label("", size=11.5, name="soft")
        self.result = Result(session, self.edit, lambda: self.layer, self.printing)
        self.threads.chosen.connect(self.result.show_place)
        self.hands: dict[str, QPushButton] = {}
        self.acts: dict[str, Callable[[], object]] = {}
        self.alone = QPushButton("Solo")
        self.alone.setCheckable(True)
        self.alone.setToolTip("The flip without the other layers and the whole loop's treatments")
        self.alone.clicked.connect(self._swap_alone)
        self.compare = CompareButton(session, self.printing, lambda: self.layer, self._alone)
        self._alone.ended.connect(lambda: self.alone.setChecked(False))
        self._lay_out()
        self._connect()

    def _lay_out(self) -> None:
        middle = panel()
        column = vertical(middle, (12, 9, 12, 9), 6)
        head = QWidget()
        line = Flow(head, spacing=6)
        for one in (self.which, self.says, self.stop, self.recipe, self.again, self.print,
                    why("print")):  # fmt: skip
            line.addWidget(one)
        self.cutting = flow(
            label("Slice", size=11.5, name="soft"), self.cuts, self.even, self.compare, self.alone,
            spacing=6,
        )  # fmt: skip
        self.lead = FlipLead(self._session, self.printing)
        self.lead.recordings_wanted.connect(self.recordings_wanted)
        fill(column, head, self.cutting, (self.threads, 1), self.ruler, (self.lead, 1), self.words)
        self.doing = QWidget()
        row = Flow(self.doing)
        for name, act, tip, tried in self._acts():
            hand = small_button(name, act, tip=tip)
            if tried is not None:
                Trying(hand, self._session, partial(self._tried, tried), name.lower())
            self.hands[name], self.acts[name] = hand, act
            row.addWidget(hand)
        column.addWidget(self.doing)
        outer = vertical(self, FLUSH)
        outer.addWidget(middle)

    @property
    def inspector(self) -> Result:
        """What stands beside the stage."""
        return self.result

    def _acts(self) -> tuple[tuple[str, Callable[[], object], str, Any], ...]:
        """What is done to the whole, then to the chosen piece; the last lets it be heard first."""

        def on(edit: Callable[[Flipped, int], Flipped], words: str) -> Callable[[], object]:
            return lambda: self.edit(words, lambda flip: edit(flip, self.threads.at))

        return (
            ("Reversed, chords in order", partial(self.edit, "reversed, chords in order",
             ordering.backward_in_order), "Each chord reversed in its own place",
             ordering.backward_in_order),
            ("Reverse all", partial(self.edit, "reverse all", ordering.backward),
             "The whole print reversed", ordering.backward),
            ("On the beat", lambda: self.edit("on the beat", self._on_beat), "Quantises each "
             "piece to the nearest half beat",
             self._on_beat),
            ("Original order", partial(self.edit, "original order", cutting.reset),
             "Each piece back to its place in the print", None),
            ("Reverse", on(flipping.swap_backward, "reverse a piece"),
             "Reverse the selected piece, or undo it (−)", None),
            ("Repeat", on(flipping.repeat, "repeat a piece"),
             "Repeat the selected piece after itself", None),
            ("Half length", on(flipping.halve, "halve a piece"), "Split the selected piece in "
                                                                 "two", None),
            ("Fill to end", on(flipping.copy_on, "fill to the end"),
             "Repeat the selected piece up to the end", None),
            ("Half speed", on(flipping.slow, "half speed for a piece"),
             "Its first half at half speed, keeping the pitch", None),
            ("Stutter", on(lambda flip, at: flipping.stutter(flip, at, STUTTER), "stutter"),
             f"Repeat the selected piece's start {STUTTER} times (2 to 9)", None),
            ("Mute", on(flipping.swap_mute, "mute a piece"),
             "Mute the selected piece, or unmute it", None),
            ("Label", self.label_piece, "Name the slices from here to the next label",
             None),
            ("Rest", on(flipping.take_out, "leave a rest"), "A rest here (.)", None),
        )  # fmt: skip

    def _connect(self) -> None:
        session = self._session
        WhileShown(self, self._show, session.changed, session.opened, session.selected)
        session.ruler_shown.connect(lambda _on: self._show_ruler())
        self.threads.resized.connect(self._show_ruler)
        session.opened.connect(lambda: self._tasks.cancel("finding transients"))
        self.printing.made.connect(self._made)
        self.print_menu.passes_wanted.connect(self.ask_for_passes)
        self.print_menu.list_wanted.connect(self.show_prints)
        self.printing.busy.connect(self._show_busy)
        hearing = session.hearing
        WhileShown(self, self._show_flip, hearing.shown_changed, hearing.changed)

    @staticmethod
    def commands() -> tuple[Command, ...]:
        """What it offers to the menu, the finder and the list of keys."""
        here = FlipStage
        return (
            Command("&Print the whole loop", lambda it: it.printing.print_what((), bare=False),
                    "Ctrl+P", goes=True),
            Command("Print the whole loop, &bare",
                    lambda it: it.printing.print_what((), bare=True), goes=True),
            Command("Print in &passes, with layers on and off…", here.ask_for_passes, goes=True),
            Command("All p&rints…", here.show_prints, goes=True),
            Command("Print the selected &layer", lambda it: it.printing.print_chosen(),
                    "Ctrl+Shift+P", goes=True),
            Command("Print the &soloed layers together",
                    lambda it: it.printing.print_together(), goes=True),
            Command("Sli&ce the selected recording", lambda it: it.printing.cut_recording(),
                    goes=True),
            *(Command(name, partial(here.do, name=name), goes=True) for name in WHOLE),
        )  # fmt: skip

    def do(self, name: str) -> None:
        """Do what one of the hands does."""
        self.acts[name]()

    # --- which flip ---------------------------------------------------------------------------

    def flips(self) -> list[Layer]:
        """The layers that are flips."""
        return [layer for layer in self._session.loop.layers if layer.flipped is not None]

    @property
    def layer(self) -> Layer | None:
        """The flip that is shown, as it is in the open loop."""
        found = self.flips()
        chosen = next((x for x in found if x.id == self._layer_id), None)
        return chosen or (found[-1] if found else None)

    @property
    def shown(self) -> Layer | None:
        """The flip as it is heard: a preview's, while there is one."""
        layer = self.layer
        if layer is None:
            return None
        shown = next((x for x in self._session.hearing.shown.layers if x.id == layer.id), layer)
        return shown if shown.flipped is not None else layer

    def _choose(self, at: int) -> None:
        self._layer_id = str(self.which.itemData(at))
        self._session.select(layer_id=self._layer_id)
        self._hear_parked()
        self._show()

    def show_prints(self) -> None:
        """Show all prints there are."""
        sheet = PrintsSheet(self._session, self.printing.flip_anew, self)
        sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        sheet.show()

    def ask_for_passes(self) -> None:
        """Ask who plays in which pass, and print that."""
        if not self._session.loop.heard():
            self._session.say("no layer plays, so there is nothing to print; add a layer first")
            return
        document, layer = self._session.document.history.now, self.layer
        of = layer.flipped.print_id if layer and layer.flipped else ""
        passes = next((x.recipe.passes for x in document.prints if x.id == of), ())
        self._alone.end()  # what is heard of the loop is what is printed
        sheet = PassesSheet(self._session, self.printing.print_what, self, passes)
        sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        sheet.finished.connect(self._hear_parked)
        sheet.open()

    def edit(
        self,
        words: str,
        edit: Callable[[Flipped], Flipped],
        *,
        merge: str = "",
        moving: bool = False,
    ) -> None:
        """Change the flip that is shown."""
        layer = self.layer
        if layer is None:
            self._session.say("no prints yet; choose Print first")
            return
        self._session.apply(
            words, lambda loop: flips.with_flip(loop, layer.id, edit), merge=merge, moving=moving
        )

    def _tried(self, edit: Callable[[Flipped], Flipped], loop: Loop) -> Loop:
        """What an edit would make of the loop, the flip alone heard if it is so now."""
        layer = self.layer
        if layer is None:
            return loop
        made = flips.with_flip(loop, layer.id, edit)
        return flips.soloed(made, layer.id) if self._alone.on else made

    def _made(self, layer_id: str) -> None:
        """A flip is new: it is chosen, and heard."""
        self._layer_id = layer_id
        self._session.select(layer_id=layer_id)
        self._hear_parked()
        self._show()

    def _show_busy(self, words: str) -> None:
        self.stop.setVisible(bool(words))
        self.print.setEnabled(not words)
        self.again.setEnabled(not words)
        self.lead.setEnabled(not words)
        if words:
            self.words.setText(words)
        else:
            self._show_flip()

    def _on_beat(self, flip: Flipped) -> Flipped:
        return ordering.on_grid(flip, beat_ticks(self._session.loop.metre) // 2)

    def label_piece(self) -> None:
        """Ask what the print is called from the chosen piece's start on."""
        layer = self.layer
        flip = layer.flipped if layer else None
        if flip is None or self.threads.at >= len(flip.places):
            self._session.say("no piece is selected; print first, then select one below")
            return
        tick = flip.places[self.threads.at].from_tick
        was = next((x.name for x in flip.labels if x.at_tick == tick), "")
        name, good = ask_for_label(self, was)
        if good:
            self.edit("label a span", lambda now: ordering.labelled(now, tick, name))

    # --- cutting ------------------------------------------------------------------------------

    def _cut(self, what: object, *, moving: bool = False) -> None:
        if what == "transients":
            self._cut_at_hits()
            return
        metre, count = self._session.loop.metre, round(float(self.even.value))
        self.edit(
            f"slice at {what}",
            lambda flip: cutting.cut(flip, cutting.cuts_at(flip, str(what), metre, count)),
            merge="equal" if moving else "",
            moving=moving,
        )

    def _cut_at_hits(self) -> None:
        """Listen where something is struck beside the interface, then cut there."""
        layer, loop, clips = self.layer, self._session.loop, self._session.clips
        flip = layer.flipped if layer else None
        if layer is None or flip is None:
            return
        laying = layer_laying(loop, layer)

        def came(hits: list[int]) -> None:
            self.edit(
                "slice at transients",
                lambda now: cutting.cut(
                    now, cutting.cuts_at(now, "transients", loop.metre, hits=hits)
                ),
            )

        self._tasks.run(
            "finding transients",
            lambda _stale, _moved: hits_in(flip, laying, clips, loop.tempo),
            came,
            lane=Lane.READING,
        )

    # --- hearing ------------------------------------------------------------------------------

    def _swap_alone(self) -> None:
        if self._alone.on:
            self._alone.end()
        else:
            self._hear_alone()

    def _hear_parked(self) -> None:
        """A flip that is not among the layers yet is heard alone."""
        layer = self.layer
        if layer is not None and layer.parked:
            self._hear_alone()
        else:
            self._alone.end()

    def _hear_alone(self) -> None:
        layer = self.layer
        if layer is None:
            self.alone.setChecked(False)
            return
        self._alone.put(lambda loop: flips.soloed(loop, layer.id), f"{layer.name}, solo")
        self.alone.setChecked(True)

    # --- showing ------------------------------------------------------------------------------

    def _show(self) -> None:
        found, layer = self.flips(), self.layer
        with QSignalBlocker(self.which):
            self.which.clear()
            for one in found:
                self.which.addItem(one.name, one.id)
            if layer is not None:
                self.which.setCurrentIndex(found.index(layer))
        self.which.setVisible(bool(found))
        self._show_flip()

    def _show_flip(self) -> None:
        layer = self.shown
        flip = layer.flipped if layer else None
        loop = self._session.loop
        own = self.layer
        heard = MOST_TICKS if own is None or own.parked else loop.ticks
        key = (flip.of.facts.key if flip else None) or loop.key
        self.threads.show_flip(flip, loop.metre, key, heard)
        there = flip is not None
        is_print = flip is not None and bool(flip.print_id)
        for one in (self.cutting, self.doing, self.threads):
            one.setVisible(there)
        self.lead.setVisible(not there)
        self.recipe.setVisible(is_print)
        self.compare.show_flip(there=there, is_print=is_print)
        self.again.setVisible(is_print)
        if flip is not None and layer is not None:
            facts = flip.of.facts
            known = [facts.key.text] if facts.key else []
            known += [f"{facts.tempo:.5g} BPM"] if facts.tempo else []
            how = "printed in" if is_print else "recorded in"
            self.says.setText(f"{how} {' at '.join(known)}" if known else "")
            if not self.stop.isVisible():
                self.words.setText(words_of(flip))
                set_look(self.words, "soft")
            self._show_wave(layer)
        else:
            self.says.setText("")
            self.words.setText("")
        self.result.show_layer(layer, self.threads.at)
        self._show_ruler()

    def _show_ruler(self) -> None:
        """Show what sounds of the flip, where its pieces play."""
        layer, model = self.shown, self.threads.model
        on = layer is not None and model is not None and self._session.preferences.now.ruler
        self.ruler.setVisible(on)
        if on and layer is not None and model is not None:
            loop = self._ruled(layer)
            ticks = round(model.axis.ticks)
            spans = [
                one._replace(end_tick=min(one.end_tick, ticks))
                for one in ruler(loop, layer.id)
                if one.start_tick < ticks
            ]
            self.ruler.show_parts(RulerPart(model.axis, tuple(spans), loop))

    def _ruled(self, layer: Layer) -> Loop:
        """The loop in which the flip is ruled, with the chords that are written there."""
        loop, own = self._session.loop, self.layer
        loop = replace(loop, layers=tuple(layer if x.id == layer.id else x for x in loop.layers))
        if own is None or not (own.parked or self._alone.on):
            return loop
        bars = flips.bars_of(flips.flip_in(loop, layer.id), loop)
        return replace(flips.heard_with(loop, layer.id), bars=max(bars, loop.bars))

    def _show_wave(self, layer: Layer) -> None:
        """Measure the print's loudness beside the interface, where it is another."""
        loop = self._session.loop
        laying = layer_laying(loop, layer)
        if laying == self._wave_of:
            return
        self._wave_of = laying
        clips = self._session.clips
        fitting = laying.fitting
        frames = loop.clock.frames(layer.flipped.length_ticks) if layer.flipped else 1

        def work(_stale: object, _moved: object) -> NDArray[np.float32]:
            audio = made_of(fitting, clips)[:, fitting.origin : fitting.origin + frames]
            return wave_of(audio, WAVE_COLUMNS)

        def failed(error: Exception) -> None:
            self._wave_of = None
            if not isinstance(error, Cancelled):
                self._session.say(error_words(error))

        self._tasks.run("the flip's picture", work, self.threads.show_wave, failed)

    def show_place(self, share: float) -> None:
        """Follow the sound."""
        self.threads.show_place(share, self._session.hearing.shown.ticks)
        if self.threads.model is not None:
            self.ruler.show_x(self.threads.place_x)

    def focus_first(self) -> None:
        """Take the focus to the picture."""
        (self.threads if self.flips() else self.lead.first).setFocus()

    def showEvent(self, _event: QShowEvent | None) -> None:
        chosen = self._session.selection.layer_id
        if any(layer.id == chosen for layer in self.flips()):
            self._layer_id = chosen
        self._show()
        self._hear_parked()

    def hideEvent(self, _event: QHideEvent | None) -> None:
        self._alone.end()
        self.compare.release()
