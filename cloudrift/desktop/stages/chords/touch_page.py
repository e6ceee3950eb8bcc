"""The Touch page: how the chord is played, where it differs from its layer."""

from functools import partial

from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.parts import heading, label
from cloudrift.desktop.kit.rows import row, small
from cloudrift.desktop.stages.chords.moves import Moves
from cloudrift.desktop.stages.chords.pages import Page
from cloudrift.ground.settings import Field, Value
from cloudrift.loop import chord_time
from cloudrift.loop.model import Chord

TOPS = ("all", *map(str, range(1, 10)))
FIELDS = (
    Field(name="roll_ms", label="Roll", default=0, unit="ms", low=0, high=400, step=1,
          hint="from its first note to its last"),
    Field(name="direction", label="Direction", default="up", choices=("up", "down")),
    Field(name="top", label="Rolled notes, from the top", default="all", choices=TOPS),
    Field(name="uneven", label="Uneven roll", default=0, unit="%", low=0, high=100, step=1),
    Field(name="drift_ms", label="Timing drift, ±", default=0, unit="ms", low=0, high=60, step=1),
    Field(name="spread", label="Loudness spread, ±", default=0, unit="vel", low=0, high=40, step=1),
    Field(name="length", label="Length", default=100, unit="%", low=5, high=120, step=1),
)  # fmt: skip
SHARES = ("uneven", "length")  # stored as shares, shown in percent


class TouchPage(Page):
    """Roll, drift, spread, length, and the draw behind them."""

    def __init__(self, moves: Moves) -> None:
        super().__init__(moves)
        self.whose = label("", size=11.5, name="soft")
        self.whose.setWordWrap(True)
        self.fields: dict[str, FieldWidget] = {}
        self.put(heading("Touch of this chord"), self.whose)
        for field in FIELDS:
            widget = FieldWidget(field, field.default)
            widget.edited.connect(partial(self._put, field.name))
            widget.settled.connect(self._settled)
            self.fields[field.name] = widget
            self.put(widget)
        self.draw = label("", size=11.5, name="soft")
        self.put(
            self.draw,
            row([small("Re-roll touch", self._reroll, "Another draw"),
                 small("Straight", self._straight, "No roll, no drift, no spread")]),
            row([small("As its layer", self._as_layer, "Give up its own touch")]),
        )  # fmt: skip

    def _put(self, name: str, value: Value) -> None:
        ids = self.moves.ids
        stored: object = value
        if name in SHARES:
            stored = float(value) / 100
        elif name == "top":
            stored = 0 if value == "all" else int(float(value))
        self.session.apply(
            "touch of a chord",
            lambda loop: chord_time.set_chord_touch(loop, ids, **{name: stored}),
            merge=f"touch {name}",
        )

    def _settled(self) -> None:
        self.session.end_drag()
        self.session.hearing.once.edit(self.session.selection.chord_id)

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
        for name, widget in self.fields.items():
            value = getattr(touch, name)
            if name == "top":
                value = TOPS[value]
            widget.set_value(round(value * 100, 1) if name in SHARES else
                             value if isinstance(value, str) else float(value))  # fmt: skip
        striker = loop.striker
        layer = striker.name if striker else "its layer"
        self.whose.setText(
            "its own" if chord.touch is not None else f"as {layer}; a change makes it its own"
        )
        self.draw.setText(f"draw {touch.draw}")
