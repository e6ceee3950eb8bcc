"""The Touch page: how the chord is played, where it differs from its layer."""

from functools import partial

from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.parts import heading, label
from cloudrift.desktop.kit.rows import row, small
from cloudrift.desktop.stages.chords.moves import Moves
from cloudrift.desktop.stages.chords.pages import Page
from cloudrift.ground.settings import Value
from cloudrift.loop.edits.chords import chord_time
from cloudrift.loop.model.loop import Chord
from cloudrift.notes.fields import CHORD_TOUCH, Described


class TouchPage(Page):
    """Roll, drift, spread, length, and the variation after them."""

    def __init__(self, moves: Moves) -> None:
        super().__init__(moves)
        self.whose = label("", size=11.5, name="soft", wrap=True)
        self.fields: dict[str, FieldWidget] = {}
        self.put(heading("Touch of this chord"), self.whose)
        for one in CHORD_TOUCH:
            widget = FieldWidget(one.field, one.field.default)
            widget.edited.connect(partial(self._put, one))
            widget.settled.connect(self._settled)
            self.fields[one.name] = widget
            self.put(widget)
        self.variation = label("", size=11.5, name="soft")
        self.put(
            self.variation,
            row(
                [
                    small("Re-roll touch", self._reroll, "Another variation"),
                    small("Straight", self._straight, "No roll, no drift, no spread"),
                ]
            ),
            row([small("Same as its layer", self._as_layer, "Drop its own touch")]),
        )

    def _put(self, one: Described, value: Value) -> None:
        ids = self.moves.ids
        self.session.apply(
            "touch of a chord",
            lambda loop: chord_time.set_chord_touch(loop, ids, **{one.name: one.kept(value)}),
            merge=f"touch {one.name}",
        )

    def _settled(self) -> None:
        self.session.end_drag()

    def _reroll(self) -> None:
        ids = self.moves.ids
        self.moves.apply("re-roll touch", lambda loop: chord_time.reroll_touch(loop, ids))

    def _straight(self) -> None:
        ids = self.moves.ids
        self.moves.apply("play straight", lambda loop: chord_time.straight(loop, ids))

    def _as_layer(self) -> None:
        ids = self.moves.ids
        self.moves.apply("touch as its layer", lambda loop: chord_time.as_layer(loop, ids))

    def show_chord(self, chord: Chord) -> None:
        loop = self.session.loop
        touch = chord_time.touch_of(loop, chord.id)
        for one in CHORD_TOUCH:
            self.fields[one.name].set_value(one.shown(getattr(touch, one.name)))
        striker = loop.striker
        layer = striker.name if striker else "its layer"
        self.whose.setText(
            "its own" if chord.touch is not None else f"same as {layer}; a change makes it its own"
        )
        self.variation.setText(f"variation {touch.variation}")
