"""Style cards as values. The format is described in ``docs/style-card.md``."""

from typing import Annotated, Literal

import msgspec

from cloudrift.ground.settings import Value
from cloudrift.loop.model import spec
from cloudrift.notes.lens import Lens
from cloudrift.sound.instrument import Role

# A number, or two between which a variation falls.
Drawn = float | tuple[float, float]
Tempo = Annotated[float, msgspec.Meta(ge=spec.MIN_TEMPO_BPM, le=spec.MAX_TEMPO_BPM)]
Chance = Annotated[float, msgspec.Meta(ge=0, le=1)]
Percent = Annotated[float, msgspec.Meta(ge=0, le=100)]
Bars = Annotated[float, msgspec.Meta(gt=0, le=spec.MAX_BARS)]
Some = Annotated[tuple[str, ...], msgspec.Meta(min_length=1, max_length=64)]


class TempoRange(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Tempos in BPM."""

    low: Tempo
    high: Tempo
    usual: Tempo

    def __post_init__(self) -> None:
        if not self.low <= self.usual <= self.high:
            raise ValueError("the usual tempo must lie between the lowest and the highest")


class KeyChoice(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Tonics and scales that the style goes for; earlier scales are drawn more often."""

    tonics: Some
    modes: Some


class Grammar(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """How chords follow: where it starts, what may come next, what it likes to end on.

    ``rhythms`` are chord lengths in bars; one whose sum divides the loop is drawn. ``shelf`` holds
    typical progressions by name, as rows of degrees. Chords come ``late``, by ``late_beats``, as
    often as that; they are struck every ``strike_beats`` (0: once) and held for the ``gate`` share.
    """

    starts: Some
    next: dict[str, Some]
    ends: Some
    rhythms: tuple[Annotated[tuple[Bars, ...], msgspec.Meta(min_length=1, max_length=64)], ...]
    vary_end: Chance = 0.5
    late: Chance = 0.0
    late_beats: Annotated[float, msgspec.Meta(ge=0, le=4)] = 0.5
    strike_beats: Annotated[float, msgspec.Meta(ge=0, le=16)] = 0.0
    gate: Drawn = 1.0
    shelf: dict[str, str] = {}


class Voicing(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Where the chords sit: register of the upper voices (MIDI), spread, bass octaves below."""

    low: Annotated[int, msgspec.Meta(ge=spec.VOICE_LOW, le=spec.VOICE_HIGH)]
    high: Annotated[int, msgspec.Meta(ge=spec.VOICE_LOW, le=spec.VOICE_HIGH)]
    spread: Chance = 0.0
    bass_octaves: Annotated[int, msgspec.Meta(ge=0, le=3)] = 1

    def __post_init__(self) -> None:
        if self.high - self.low < 11:
            raise ValueError("the lowest and the highest voice must be at least an octave apart")


class CardTreatment(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A treatment; numbers may be drawn between two."""

    kind: str
    blend: Drawn = 1.0
    chance: Chance = 1.0
    settings: dict[str, Value | tuple[float, float]] = {}


class CardLayer(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A layer; ``chance`` says how often it is there."""

    name: str
    sound: str
    chance: Chance = 1.0
    level_db: Drawn = 0.0
    pan: Drawn = 0.0
    lens: Lens = Lens()
    touch: dict[str, Value | tuple[float, float]] = {}
    settings: dict[str, Value | tuple[float, float]] = {}
    line: tuple[CardTreatment, ...] = ()


class CardMove(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A habit of the style: its name (``style.habits``), the role it is about, how much of it."""

    does: str
    on: Role | Literal[""] = ""
    amount: float | None = None


class CardGroove(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """The style's groove bed: manners of which one is drawn, and how busy, in %, from to."""

    manners: Some
    busy: tuple[Percent, Percent] = (40, 60)

    def __post_init__(self) -> None:
        if self.busy[0] > self.busy[1]:
            raise ValueError("busy must go from the smaller to the larger")


class CardForm(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """The style's form: forms (``style.form``) of which a variation takes one."""

    forms: Some


class Card(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A style card. ``marks`` is what it asks of a loop (``style.marks``), ``moves`` its habits
    (``style.habits``).
    """

    name: str
    about: str
    tempo: TempoRange
    key: KeyChoice
    chords: Grammar
    voicing: Voicing
    layers: Annotated[tuple[CardLayer, ...], msgspec.Meta(max_length=spec.MAX_LAYERS)]
    line: tuple[CardTreatment, ...] = ()
    groove: CardGroove | None = None
    form: CardForm | None = None
    moves: Annotated[tuple[CardMove, ...], msgspec.Meta(max_length=64)] = ()
    marks: dict[str, tuple[float | str, ...]] = {}

    @property
    def layer_counts(self) -> tuple[int, int]:
        """How many layers loops of this style have, at least and at most."""
        return sum(layer.chance >= 1 for layer in self.layers), len(self.layers)
