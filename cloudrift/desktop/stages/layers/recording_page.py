"""A recording in the inspector: what it is, how it comes into the loop, and where it lies."""

import time
from collections.abc import Callable
from functools import partial
from typing import Any

from PyQt6.QtCore import QSignalBlocker
from PyQt6.QtWidgets import QLineEdit, QPushButton, QWidget

from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.flow import Flow
from cloudrift.desktop.kit.layouts import FLUSH, horizontal, vertical
from cloudrift.desktop.kit.parts import ChoiceRow, button, clear, heading, label, small_button
from cloudrift.desktop.kit.trying import Trying
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.stages.layers.recording_model import ways_words
from cloudrift.ground.settings import Field, Value
from cloudrift.ground.words import MOST_NAME, number
from cloudrift.loop.edits.layers import recordings
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.loop.model.recorded import FITS, KINDS, MOST_SEMITONES, FromRecording
from cloudrift.loop.sounding import key_of_layers
from cloudrift.notes.time import TICKS_PER_QUARTER, bar_ticks
from cloudrift.render.plan.plan import layer_laying
from cloudrift.theory.fit import plain_key
from cloudrift.theory.key import Key

NO_KEY = "unknown"
KEYS = {
    key.text: key
    for mode in ("minor", "major")
    for key in (plain_key(pc, mode) for pc in range(12))
}
TURNS = {"once": 0, "every bar": 1, "every 2nd bar": 2, "every 4th bar": 4, "every 8th bar": 8}
FOLLOWS, STAYS = "follow", "preserve"
TAP_GAP_S = 2.5  # after a longer pause, tapping begins again
LEAST_TAPS = 4
LEAST_S = 0.05  # of a recording that is heard
LEAST_BPM = 20.0

OWN = {
    f.name: f
    for f in (
        Field(name="kind", label="Is a", default="phrase", choices=KINDS),
        Field(
            name="tempo",
            label="Own tempo",
            default=0,
            unit="BPM",
            low=0,
            high=300,
            step=0.1,
            off_low=True,
            hint="0: it has none",
        ),
        Field(name="key", label="Own key", default=NO_KEY, choices=(NO_KEY, *KEYS)),
    )
}
SHIFT = {
    f.name: f
    for f in (
        Field(
            name="semitones",
            label="Shift",
            default=0,
            unit="st",
            low=-MOST_SEMITONES,
            high=MOST_SEMITONES,
        ),
        Field(name="cents", label="Fine", default=0, unit="cents", low=-50, high=50),
        Field(name="vowels", label="Formants", default=FOLLOWS, choices=(FOLLOWS, STAYS)),
        Field(name="pull", label="Pull", default=100, unit="%", low=0, high=100),
    )
}


class RecordingPage(QWidget):
    """The fields of one recording; built once for a layer, its values follow."""

    def __init__(self, session: Session, layer_id: str) -> None:
        super().__init__()
        self._session, self._layer_id = session, layer_id
        self._taps: list[float] = []
        self.fields: dict[str, FieldWidget] = {}
        self.ways: list[QPushButton] = []
        self._ways_of: tuple[object, ...] = ()
        self.body = vertical(self, FLUSH, 5)
        self._build_fit()
        self._build_place()
        self._build_own()
        self.show_layer(session.loop.layer(layer_id))

    # --- building -----------------------------------------------------------------------------

    def _build_fit(self) -> None:
        self.body.addWidget(heading("Into the loop"))
        self.into = label("", size=11.5, name="soft", wrap=True)
        self.body.addWidget(self.into)
        holder = QWidget()
        self._ways = Flow(holder)
        self.body.addWidget(holder)
        for name in ("semitones", "cents", "vowels"):
            self._add(SHIFT[name])
        self.fit = ChoiceRow([(fit, fit) for fit in FITS], columns=4, name="Fit to the tempo")
        self.fit.chosen.connect(self._set_fit)
        for fit, tip in (
            ("as it is", "At its own speed"),
            ("tempo", "To the loop's tempo, keeping the pitch"),
            ("tape", "To the loop's tempo like tape: the pitch changes too"),
            ("beats", "Each of its beats to the loop's beats"),
        ):
            self.fit.button(fit).setToolTip(tip)
        self.body.addWidget(self.fit)
        self._add(SHIFT["pull"])

    def _build_place(self) -> None:
        self.body.addWidget(heading("Place"))
        loop = self._session.loop
        beats = loop.metre[0] * 4 / loop.metre[1]
        length = loop.layer(self._layer_id).recorded
        assert length is not None
        seconds = length.facts.length_s
        for field in (
            Field(name="bar", label="In bar", default=1, low=1, high=loop.bars),
            Field(name="beat", label="On beat", default=1, low=1, high=beats + 0.75, step=0.25),
            Field(name="again", label="Repeats", default="once", choices=tuple(TURNS)),
            Field(
                name="first_s", label="From", default=0, unit="s", low=0, high=seconds, step=0.01
            ),
            Field(
                name="last_s", label="To", default=seconds, unit="s", low=0, high=seconds, step=0.01
            ),
            Field(name="gain_db", label="Gain", default=0, unit="dB", low=-40, high=60, step=0.5),
        ):
            self._add(field)

    def _build_own(self) -> None:
        self.body.addWidget(heading("The recording"))
        self.second = button("", self._take_second, name="link")
        for field in OWN.values():
            self._add(field)
            if field.name == "tempo":
                self.body.addWidget(self._tempo_line())
        self.body.addWidget(self.second)
        self.licence = QLineEdit()
        self.maker = QLineEdit()
        for line, name, words in (
            (self.maker, "maker", "Author"),
            (self.licence, "licence", "Licence"),
        ):
            line.setMaxLength(MOST_NAME)
            line.setAccessibleName(words)
            line.setPlaceholderText(words)
            line.editingFinished.connect(partial(self._set_words, line, name))
            self.body.addWidget(line)
        self.origin = label("", size=11.5, name="soft", wrap=True)
        self.body.addWidget(self.origin)

    def _tempo_line(self) -> QWidget:
        holder = QWidget()
        line = horizontal(holder, FLUSH, 4)
        half = partial(self._do, "half as fast", recordings.half_as_fast)
        self.half = small_button("Half", half, tip="Count it as half the tempo")
        twice = partial(self._do, "twice as fast", recordings.twice_as_fast)
        self.double = small_button("Double", twice, tip="Count it as twice the tempo")
        self.tap = small_button(
            "Tap", self._tap, tip="Click on its beats, four times or more, while it plays"
        )
        for one in (self.half, self.double, self.tap):
            line.addWidget(one)
        line.addStretch(1)
        return holder

    def _add(self, field: Field) -> None:
        role = self._session.loop.layer(self._layer_id).role
        widget = FieldWidget(field, field.default, accent=role)
        widget.edited.connect(partial(self._edit, field.name))
        widget.settled.connect(self._session.end_drag)
        self.fields[field.name] = widget
        self.body.addWidget(widget)

    # --- showing ------------------------------------------------------------------------------

    def show_layer(self, layer: Layer) -> None:
        """Show its values."""
        source, loop = layer.recorded, self._session.loop
        if source is None:
            return
        for name, value in self._values(source, loop).items():
            self.fields[name].set_value(value)
        self.fit.show_choice(source.fit)
        self.fields["pull"].setVisible(source.fit == "beats")
        goes = layer_laying(loop, layer).fitting.goes
        self.fields["vowels"].setEnabled(abs(goes) > 0.005)
        self.fields["vowels"].setToolTip(
            "" if goes else "Its pitch does not change, so neither do its formants"
        )
        for name in ("again", "first_s", "last_s"):  # places say that of what is cut up
            self.fields[name].setEnabled(layer.flipped is None)
            self.fields[name].setToolTip("Its pieces are in Flip" if layer.flipped else "")
        self._show_ways(source, loop)
        facts = source.facts
        for line, words in ((self.maker, facts.maker), (self.licence, facts.licence)):
            if not line.hasFocus():
                with QSignalBlocker(line):
                    line.setText(words)
        self.origin.setText(f"From {facts.origin}" if facts.origin else "")
        self.second.setVisible(facts.second_key is not None and facts.second_key != facts.key)
        if facts.second_key is not None:
            self.second.setText(f"Or is it {facts.second_key.text}?")
        known = bool(facts.tempo)
        for one in (self.half, self.double, *(self.fit.button(x) for x in ("tempo", "tape"))):
            one.setEnabled(known)
        self.fit.button("beats").setEnabled(len(facts.beats_s) > 1)

    def _values(self, source: FromRecording, loop: Loop) -> dict[str, Value]:
        whole = round(source.semitones)
        bar, rest = divmod(source.at_tick, bar_ticks(loop.metre))
        turn = next((words for words, n in TURNS.items() if n == source.every_bars), "once")
        key = source.facts.key
        return {
            "semitones": float(whole), "cents": round((source.semitones - whole) * 100),
            "vowels": STAYS if source.hold_vowels else FOLLOWS, "pull": source.pull * 100,
            "bar": float(bar + 1), "beat": 1 + rest / TICKS_PER_QUARTER, "again": turn,
            "first_s": source.first_s, "last_s": source.end_s, "gain_db": source.gain_db,
            "kind": source.facts.kind, "tempo": source.facts.tempo,
            "key": self._key_words(key),
        }  # fmt: skip

    @staticmethod
    def _key_words(key: Key | None) -> str:
        if key is None:
            return NO_KEY
        same = (text for text, one in KEYS.items() if (one.pc, one.mode) == (key.pc, key.mode))
        return next(same, key.text)

    def _show_ways(self, source: FromRecording, loop: Loop) -> None:
        """Both ways into the key, each to be heard before it is taken."""
        key, facts = key_of_layers(loop), source.facts
        ways = recordings.ways_into(source, key, loop.tempo)
        wanted = (ways, source.semitones, key, facts.key, facts.pitch)
        if wanted == self._ways_of:
            return
        self._ways_of = wanted
        clear(self._ways)
        self.ways = []
        own = facts.key
        if not ways:
            self.into.setText("Its key is unknown: shift it by ear, or enter the key below.")
            return
        there = recordings.is_in_key(source, key, loop.tempo)
        name = own.text if own else f"its note, {key.spell_pitch(round(facts.pitch))},"
        named = (key.pc, key.mode)
        same = own is not None and ways == (0,) and (own.pc, own.mode) != named
        words = f"{name} into {key.text}: "
        if same:
            words = f"{name} has the notes of {key.text}: "
        taped = recordings.taped_st(source, loop.tempo)
        if abs(taped) > recordings.IN_KEY_ST:
            words = f"like tape it moves {number(taped, '+.2f')} semitones; {words}"
        self.into.setText(words + ("it is in key." if there else "two ways; rest to hear them."))
        if ways == (0,) and source.semitones == 0:
            return  # there is nothing to choose
        for way in ways:
            one = button(
                ways_words(way).capitalize(),
                partial(self._shift, way),
                tip=f"{ways_words(way)} semitones",
            )
            one.setCheckable(True)
            one.setChecked(source.semitones == way)
            one.setAccessibleName(f"Into the key: {ways_words(way)} semitones")
            Trying(one, self._session, partial(self._shifted, way), f"{ways_words(way)}, preview")
            self._ways.addWidget(one)
            self.ways.append(one)

    # --- acting -------------------------------------------------------------------------------

    def _do(self, words: str, edit: Callable[[Loop, str], Loop]) -> None:
        self._session.apply(words, lambda loop: edit(loop, self._layer_id))

    def _shifted(self, way: float, loop: Loop) -> Loop:
        return recordings.set_recording(loop, self._layer_id, semitones=float(way))

    def _shift(self, way: float) -> None:
        self._session.apply(f"into the key, {ways_words(way)}", partial(self._shifted, way))

    def _set_fit(self, fit: Any) -> None:
        self._session.apply(
            f"fit: {fit}", lambda loop: recordings.set_recording(loop, self._layer_id, fit=fit)
        )
        layer = next((x for x in self._session.loop.layers if x.id == self._layer_id), None)
        if layer is not None:
            self.show_layer(layer)  # what was refused is not down

    def _set_words(self, line: QLineEdit, name: str) -> None:
        words = " ".join(line.text().split())
        source = recordings.recording_of(self._session.loop, self._layer_id)
        if words != getattr(source.facts, name):
            self._session.apply(
                name, lambda loop: recordings.set_facts(loop, self._layer_id, **{name: words})
            )

    def _take_second(self) -> None:
        facts = recordings.recording_of(self._session.loop, self._layer_id).facts
        first, second = facts.key, facts.second_key

        def edit(loop: Loop) -> Loop:
            loop = recordings.set_own_key(loop, self._layer_id, second)
            return recordings.set_facts(loop, self._layer_id, second_key=first)

        self._session.apply("own key", edit)

    def _tap(self) -> None:
        """Take the tempo from presses: the middle of the gaps between them."""
        now = time.monotonic()
        if self._taps and now - self._taps[-1] > TAP_GAP_S:
            self._taps = []
        self._taps.append(now)
        if len(self._taps) < LEAST_TAPS:
            self.tap.setText(f"Tap {LEAST_TAPS - len(self._taps)} more")
            return
        self.tap.setText("Tap")
        self.set_tapped(self._taps)

    def set_tapped(self, taps: list[float]) -> None:
        """Take the tempo of presses at some seconds for the recording's own."""
        source, loop = (
            recordings.recording_of(self._session.loop, self._layer_id),
            self._session.loop,
        )
        heard = 60 * (len(taps) - 1) / max(taps[-1] - taps[0], 1e-3)
        # What is tapped is heard: where the recording is fitted, it goes at the loop's tempo.
        known = source.facts.tempo
        pace = loop.sounding_tempo / known if known and source.fit != "as it is" else 1.0
        tempo = round(min(max(heard / pace, 20.0), 300.0), 1)
        self._session.apply(
            "tap its tempo",
            lambda p: recordings.set_own_tempo(p, self._layer_id, tempo),
            merge=f"tapped {self._layer_id}",
        )

    def _edit(self, name: str, value: Value) -> None:
        edit = partial(edited, layer_id=self._layer_id, name=name, value=value)
        self._session.apply(
            self.fields[name].spec.label.lower(), edit, merge=f"{self._layer_id} recording {name}"
        )


def _of_shift(source: FromRecording, _bar: int, value: float) -> dict[str, Any]:
    fine = source.semitones - round(source.semitones)
    return {"semitones": _in_reach(value + fine)}


def _of_cents(source: FromRecording, _bar: int, value: float) -> dict[str, Any]:
    return {"semitones": _in_reach(round(source.semitones) + value / 100)}


def _in_reach(semitones: float) -> float:
    return round(min(max(semitones, -MOST_SEMITONES), MOST_SEMITONES), 2)


def _of_bar(source: FromRecording, bar: int, value: float) -> dict[str, Any]:
    return {"at_tick": (round(value) - 1) * bar + source.at_tick % bar}


def _of_beat(source: FromRecording, bar: int, value: float) -> dict[str, Any]:
    ticks = min(round((value - 1) * TICKS_PER_QUARTER), bar - 1)
    return {"at_tick": source.at_tick // bar * bar + ticks}


def _of_start(source: FromRecording, _bar: int, value: float) -> dict[str, Any]:
    return {"first_s": round(max(0.0, min(value, source.end_s - LEAST_S)), 4)}


def _of_end(source: FromRecording, _bar: int, value: float) -> dict[str, Any]:
    end = round(max(value, source.first_s + LEAST_S), 4)
    return {"last_s": 0.0 if end >= source.facts.length_s else end}


# What a value of a field changes, given the recording and the ticks of a bar.
CHANGES: dict[str, Callable[[FromRecording, int, Any], dict[str, Any]]] = {
    "semitones": _of_shift,
    "cents": _of_cents,
    "bar": _of_bar,
    "beat": _of_beat,
    "first_s": _of_start,
    "last_s": _of_end,
    "vowels": lambda _s, _b, value: {"hold_vowels": value == STAYS},
    "again": lambda _s, _b, value: {"every_bars": TURNS[value]},
    "pull": lambda _s, _b, value: {"pull": value / 100},
    "gain_db": lambda _s, _b, value: {"gain_db": value},
}


def edited(loop: Loop, layer_id: str, name: str, value: Value) -> Loop:
    """Return a loop in which a field of a recording's page has another value."""
    if name == "kind":
        return recordings.set_facts(loop, layer_id, kind=value)
    if name == "key":
        return recordings.set_own_key(loop, layer_id, KEYS.get(str(value)))
    if name == "tempo":
        tempo = float(value)
        return recordings.set_own_tempo(loop, layer_id, tempo if tempo >= LEAST_BPM else 0.0)
    source = recordings.recording_of(loop, layer_id)
    changes = CHANGES[name](source, bar_ticks(loop.metre), value)
    return recordings.set_recording(loop, layer_id, **changes)
