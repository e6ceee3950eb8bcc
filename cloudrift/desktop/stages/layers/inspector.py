"""The inspector of one layer: lens, sound, touch."""

from collections.abc import Callable
from functools import partial
from typing import get_args

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QLineEdit, QMenu, QPushButton, QWidget

from cloudrift.desktop.kit.asking import ask_for_name
from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.layouts import FLUSH, vertical
from cloudrift.desktop.kit.own_words import why
from cloudrift.desktop.kit.parts import (
    ChoiceRow,
    Inspector,
    WhileShown,
    button,
    clear,
    heading,
    label,
    row_of_heading,
    small_button,
)
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.stages.layers.recording_page import RecordingPage
from cloudrift.ground.settings import Field, Value
from cloudrift.ground.words import MOST_NAME, plural
from cloudrift.loop.edits.chords import chord_time
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.loop.model.source import STRIKING
from cloudrift.loop.sounding import notes_of
from cloudrift.notes import fields
from cloudrift.notes.lens import KINDS
from cloudrift.notes.time import bar_ticks
from cloudrift.sound import CATALOGUE
from cloudrift.sound.instrument import Role
from cloudrift.sound.own import with_settings

TURNS = ("parked", "every bar", "every 2nd bar", "every 4th bar")
TURN_BARS = dict(zip(TURNS, (0, 1, 2, 4), strict=True))
TURN = Field(name="every_bars", label="Alternates", default=TURNS[0], choices=TURNS)
ROLE = Field(name="role", label="Role", default="keys", choices=get_args(Role))


class LayerInspector(Inspector):
    """Rebuilt when another layer, lens kind or sound is chosen; else only its values follow."""

    keep_wanted = pyqtSignal(object)  # an OwnSound: the layer's sound as it is set
    shelf_wanted = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._built: tuple[object, ...] | None = None
        self.name = QLineEdit()
        self.name.setMaxLength(MOST_NAME)
        self.acts: dict[str, QPushButton] = {}
        self.fields: dict[str, FieldWidget] = {}
        self.recording: RecordingPage | None = None  # where the layer is one
        self.lens = ChoiceRow([(k, k) for k in KINDS], columns=3, name="Lens")
        self.sound = QPushButton()
        WhileShown(self, self._show, session.changed, session.opened, session.selected)
        self._show()

    def _layer(self) -> Layer | None:
        layer_id = self._session.selection.layer_id
        return self._session.loop.layer(layer_id) if layer_id else None

    def _show(self) -> None:
        layer = self._layer()
        if layer is None:
            clear(self.body)
            self._built, self.fields, self.acts = None, {}, {}
            self.title.setText("No layer")
            self.under.setText("Add a layer: it follows the chords at once.")
            return
        self.title.setText(layer.name)
        loop = self._session.loop
        notes = f"{layer.source.text} · {plural(len(notes_of(loop, layer)), 'note')}"
        if layer.recorded is not None:
            notes = layer.source.text
        elif not layer.follows:
            notes = "detached: lens and touch are off"
        self.under.setText(notes)
        group = loop.group(layer.group).name if layer.group else ""
        if layer.recorded is not None:
            self._show_recording(layer, group)
            return
        source = layer.played
        striking = source.lens.kind in STRIKING
        own = sum(chord.touch is not None for chord in loop.chords) if striking else 0
        built_of = (layer.id, source.lens.kind, source.sound.name, source.sound.version,
                  layer.parked, layer.role, layer.name, layer.follows, group, own,
                  source.other and source.other.use.name)  # fmt: skip
        if built_of != self._built:
            self._build(layer, own)
            self._built = built_of
        self.lens.show_choice(layer.played.lens.kind)
        for name, value in self._values(layer).items():
            self.fields[name].set_value(value)

    def _values(self, layer: Layer) -> dict[str, Value]:
        loop = self._session.loop
        source, bar = layer.played, bar_ticks(loop.metre)
        lens = {
            f"lens {one.name}": fields.lens_shown(source.lens, one, loop.bars, bar)
            for one in fields.of_lens(source.lens.kind)
        }
        touch = {
            f"touch {one.name}": one.shown(getattr(source.touch, one.name)) for one in fields.TOUCH
        }
        full = layer.played.sound.of.spec.full(layer.played.sound.settings)
        sound = {f"sound {f.name}": full[f.name] for f in layer.played.sound.fields}
        values: dict[str, Value] = sound | {"layer role": layer.role}
        if layer.follows:
            values |= lens | touch
        if layer.played.other:
            bars = layer.played.other.every_bars
            values["other every_bars"] = next(
                (t for t, n in TURN_BARS.items() if n == bars), TURNS[0]
            )
        return values

    def _own_touches(self, count: int) -> QWidget:
        """Say that some chords are not played by this touch, and offer that they be."""
        holder = QWidget()
        column = vertical(holder, FLUSH)
        words = label(
            f"{plural(count, 'chord')} {'has' if count == 1 else 'have'} a touch of "
            f"{'its' if count == 1 else 'their'} own and keep{'s' * (count == 1)} it.",
            size=11.5,
            name="signal",
            wrap=True,
        )
        column.addWidget(words)
        self.give_up = button(
            "Play them as the layer",
            lambda: self._session.apply(
                "touch as its layer",
                lambda loop: chord_time.as_layer(loop, [c.id for c in loop.chords]),
            ),
        )
        column.addWidget(self.give_up)
        return holder

    def _show_recording(self, layer: Layer, group: str) -> None:
        loop = self._session.loop
        wanted = ("recording", layer.id, layer.parked, layer.role, layer.name, group, loop.bars,
                  loop.metre)  # fmt: skip
        if wanted != self._built:
            clear(self.body)
            self.fields = {}
            self.recording = RecordingPage(self._session, layer.id)
            self.body.addWidget(self.recording)
            self._build_itself(layer, {"layer role": layer.role})
            self._built = wanted
        assert self.recording is not None
        self.recording.show_layer(layer)
        self.fields["layer role"].set_value(layer.role)

    def _build(self, layer: Layer, own: int) -> None:
        hands: dict[str, QWidget] = {**self.fields, **self.acts}
        had_focus = next((n for n, w in hands.items() if w.hasFocus()), "")
        clear(self.body)
        self.fields = {}
        values = self._values(layer)
        self.lens = ChoiceRow([(k, k) for k in KINDS], columns=3, name="Lens")
        self.lens.chosen.connect(
            lambda kind: self._session.apply(
                f"lens {kind}", lambda loop: layer_edits.set_lens(loop, layer.id, kind=kind)
            )
        )
        if layer.follows:
            self.body.addWidget(row_of_heading("Lens: what it plays of the chords", why("lens")))
            self.body.addWidget(self.lens)
            for one in fields.of_lens(layer.played.lens.kind):
                self._add(f"lens {one.name}", one.field, values, layer)
        self.keep = small_button(
            "Save sound…",
            self._keep_sound,
            tip="Save this sound with its settings, under a new name",
        )
        self.body.addWidget(row_of_heading("Sound", self.keep))
        self._add_sound_choice(layer)
        for field in layer.played.sound.fields:
            self._add(f"sound {field.name}", field, values, layer)
        self._add_other(layer, values)
        if layer.follows:
            self.body.addWidget(row_of_heading("Touch: how it is played", why("touch")))
            if own:
                self.body.addWidget(self._own_touches(own))
            for one in fields.TOUCH:
                self._add(f"touch {one.name}", one.field, values, layer)
            self.body.addWidget(
                button("Another variation of the touch", lambda: self._redraw(layer.id))
            )
        self._build_itself(layer, values)
        hands = {**self.fields, **self.acts}
        if had_focus in hands:
            hands[had_focus].setFocus()

    def _build_itself(self, layer: Layer, values: dict[str, Value]) -> None:
        """What any layer has, wherever its sound is from."""
        self.body.addWidget(heading("Layer"))
        self.body.addWidget(self._name_line(layer))
        self._add("layer role", ROLE, values, layer)
        self.body.addWidget(self._group_choice(layer))
        if layer.group:
            self.body.addWidget(self._group_name_line(layer.group))
        self.body.addWidget(self._acts(layer))
        self.body.addStretch(1)

    def _keep_sound(self) -> None:
        layer = self._session.loop.layer(self._session.selection.layer_id)
        name = ask_for_name(self, "Save the sound", "Name of the sound", layer.name)
        if name:
            use = layer.played.sound
            self.keep_wanted.emit(with_settings(name, use.own, use.of, use.settings))

    def _add_sound_choice(self, layer: Layer) -> None:
        sound = layer.played.sound.of
        kind = sound.family if layer.played.sound.known else "unknown"
        self.sound = button(
            f"{sound.label}  ·  {kind}",
            self.shelf_wanted.emit,
            tip="Find another on the shelf (F4)",
        )
        self.body.addWidget(self.sound)
        about = label(
            sound.about, size=11.5, name="soft" if layer.played.sound.known else "signal", wrap=True
        )
        self.body.addWidget(about)
        house = None if layer.played.sound.own else CATALOGUE.get(sound.name)
        if house is not None and sound.version != house.version:
            self.body.addWidget(
                button(
                    f"Design {sound.version}; use the newest, {house.version}",
                    lambda: self._renew(layer.id),
                    name="link",
                )
            )

    def _add_other(self, layer: Layer, values: dict[str, Value]) -> None:
        """The second sound: swapped with the first, or in turn with it."""
        if layer.played.other is None:
            self.body.addWidget(
                button(
                    "Compare with another sound…",
                    self.shelf_wanted.emit,
                    tip="Choose one on the shelf, then switch between the two, or let them "
                    "alternate",
                )
            )
            return
        name = layer.played.other.use.of.label
        self.swap = button(
            f"Swap with {name}",
            lambda: self._act_on_other(layer.id, swap=True),
            tip="Play the other one instead",
        )
        self.body.addWidget(self.swap)
        self._add("other every_bars", TURN, values, layer)
        self.body.addWidget(
            button(f"Remove {name}", lambda: self._act_on_other(layer.id, swap=False), name="link")
        )

    def _act_on_other(self, layer_id: str, *, swap: bool) -> None:
        if swap:
            self._session.apply("swap sounds", lambda loop: layer_edits.swap_sounds(loop, layer_id))
        else:
            self._session.apply(
                "remove a sound", lambda loop: layer_edits.set_source(loop, layer_id, other=None)
            )

    def _group_choice(self, layer: Layer) -> QPushButton:
        """Which group it is in, and the others that it could be in."""
        loop = self._session.loop
        name = loop.group(layer.group).name if layer.group else "none"
        made = QPushButton(f"Group: {name}")
        made.setToolTip("Layers of a group share a treatment line after their own")
        menu = QMenu(made)
        menu.aboutToShow.connect(lambda: self._fill_groups(menu, layer.id))
        made.setMenu(menu)
        self.group = made
        return made

    def _group_name_line(self, group_id: str) -> QLineEdit:
        line = QLineEdit(self._session.loop.group(group_id).name)
        line.setMaxLength(MOST_NAME)
        line.setAccessibleName("Name of the group")

        def rename() -> None:
            name = " ".join(line.text().split())
            if name != self._session.loop.group(group_id).name:
                self._session.apply(
                    "rename a group", lambda loop: layer_edits.set_group(loop, group_id, name=name)
                )

        line.editingFinished.connect(rename)
        self.group_name = line
        return line

    def _fill_groups(self, menu: QMenu, layer_id: str) -> None:
        menu.clear()
        loop = self._session.loop
        layer = loop.layer(layer_id)
        for group in loop.groups:
            if group.id != layer.group:
                self._choice(
                    menu,
                    f"Into {group.name}",
                    partial(layer_edits.put_in_group, layer_id=layer_id, group_id=group.id),
                )
        for other in loop.layers:
            if other.id != layer_id and not other.group:
                self._choice(
                    menu,
                    f"New group with {other.name}",
                    partial(layer_edits.group_layers, layer_ids=(layer_id, other.id)),
                )
        if layer.group:
            self._choice(
                menu,
                "Leave its group",
                partial(layer_edits.put_in_group, layer_id=layer_id, group_id=""),
            )

    def _choice(self, menu: QMenu, words: str, edit: Callable[[Loop], Loop]) -> None:
        action = menu.addAction(words)
        assert action is not None
        action.triggered.connect(lambda _c=False: self._session.apply("group", edit))

    def _renew(self, layer_id: str) -> None:
        self._session.apply(
            "newest design", lambda loop: layer_edits.use_newest_design(loop, layer_id)
        )

    def _name_line(self, layer: Layer) -> QLineEdit:
        self.name = QLineEdit(layer.name)
        self.name.setMaxLength(MOST_NAME)
        self.name.setAccessibleName("Name")
        self.name.editingFinished.connect(lambda: self._rename(layer.id))
        return self.name

    def _rename(self, layer_id: str) -> None:
        name = " ".join(self.name.text().split())
        if name != self._session.loop.layer(layer_id).name:
            self._session.apply(
                "rename a layer", lambda loop: layer_edits.set_layer(loop, layer_id, name=name)
            )
        self.name.setText(self._session.loop.layer(layer_id).name)

    def _acts(self, layer: Layer) -> QWidget:
        """What is done with a layer as a whole."""
        holder = QWidget()
        grid = QGridLayout(holder)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(4)
        one = layer.id
        acts: tuple[tuple[str, str, Callable[[Loop], Loop]], ...] = (
            ("Up", "Move up", lambda loop: layer_edits.move_layer(loop, one, -1)),
            ("Down", "Move down", lambda loop: layer_edits.move_layer(loop, one, 1)),
            ("Duplicate", "Duplicate it below", lambda loop: layer_edits.copy_layer(loop, one)),
            (
                "Twin",
                "The same notes without treatments, panned to the other side",
                lambda loop: layer_edits.copy_layer(loop, one, twin=True),
            ),
            (
                "Turn on" if layer.parked else "Turn off",
                "Keep it in the list, silent",
                lambda loop: layer_edits.set_layer(loop, one, parked=not loop.layer(one).parked),
            ),
            ("Remove", "Undo restores it", lambda loop: layer_edits.remove_layer(loop, one)),
        )
        self.acts = {}
        for i, (words, tip, edit) in enumerate(acts):
            made = button(words, partial(self._act, words, edit), tip=tip)
            self.acts[words] = made
            grid.addWidget(made, i // 3, i % 3)
        return holder

    def _act(self, words: str, edit: Callable[[Loop], Loop]) -> None:
        before = {layer.id for layer in self._session.loop.layers}
        if self._session.apply(f"{words.lower()} a layer", edit):
            new = [x.id for x in self._session.loop.layers if x.id not in before]
            if new:
                self._session.select(layer_id=new[0])

    def _add(self, name: str, field: Field, values: dict[str, Value], layer: Layer) -> None:
        widget = FieldWidget(field, values[name], accent=layer.role)
        widget.edited.connect(lambda value, n=name: self._edit(layer.id, n, value))
        widget.settled.connect(self._session.end_drag)
        self.fields[name] = widget
        self.body.addWidget(widget)

    def _edit(self, layer_id: str, name: str, value: Value) -> None:
        part, setting = name.split(" ", 1)
        merge = f"{layer_id} {name}"
        if part == "sound":
            self._session.apply(
                self.fields[name].spec.label.lower(),
                lambda loop: layer_edits.set_sound_setting(loop, layer_id, setting, value),
                merge=merge,
            )
            return
        if part == "other":
            bars = TURN_BARS[str(value)]
            self._session.apply(
                "alternate sounds", lambda p: layer_edits.take_turns(p, layer_id, bars)
            )
            return
        if value in (fields.CHOSEN, fields.CHOSEN_PLACES):
            self._show()  # such places are drawn, not chosen
            return
        if part == "layer":
            self._session.apply(
                "recolour", lambda loop: layer_edits.set_layer(loop, layer_id, role=value)
            )
            return
        lens = self._session.loop.layer(layer_id).played.lens
        among = fields.of_lens(lens.kind) if part == "lens" else fields.TOUCH
        one = next(one for one in among if one.name == setting)

        def edit(loop: Loop) -> Loop:
            kept = fields.lens_kept(one, value, loop.bars, bar_ticks(loop.metre))
            change = layer_edits.set_lens if part == "lens" else layer_edits.set_touch
            return change(loop, layer_id, **{setting: kept})

        self._session.apply(one.field.label.lower(), edit, merge=merge)

    def _redraw(self, layer_id: str) -> None:
        variation = self._session.loop.layer(layer_id).played.touch.variation % 999 + 1
        self._session.apply(
            "another variation of the touch",
            lambda loop: layer_edits.set_touch(loop, layer_id, variation=variation),
        )
