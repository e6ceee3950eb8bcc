"""The right-hand panel: what the flip sounds in, its pitch and tempo, scattering, each piece."""

from collections.abc import Callable
from functools import partial
from typing import Any

from msgspec.structs import replace
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QWidget

from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.flow import flow
from cloudrift.desktop.kit.own_words import why
from cloudrift.desktop.kit.parts import ChoiceRow, Inspector, button, heading, label, row_of_heading
from cloudrift.desktop.kit.trying import Trying
from cloudrift.desktop.session.hearing.preview import Preview
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.printing import Printing
from cloudrift.desktop.stages.flip.piece_fields import (
    FOLLOWS,
    ON,
    PIECE,
    SCATTER,
    STAYS,
    WHOLE,
    clean_words,
    stretch_words,
)
from cloudrift.desktop.stages.flip.print_parts import PrintParts
from cloudrift.ground.draws import MAX_VARIATION
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.settings import Field, Value
from cloudrift.ground.words import plural
from cloudrift.loop.edits.flip import flipping, flips, ordering
from cloudrift.loop.edits.flip.apart import own_document
from cloudrift.loop.edits.flip.scatter import Rules, scattered
from cloudrift.loop.edits.layers import recordings
from cloudrift.loop.model.flip import Flipped, SlicePlacement
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.loop.model.recorded import FromRecording
from cloudrift.loop.sounding import key_heard
from cloudrift.notes.time import TICKS_PER_QUARTER, bar_ticks

Edit = Callable[..., None]


class Result(Inspector):
    """Fields of a flip: of the whole, of a scatter, of the chosen piece or of all."""

    apart_wanted = pyqtSignal(object)  # Document

    def __init__(
        self, session: Session, edit: Edit, layer: Callable[[], Layer | None], printing: Printing
    ) -> None:
        """``edit`` changes the flip that ``layer`` shows; ``printing`` knows its print."""
        super().__init__()
        self._session, self._edit, self._layer, self._kept = session, edit, layer, printing.kept
        self._at = 0
        self._all = False
        self._dragged_from: Flipped | None = None  # what the length is being changed of
        self._scatter = Preview(session.hearing.previews, self)
        self._scatter.ended.connect(self._show_scatter)
        self.use = button("Use as a layer", self.use_it, name="strong", tip="Plays as a layer")
        self.instead = button(
            "Use instead",
            self.use_instead,
            tip="Plays instead of the layers it was printed from, which are turned off",
        )
        self._pair(self.use, self.instead)
        self.apart = button(
            "Open as a new loop",
            self.open_apart,
            tip="A new loop in the sounding key and tempo, whose chords are those that sound now",
        )
        self.body.addWidget(self.apart)
        self.bass = button(
            "Low cut and new bass",
            self.put_bass,
            tip="Cuts its lows and adds a bass on the roots that sound now",
        )
        Trying(self.bass, session, self._with_bass, "with a new bass")
        self.body.addWidget(self.bass)
        self.whole = self._add("Pitch and tempo", WHOLE, self._set_whole)
        self.whole["bars"].settled.connect(self._end_drag)
        self.fit = ChoiceRow(
            [("tempo", "keep pitch"), ("tape", "like tape")], columns=2, name="To the tempo"
        )
        self.fit.button("tempo").setToolTip("To the loop's tempo, keeping the pitch")
        self.fit.button("tape").setToolTip("To the loop's tempo like tape: the pitch changes too")
        self.fit.chosen.connect(self._set_fit)
        self.body.addWidget(self.fit)
        self.parts = PrintParts(session, printing)
        self.body.addWidget(self.parts)
        self.body.addWidget(row_of_heading("Scatter", why("scatter")))
        self.another = button(
            "Another variation", self.another_variation, tip="Suggest and play another order"
        )
        self.keep = button("Keep this", self.keep_scatter, tip="Keep the pieces in this order")
        self._pair(self.another, self.keep)
        self.rules = self._add("", SCATTER, self._set_rule)
        self.body.addWidget(row_of_heading("All pieces", why("piece")))
        self.one = ChoiceRow([(False, "selected piece"), (True, "all")], columns=2, name="Pieces")
        self.one.chosen.connect(self._choose_all)
        self.one.show_choice(False)
        self.body.addWidget(self.one)
        self.piece_says = label("", size=11.5, name="signal", wrap=True)
        self.body.addWidget(self.piece_says)
        self.piece = self._add("", PIECE, self._set_piece)
        self.body.addStretch(1)

    def _add(
        self, title: str, fields: dict[str, Field], act: Callable[[str, Any], None]
    ) -> dict[str, FieldWidget]:
        if title:
            self.body.addWidget(heading(title))
        made = {}
        for name, field in fields.items():
            widget = FieldWidget(field, field.default)
            widget.edited.connect(partial(act, name))
            widget.settled.connect(self._session.end_drag)
            self.body.addWidget(widget)
            made[name] = widget
        return made

    def _pair(self, one: QWidget, other: QWidget) -> None:
        self.body.addWidget(flow(one, other, even=True))

    # --- the whole ----------------------------------------------------------------------------

    def _set_whole(self, name: str, value: Value) -> None:
        if name == "bars":
            self._set_bars(round(float(value)))
            return
        now: Any = value == STAYS if name == "hold_vowels" else float(value)
        self._record(
            f"flip: {WHOLE[name].label.lower()}", merge=f"flip {name}", moving=True, **{name: now}
        )

    def _set_bars(self, bars: int) -> None:
        metre, layer = self._session.loop.metre, self._layer()
        if self._dragged_from is None and layer is not None:
            self._dragged_from = layer.flipped

        def edit(flip: Flipped) -> Flipped:
            # What a drag passes through leaves no rounding behind.
            return ordering.in_bars(self._dragged_from or flip, bars, metre)

        self._edit(f"lay over {plural(bars, 'bar')}", edit, merge="flip bars", moving=True)

    def _end_drag(self) -> None:
        self._dragged_from = None

    def _set_fit(self, fit: object) -> None:
        self._record("flip: to the tempo", fit=fit)

    def _record(self, words: str, *, merge: str = "", moving: bool = False, **changes: Any) -> None:
        layer = self._layer()
        if layer is not None:
            self._session.apply(
                words,
                lambda loop: recordings.set_recording(loop, layer.id, **changes),
                merge=merge,
                moving=moving,
            )

    # --- scatter ------------------------------------------------------------------------------

    @property
    def scatter_rules(self) -> Rules:
        """The rules as they are set."""
        values: dict[str, Any] = {name: widget.value for name, widget in self.rules.items()}
        values |= {name: values[name] == ON for name in ("downbeats", "order")}
        return Rules(**(values | {"variation": round(values["variation"])}))

    def _set_rule(self, _name: str, _value: Value) -> None:
        self._hear_scatter()

    def _scattered(self, loop: Loop) -> Loop:
        layer = self._layer()
        assert layer is not None
        rules, bar = self.scatter_rules, bar_ticks(loop.metre)
        return flips.with_flip(loop, layer.id, lambda flip: scattered(flip, rules, bar))

    def _hear_scatter(self) -> None:
        layer = self._layer()
        if layer is None:
            return

        def edit(loop: Loop) -> Loop:
            made = self._scattered(loop)
            return flips.soloed(made, layer.id) if layer.parked else made

        self._scatter.put(edit, f"scattered, variation {self.scatter_rules.variation}")
        self._show_scatter()

    def another_variation(self) -> None:
        """Hear another variation."""
        variation = self.rules["variation"]
        variation.set_value(float((round(float(variation.value)) + 1) % MAX_VARIATION))
        self._hear_scatter()

    def keep_scatter(self) -> None:
        """Let the pieces stay as they are heard."""
        rules, bar = self.scatter_rules, bar_ticks(self._session.loop.metre)
        self._scatter.end()
        self._edit(
            f"scatter, variation {rules.variation}", lambda flip: scattered(flip, rules, bar)
        )

    def _show_scatter(self) -> None:
        self.keep.setEnabled(self._scatter.on)

    # --- pieces -------------------------------------------------------------------------------

    def _choose_all(self, all_: object) -> None:
        self._all = bool(all_)

    def _set_piece(self, name: str, value: Value) -> None:
        now: Any = value if isinstance(value, str) else float(value)
        if name in FLAGS:
            now = value == FLAGS[name]
        elif name == "times":
            now = round(float(value))
        elif name == "pan":
            now = float(value) / 100
        at = self._at

        def edit(flip: Flipped) -> Flipped:
            if self._all:
                return flipping.set_all(flip, **{name: now})
            return flipping.set_place(flip, at, **{name: now})

        self._edit(
            f"piece: {PIECE[name].label.lower()}", edit, merge=f"piece {at} {name}", moving=True
        )

    # --- in the loop --------------------------------------------------------------------------

    def use_it(self) -> None:
        """Let it sound among the layers."""
        layer = self._layer()
        if layer is not None and self._session.apply(
            "use a flip", lambda loop: flips.use(loop, layer.id)
        ):
            self._session.say(f"{layer.name} now plays as a layer", good=True)

    def use_instead(self) -> None:
        """Let it sound instead of what it was printed from."""
        layer, kept = self._layer(), self._kept()
        if layer is None or kept is None:
            return
        layers = kept[0].recipe.layers
        if self._session.apply(
            "use a flip instead", lambda loop: flips.use_instead(loop, layer.id, layers)
        ):
            self._session.say(
                f"{layer.name} plays instead; the layers it was printed from are off", good=True
            )

    def open_apart(self) -> None:
        """Ask for it to be opened as a loop of its own."""
        layer = self._layer()
        if layer is None:
            return
        try:
            document = self._session.document.history.now
            self.apart_wanted.emit(own_document(document, layer.id))
        except CloudriftError as error:
            self._session.say(str(error))

    def _with_bass(self, loop: Loop) -> Loop:
        layer = self._layer()
        if layer is None:
            return loop
        made = flips.put_bass(loop, layer.id)
        return flips.heard_with(made, layer.id, made.layers[-1].id) if layer.parked else made

    def put_bass(self) -> None:
        """Take its lows out and lay a bass on what is heard."""
        layer = self._layer()
        if layer is not None and self._session.apply(
            "a new bass", lambda loop: flips.put_bass(loop, layer.id)
        ):
            name = self._session.loop.layers[-1].name
            self._session.say(
                f"{name} follows what sounds in {layer.name}; its lows are cut", good=True
            )

    # --- showing ------------------------------------------------------------------------------

    def show_place(self, at: int) -> None:
        """Show the fields of a place."""
        self._at = at
        layer = self._layer()
        if layer is not None and layer.flipped is not None:
            self._show_piece(layer.flipped)

    def show_layer(self, layer: Layer | None, at: int) -> None:
        """Show a flip, or that there is none."""
        self._at = at
        self.area.setVisible(layer is not None and layer.flipped is not None)
        now = self._layer()
        self.use.setEnabled(now is not None and now.parked)
        flip = layer.flipped if layer else None
        self.instead.setEnabled(flip is not None and bool(flip.print_id))
        self._show_scatter()
        if layer is None or flip is None:
            self.title.setText("No flip yet")
            self.under.setText("Print first")
            return
        self._show_heard(flip.of, layer)
        self.parts.show_flip(flip)
        self.whole["semitones"].set_value(flip.of.semitones)
        bars = flip.length_ticks / bar_ticks(self._session.loop.metre)
        self.whole["bars"].set_value(max(1.0, bars))
        self.whole["hold_vowels"].set_value(STAYS if flip.of.hold_vowels else FOLLOWS)
        self.fit.show_choice(flip.of.fit)
        self._show_piece(flip)

    def _show_heard(self, of: FromRecording, layer: Layer) -> None:
        """What it sounds in: key and tempo where it lies, and how far it is stretched."""
        loop, facts = self._session.loop, of.facts
        tempo, flip = loop.tempo, layer.flipped
        own = flip.own_tempo if flip else facts.tempo
        pace = tempo / own if own else 1.0
        alone = flips.heard_with(loop, layer.id)
        key = key_heard(replace(alone, key=facts.key, chords=())) if facts.key else None
        self.title.setText(key.text if key else layer.name)
        bars = flips.bars_of(flip, loop) if flip else loop.bars
        length_s = bars * bar_ticks(loop.metre) / TICKS_PER_QUARTER * 60 / tempo
        parts = [f"{tempo:.5g} BPM", plural(bars, "bar"), f"{length_s:.2f} s"]
        if of.fit != "tape" and abs(pace - 1) > 0.0005:
            parts.append(f"stretched {1 / pace:.3g} times{clean_words(1 / pace)}")
        if facts.key and key != facts.key:
            parts.append(f"was {facts.key.text}")
        now = self._layer()
        parked = now is not None and now.parked
        of_it = "" if bars <= loop.bars else f"the first {plural(loop.bars, 'bar')} "
        parts.append("plays here alone" if parked else f"{of_it}among the layers")
        self.under.setText(" · ".join(parts))

    def _show_piece(self, flip: Flipped) -> None:
        if not flip.places:
            return
        place: SlicePlacement = flip.places[min(self._at, len(flip.places) - 1)]
        values: dict[str, Value] = {
            "semitones": place.semitones,
            "tape": "like tape" if place.tape else "keep length",
            "level_db": place.level_db,
            "pan": 100 * place.pan,
            "times": float(place.times),
            "level_step_db": place.level_step_db,
            "step_st": place.step_st,
            "fills": "stretched" if place.fills else "rest",
            "decay_ms": place.decay_ms,
            "fade_in_ms": place.fade_in_ms,
            "fade_out_ms": place.fade_out_ms,
        }
        for name, widget in self.piece.items():
            widget.set_value(values[name])
        self.piece_says.setText(stretch_words(place))
        self.piece_says.setVisible(bool(self.piece_says.text()))


FLAGS = {"tape": "like tape", "fills": "stretched"}  # words that stand for yes
