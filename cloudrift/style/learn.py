"""Learning a style: what loops have in common becomes a card; notes and sound are not taken over.

Each loop (or file) is measured by every kind of mark; ranges are robust quantiles of what was
found, grammar and rhythm come from the rows of chords, layers from roles, lenses, touches and
treatments that most have. What few examples say is a guess, and said to be one.
"""

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import plural
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.loop.model.sections import Arrangement
from cloudrift.loop.model.source import FromChords
from cloudrift.notes.lens import Lens
from cloudrift.notes.time import bar_ticks
from cloudrift.render.measure.sound_facts import SoundFacts
from cloudrift.style.card import (
    Card,
    CardForm,
    CardGroove,
    CardLayer,
    CardTreatment,
    Grammar,
    KeyChoice,
    TempoRange,
    Voicing,
)
from cloudrift.style.form import forms
from cloudrift.style.manner import manners
from cloudrift.style.marks import KINDS, look
from cloudrift.style.marks.view import View
from cloudrift.texture.treatment import Line

LEAST, MOST = 5, 50  # loops to learn from
MANY = 20  # from which on outliers can be told
QUANTILES, WIDER, WIDER_FEW = (0.02, 0.98), 0.15, 0.3
WORD_SHARE = 0.08  # of the examples: a rarer word is no habit
COMMON = 0.5  # of the loops: what as many have is of the style
SURE = 5
OTHER = "iv"  # follows where only one chord is known
# What has nothing to say of a style, or follows from what else is asked.
LEFT_OUT = ("length",)


@dataclass(frozen=True, kw_only=True)
class Example:
    """What was measured of a loop or a file: a value for each kind of mark that can be said.

    ``loop`` is given where there is one to read layers from.
    """

    name: str
    values: dict[str, float | str]
    degrees: tuple[str, ...] = ()
    lengths_bars: tuple[float, ...] = ()
    tonic: str = ""
    loop: Loop | None = None
    form: str = ""


@dataclass(frozen=True, kw_only=True)
class Learnt:
    """A card that was drafted, and of each mark how many examples it is from."""

    card: Card
    counts: dict[str, int]
    guesses: tuple[str, ...]


def example_of(
    loop: Loop, sound: SoundFacts | None = None, arrangement: Arrangement | None = None
) -> Example:
    """Measure a loop, and how it is arranged where that is known."""
    view = View(loop, sound, arrangement)
    marks = look({}, loop, sound, all_=True, arrangement=arrangement)
    values = {mark.kind.name: mark.found.value for mark in marks if mark.found is not None}
    bar = bar_ticks(loop.metre)
    return Example(
        name=loop.title or "untitled",
        values=values,
        tonic=loop.key.tonic,
        loop=loop,
        form=arrangement.form if arrangement else "",
        degrees=tuple(view.token_of(chord) for chord in loop.chords),
        lengths_bars=tuple(round(chord.length_ticks / bar, 4) for chord in loop.chords),
    )


def range_of(values: Sequence[float], decimals: int = 0) -> tuple[float, float]:
    """Return the range that examples lie in: of many, without the few that stand apart."""
    if len(values) >= MANY:
        low, high = (float(np.quantile(values, q)) for q in QUANTILES)
        room = WIDER * (high - low)
    else:
        low, high = min(values), max(values)
        room = WIDER_FEW * (high - low)
    return round(low - room, decimals + 1), round(high + room, decimals + 1)


def asks_of(
    examples: Sequence[Example],
) -> tuple[dict[str, tuple[float | str, ...]], dict[str, int]]:
    """Return what examples have in common as what a card asks, and how many say so."""
    asks: dict[str, tuple[float | str, ...]] = {}
    counts: dict[str, int] = {}
    for name, kind in KINDS.items():
        values = [one.values[name] for one in examples if name in one.values]
        if len(values) < COMMON * len(examples) or name in LEFT_OUT:
            continue
        counts[name] = len(values)
        if kind.words:
            found = Counter(str(value) for value in values)
            asks[name] = tuple(
                word for word, count in found.most_common(8) if count >= WORD_SHARE * len(values)
            )
            continue
        ends = range_of([float(value) for value in values], kind.decimals)
        asks[name] = tuple(min(max(end, kind.low), kind.high) for end in ends)
    return {name: asked for name, asked in asks.items() if asked}, counts


def learn(name: str, examples: Sequence[Example], about: str = "") -> Learnt:
    """Draft a card from examples; raise CloudriftError where there is not enough to learn from."""
    with_chords = [one for one in examples if one.degrees]
    if len(examples) < LEAST:
        raise CloudriftError(
            f"{plural(len(examples), 'loop')} are not enough to learn a style; use {LEAST} to "
            f"{MOST}"
        )
    if not with_chords:
        raise CloudriftError("no chords found in any of them, so no style can be learned")
    asks, counts = asks_of(examples)
    tempos = [float(one.values["tempo"]) for one in examples if "tempo" in one.values]
    low, high = range_of(tempos)
    modes = Counter(str(one.values["mode"]) for one in examples if "mode" in one.values)
    tonics = Counter(one.tonic for one in examples if one.tonic)
    card = Card(
        name=name,
        about=about or f"Learned from {plural(len(examples), 'loop')}.",
        tempo=TempoRange(low=max(40.0, low), high=min(240.0, high), usual=float(np.median(tempos))),
        key=KeyChoice(tonics=_common(tonics, 12), modes=_common(modes, 4)),
        chords=_grammar(with_chords),
        voicing=_voicing(examples),
        layers=_layers([one.loop for one in examples if one.loop is not None]),
        line=_line([one.loop.line for one in examples if one.loop is not None]),
        groove=_groove([one.loop for one in examples if one.loop is not None]),
        form=_form([one for one in examples if one.loop is not None]),
        marks=asks,
    )
    guesses = tuple(kind for kind, count in counts.items() if count < SURE)
    return Learnt(card=card, counts=counts, guesses=guesses)


def _common(found: Counter[str], most: int) -> tuple[str, ...]:
    return tuple(word for word, _count in found.most_common(most))


def _grammar(examples: Sequence[Example]) -> Grammar:
    """What follows what, where it starts and ends; every chord has another one after it."""
    starts, ends = (Counter(one.degrees[at] for one in examples) for at in (0, -1))
    following: dict[str, Counter[str]] = {}
    for one in examples:
        for first, then in zip(one.degrees, (*one.degrees[1:], one.degrees[0]), strict=True):
            if first != then:
                following.setdefault(first, Counter())[then] += 1
    rhythms = Counter(_turn(one.lengths_bars) for one in examples)
    home = next(iter(starts))
    if home not in following:  # loops of one chord: something must be able to follow it
        following[home] = Counter([next((t for t in following if t != home), OTHER)])
    for token in {*starts, *ends, *(then for behind in following.values() for then in behind)}:
        following.setdefault(token, Counter([home]))
    return Grammar(
        starts=_common(starts, 6),
        ends=_common(ends, 6),
        next={token: _common(counter, 6) for token, counter in sorted(following.items())},
        rhythms=tuple(rhythm for rhythm, _ in rhythms.most_common(6)),
    )


def _turn(lengths: tuple[float, ...]) -> tuple[float, ...]:
    """The shortest part of a rhythm that it repeats."""
    for count in range(1, len(lengths)):
        if len(lengths) % count == 0 and lengths == lengths[:count] * (len(lengths) // count):
            return lengths[:count] if count > 1 else lengths[:2]
    return lengths


def _voicing(examples: Sequence[Example]) -> Voicing:
    heights = [float(one.values["register"]) for one in examples if "register" in one.values]
    widths = [float(one.values["chord_width"]) for one in examples if "chord_width" in one.values]
    middle = float(np.median(heights)) if heights else 62.0
    wide = float(np.mean([width > 12 for width in widths])) if widths else 0.0
    low = int(max(36, min(round(middle) - 9, 72)))
    return Voicing(low=low, high=low + 19, spread=round(wide, 2))


# --- layers ---------------------------------------------------------------------------------------


def _layers(loops: Sequence[Loop]) -> tuple[CardLayer, ...]:
    """A layer for each sound that enough loops have, with what its layers have in common."""
    if not loops:
        return (
            CardLayer(name="Keys", sound="felt upright"),
            CardLayer(name="Low end", sound="round sub", lens=Lens(kind="roots")),
        )
    by: dict[str, list[Layer]] = {}
    for loop in loops:
        for layer in {
            x.played.sound.name: x
            for x in loop.heard()
            if x.recorded is None
            and isinstance(x.source, FromChords)
            and x.played.sound.own is None
        }.values():
            by.setdefault(layer.played.sound.name, []).append(layer)
    found = [
        _layer(sound, layers, len(loops))
        for sound, layers in by.items()
        if len(layers) >= max(1, 0.25 * len(loops))
    ]
    return tuple(sorted(found, key=lambda layer: -layer.chance))[:12]


def _layer(sound: str, layers: Sequence[Layer], loops: int) -> CardLayer:
    lens = Counter(replace(x.source.lens, variation=1) for x in layers).most_common(1)[0][0]  # type: ignore[union-attr]
    touches = [x.source.touch for x in layers]  # type: ignore[union-attr]
    touch: dict[str, object] = {}
    for name in ("roll_ms", "uneven", "drift_ms", "spread", "length", "velocity"):
        values = [float(getattr(one, name)) for one in touches]
        touch[name] = _between(values)
    settings: dict[str, object] = {}
    for setting in {name for x in layers for name, _ in x.played.sound.settings}:
        given = [dict(x.played.sound.settings).get(setting) for x in layers]
        numbers = [float(v) for v in given if isinstance(v, (int, float))]
        if len(numbers) >= COMMON * len(layers):
            settings[setting] = _between(numbers)
    return CardLayer(
        name=Counter(x.name for x in layers).most_common(1)[0][0],
        sound=sound,
        chance=round(min(1.0, len(layers) / loops), 2),
        level_db=_between([x.level_db for x in layers]),
        pan=_between([x.pan for x in layers]),
        lens=lens,
        touch=touch,  # type: ignore[arg-type]
        settings=settings,  # type: ignore[arg-type]
        line=_line([x.line for x in layers]),
    )


def _groove(loops: Sequence[Loop]) -> CardGroove | None:
    """The manners that their groove beds were drawn in, where enough of them have one."""
    beds = [loop.bed for loop in loops if loop.bed is not None and loop.bed.manner in manners()]
    if not beds or len(beds) < COMMON * len(loops):
        return None
    found = Counter(bed.manner for bed in beds)
    busy = [100 * bed.busy for bed in beds]
    return CardGroove(manners=_common(found, 4), busy=(round(min(busy)), round(max(busy))))


def _form(examples: Sequence[Example]) -> CardForm | None:
    """The forms that they were arranged in, where enough of them were."""
    found = Counter(one.form for one in examples if one.form in forms())
    if not found or found.total() < COMMON * len(examples):
        return None
    return CardForm(forms=_common(found, 4))


def _between(values: Iterable[float]) -> float | tuple[float, float]:
    low, high = (float(np.quantile(list(values), q)) for q in (0.05, 0.95))
    return round(low, 3) if high - low < 1e-6 else (round(low, 3), round(high, 3))


def _line(lines: Sequence[Line]) -> tuple[CardTreatment, ...]:
    """The treatments that most of some lines have, in their order, with what is set of them."""
    kinds: Counter[str] = Counter()
    places: dict[str, list[float]] = {}
    for line in lines:
        seen = {t.kind: (i, t) for i, t in enumerate(line) if t.acts}
        for kind, (i, _t) in seen.items():
            kinds[kind] += 1
            places.setdefault(kind, []).append(i)
    out = []
    for kind, count in sorted(kinds.items(), key=lambda item: np.mean(places[item[0]])):
        if count < max(1, 0.25 * len(lines)):
            continue
        of = [t for line in lines for t in line if t.kind == kind and t.acts]
        settings: dict[str, object] = {}
        for name in {name for t in of for name, _ in t.settings}:
            given = [dict(t.settings).get(name) for t in of]
            numbers = [float(v) for v in given if isinstance(v, (int, float))]
            words = Counter(v for v in given if isinstance(v, str))
            if len(numbers) >= COMMON * len(of):
                settings[name] = _between(numbers)
            elif words and words.most_common(1)[0][1] >= COMMON * len(of):
                settings[name] = words.most_common(1)[0][0]
        out.append(
            CardTreatment(
                kind=kind,
                chance=round(count / len(lines), 2),
                blend=_between([t.blend for t in of]),
                settings=settings,  # type: ignore[arg-type]
            )
        )
    return tuple(out)
