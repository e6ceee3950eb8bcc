"""A card's fields: tempo, keys, chords, voicing, layers, lines and marks, each as what it is."""

from collections.abc import Callable
from typing import Any

from msgspec.structs import replace
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QLineEdit, QWidget

from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.parts import clear, heading, label
from cloudrift.desktop.stages.style.grammar import GrammarView
from cloudrift.desktop.stages.style.range_field import NAME_PX, RangeField
from cloudrift.ground.settings import Field, SettingsSpec
from cloudrift.loop.model import spec
from cloudrift.notes.touch import LIMITS
from cloudrift.sound.catalogue import find_sound
from cloudrift.style.card import Card, CardForm, CardGroove, CardLayer, CardTreatment
from cloudrift.style.marks import KINDS
from cloudrift.texture.catalogue import find_kind
from cloudrift.theory.pitch import pretty

TOUCHES = {
    "roll_ms": ("Roll", "ms", 0),
    "drift_ms": ("Drift", "ms", 1),
    "spread": ("Velocity spread", "velocity", 1),
    "velocity": ("Velocity", "velocity", 0),
    "length": ("Note length", "times", 2),
}
CardLine = tuple[CardTreatment, ...]
CardSettings = dict[str, Any]


class CardFields(QWidget):
    """The fields of one card. ``edited`` carries an edit of it; what they show is rebuilt when the
    card has other layers, treatments or marks.
    """

    edited = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self._column = vertical(self, (0, 0, 10, 0), 4)
        self._shape: object = None
        self._shows: list[Callable[[Card], None]] = []
        self.grammar: GrammarView  # built with the rest
        self.ranges: dict[str, RangeField] = {}
        self.lines: dict[str, QLineEdit] = {}

    def show_card(self, card: Card) -> None:
        """Show a card."""
        shape = (
            tuple(
                (x.name, x.sound, tuple(x.touch), tuple(x.settings), _shape(x.line))
                for x in card.layers
            ),
            _shape(card.line),
            tuple(card.marks),
            card.groove is None,
            card.form is None,
        )
        if shape != self._shape:
            self._shape = shape
            self._build(card)
        for show in self._shows:
            show(card)

    # --- building -----------------------------------------------------------------------------

    def _build(self, card: Card) -> None:
        clear(self._column)
        self._shows, self.ranges, self.lines = [], {}, {}
        self._title("Tempo and key")
        self._range("tempo", "Tempo", "BPM", spec.MIN_TEMPO_BPM, spec.MAX_TEMPO_BPM, 0,
                    lambda c: (c.tempo.low, c.tempo.high), _with_tempo)  # fmt: skip
        self._words(
            "modes",
            "Scales",
            lambda c: c.key.modes,
            lambda c, words: replace(c, key=replace(c.key, modes=words)),
        )
        self._words(
            "tonics",
            "Keys",
            lambda c: c.key.tonics,
            lambda c, words: replace(c, key=replace(c.key, tonics=words)),
        )
        self._title("Chords: what follows what")
        self.grammar = GrammarView()
        self.grammar.edited.connect(
            lambda grammar: self.edited.emit(lambda c: replace(c, chords=grammar))
        )
        self._column.addWidget(self.grammar)
        self._shows.append(lambda c: self.grammar.show_grammar(c.chords))
        self._words(
            "starts",
            "Starts on",
            lambda c: c.chords.starts,
            lambda c, words: _with_chords(c, starts=words),
        )
        self._words(
            "ends",
            "Usually ends on",
            lambda c: c.chords.ends,
            lambda c, words: _with_chords(c, ends=words),
        )
        self._words("rhythms", "Rhythms, in bars", _rhythms_of, _with_rhythms)
        self._share(
            "late",
            "Late chords",
            lambda c: c.chords.late,
            lambda c, share: _with_chords(c, late=share),
        )
        self._title("Voicing")
        self._range("voicing", "Register", "MIDI", spec.VOICE_LOW, spec.VOICE_HIGH, 0,
                    lambda c: (c.voicing.low, c.voicing.high), _with_register)  # fmt: skip
        self._share(
            "open",
            "Open voicings",
            lambda c: c.voicing.spread,
            lambda c, share: replace(c, voicing=replace(c.voicing, spread=share)),
        )
        for i, layer in enumerate(card.layers):
            self._layer(i, layer)
        if card.line:
            self._title("On the whole loop")
        self._line("line", card.line, lambda c: c.line, lambda c, line: replace(c, line=line))
        if card.groove is not None:
            self._title("Groove bed")
            self._words(
                "manners",
                "Manners",
                lambda c: c.groove.manners if c.groove else (),
                lambda c, words: _with_groove(c, manners=words),
            )
            self._range("groove busy", "Busy", "%", 0, 100, 0,
                        lambda c: c.groove.busy if c.groove else (0.0, 0.0),
                        lambda c, a, b: _with_groove(c, busy=(a, b)))  # fmt: skip
        if card.form is not None:
            self._title("Form")
            self._words(
                "forms",
                "Forms",
                lambda c: c.form.forms if c.form else (),
                lambda c, words: replace(c, form=CardForm(forms=words)),
            )
        self._title("Marks")
        for name in card.marks:
            if name in KINDS and not KINDS[name].words:
                self._mark(name)
        self._column.addStretch(1)

    def _title(self, text: str) -> None:
        self._column.addWidget(heading(text))

    def _range(
        self,
        key: str,
        name: str,
        unit: str,
        low: float,
        high: float,
        decimals: int,
        get: Callable[[Card], tuple[float, float]],
        put: Callable[[Card, float, float], Card],
        *,
        log: bool = False,
    ) -> None:
        field = RangeField(name, unit, low, high, decimals, log=log)
        field.edited.connect(lambda a, b: self.edited.emit(lambda c: put(c, a, b)))
        self._column.addWidget(field)
        self.ranges[key] = field
        self._shows.append(lambda c: field.show_range(*get(c)))

    def _share(
        self, key: str, name: str, get: Callable[[Card], float], put: Callable[[Card, float], Card]
    ) -> None:
        widget = FieldWidget(Field(name=key, label=name, default=0, unit="%", low=0, high=100), 0.0)
        widget.setFixedWidth(NAME_PX + 156)
        widget.settled.connect(
            lambda: self.edited.emit(lambda c: put(c, round(float(widget.value) / 100, 3)))
        )
        self._column.addWidget(widget)
        self._shows.append(lambda c: widget.set_value(100 * get(c)))

    def _words(
        self,
        key: str,
        name: str,
        get: Callable[[Card], tuple[str, ...]],
        put: Callable[[Card, tuple[str, ...]], Card],
    ) -> None:
        line = QLineEdit()
        line.setAccessibleName(name)
        line.setToolTip("Separated by commas, likeliest first")

        def take() -> None:
            plain = line.text().replace("♯", "#").replace("♭", "b")
            words = tuple(word.strip() for word in plain.split(",") if word.strip())
            if line.isModified():
                line.setModified(False)
                self.edited.emit(lambda c: put(c, words))

        line.editingFinished.connect(take)
        holder = QWidget()
        row = horizontal(holder, FLUSH)
        says = label(name, size=12)
        says.setFixedWidth(NAME_PX)
        fill(row, says, (line, 1))
        self._column.addWidget(holder)
        self.lines[key] = line
        self._shows.append(lambda c: line.setText(", ".join(pretty(word) for word in get(c))))

    def _layer(self, i: int, layer: CardLayer) -> None:
        self._title(f"{layer.name}: {find_sound(layer.sound).label.lower()}")

        def put(card: Card, **changes: Any) -> Card:
            layers = list(card.layers)
            layers[i] = replace(layers[i], **changes)
            return replace(card, layers=tuple(layers))

        self._share(
            f"{i} chance",
            "How often it is used",
            lambda c: c.layers[i].chance,
            lambda c, share: put(c, chance=share),
        )
        self._range(f"{i} level", "Level", "dB", spec.MIN_LEVEL_DB, spec.MAX_LEVEL_DB, 1,
                    lambda c: _ends(c.layers[i].level_db),
                    lambda c, a, b: put(c, level_db=_drawn(a, b)))  # fmt: skip
        self._range(f"{i} pan", "Pan", "%", -100, 100, 0,
                    lambda c: _ends(c.layers[i].pan, 100),
                    lambda c, a, b: put(c, pan=_drawn(a / 100, b / 100)))  # fmt: skip
        for name, (words, unit, decimals) in TOUCHES.items():
            if name in layer.touch:
                low, high = LIMITS[name]

                def touched(card: Card, a: float, b: float, name: str = name) -> Card:
                    return put(card, touch={**card.layers[i].touch, name: _drawn(a, b)})

                self._range(f"{i} {name}", words, unit, low, high, decimals,
                            lambda c, name=name: _ends(c.layers[i].touch[name]),  # type: ignore[misc]
                            touched)  # fmt: skip
        self._settings(
            f"{i}",
            "",
            find_sound(layer.sound).spec,
            lambda c: c.layers[i].settings,
            lambda c, settings: put(c, settings=settings),
            layer.settings,
        )
        self._line(
            f"{i} line", layer.line, lambda c: c.layers[i].line, lambda c, line: put(c, line=line)
        )

    def _line(
        self,
        key: str,
        line: CardLine,
        get: Callable[[Card], CardLine],
        put: Callable[[Card, CardLine], Card],
    ) -> None:
        """Fields of what the treatments of a line are set to."""
        for i, treatment in enumerate(line):

            def put_one(card: Card, settings: CardSettings, i: int = i) -> Card:
                line = list(get(card))
                line[i] = replace(line[i], settings=settings)
                return put(card, tuple(line))

            kind = find_kind(treatment.kind)
            self._settings(
                f"{key} {i}",
                f"{kind.label}: ",
                kind.spec,
                lambda c, i=i: get(c)[i].settings,  # type: ignore[misc]
                put_one,
                treatment.settings,
            )

    def _settings(
        self,
        key: str,
        before: str,
        spec: SettingsSpec,
        get: Callable[[Card], CardSettings],
        put: Callable[[Card, CardSettings], Card],
        settings: CardSettings,
    ) -> None:
        """Fields of the numbers that a sound or a treatment is set to."""
        for name, value in settings.items():
            if isinstance(value, str):
                continue
            field = spec[name]
            decimals = 0 if field.step >= 1 else 1 if field.step >= 0.1 else 2
            words = f"{before}{field.label.lower()}" if before else field.label

            def put_setting(card: Card, a: float, b: float, name: str = name) -> Card:
                return put(card, {**get(card), name: _drawn(a, b)})

            self._range(f"{key} {name}", words, field.unit, field.low, field.high, decimals,
                        lambda c, name=name: _ends(get(c)[name]),  # type: ignore[misc]
                        put_setting, log=field.log)  # fmt: skip

    def _mark(self, name: str) -> None:
        kind = KINDS[name]

        def put(card: Card, a: float, b: float) -> Card:
            return replace(card, marks={**card.marks, name: (a, b)})

        self._range(f"mark {name}", kind.label, kind.unit, kind.low, kind.high, kind.decimals,
                    lambda c: (float(c.marks[name][0]), float(c.marks[name][1])), put,
                    log=kind.log)  # fmt: skip


def _shape(line: CardLine) -> object:
    return tuple((t.kind, tuple(t.settings)) for t in line)


def _ends(value: Any, times: float = 1.0) -> tuple[float, float]:
    """Both ends of what may be drawn; one number is both."""
    low, high = value if isinstance(value, tuple) else (value, value)
    return float(low) * times, float(high) * times


def _drawn(low: float, high: float) -> float | tuple[float, float]:
    return low if low == high else (low, high)


def _with_chords(card: Card, **changes: Any) -> Card:
    return replace(card, chords=replace(card.chords, **changes))


def _with_groove(card: Card, **changes: Any) -> Card:
    return replace(card, groove=replace(card.groove or CardGroove(manners=("lean",)), **changes))


def _with_tempo(card: Card, low: float, high: float) -> Card:
    usual = min(max(card.tempo.usual, low), high)
    return replace(card, tempo=type(card.tempo)(low=low, high=high, usual=usual))


def _with_register(card: Card, low: float, high: float) -> Card:
    """An octave at least is between both ends."""
    high = max(high, low + 11)
    low = min(low, high - 11)
    return replace(card, voicing=replace(card.voicing, low=round(low), high=round(high)))


def _rhythms_of(card: Card) -> tuple[str, ...]:
    return tuple(" ".join(f"{length:g}" for length in rhythm) for rhythm in card.chords.rhythms)


def _with_rhythms(card: Card, words: tuple[str, ...]) -> Card:
    rhythms = tuple(tuple(float(length) for length in word.split()) for word in words)
    return _with_chords(card, rhythms=rhythms)
