"""A first loop from a card: chords by its grammar, layers, lines. Same draw, same loop."""

from typing import Any

import numpy as np
from msgspec.structs import replace

from cloudrift.ground.draws import rng_for
from cloudrift.loop.edits.chords import chord_time
from cloudrift.loop.edits.chords.bass import with_bass_heard
from cloudrift.loop.edits.chords.progression import put_row
from cloudrift.loop.model.loop import Chord, Loop
from cloudrift.notes.time import bar_ticks, beat_ticks
from cloudrift.style.card import Card
from cloudrift.style.card_files import known_cards
from cloudrift.style.groove import bed_in_style
from cloudrift.style.lay import Drawing, layers_of, line_of
from cloudrift.style.voiced import voiced
from cloudrift.theory.key import Key
from cloudrift.theory.symbols import parse_degree, parse_progression

DEFAULT_BARS = 8


def sketch(
    card: Card,
    key: Key | None = None,
    tempo: float | None = None,
    variation: int = 1,
    *,
    bars: int = DEFAULT_BARS,
    metre: tuple[int, int] = (4, 4),
    title: str = "Untitled loop",
) -> Loop:
    """Write a first loop in a card's style.

    Parameters
    ----------
    key, tempo : chosen by the variation, from what the card likes, where they are not given.
    draw : the number that decides everything else; the same one gives the same loop.
    bars : 1 to 64.
    """
    own_key = _draw_key(card, rng_for(variation, "key"))
    own_tempo = _draw_tempo(card, rng_for(variation, "tempo"))
    loop = Loop(
        title=title,
        key=key or own_key,
        tempo=own_tempo if tempo is None else tempo,
        bars=bars,
        metre=metre,
        style=card.name,
        variation=variation,
    )

    def hand(*labels: str) -> Drawing:
        return Drawing(rng_for(variation, *labels))

    loop = with_bass_heard(
        replace(
            loop,
            chords=suggest_chords(card, loop, variation),
            layers=layers_of(card, variation, hand),
            line=line_of(card.line, hand("line"), variation),
        )
    )
    return bed_in_style(loop, card.groove, variation) if card.groove else loop


def without_chords(loop: Loop) -> Loop:
    """Return a loop with its sounds and no chords: to write them oneself."""
    return replace(loop, chords=())


def way_of_voicing(style: str) -> dict[str, Any]:
    """Return how a style sets out a row of chords, as ``progression.put_row`` takes it."""
    card = known_cards().get(style)
    if card is None:
        return {}
    voicing = card.voicing
    return {
        "spacing": "open" if voicing.spread > 0.5 else "close",
        "bass_octaves": voicing.bass_octaves,
        "register": (voicing.low + voicing.high) / 2,
    }


def typed_row(loop: Loop, text: str) -> Loop:
    """Return a loop with the chords that are typed, set out as its style does.

    Raises CloudriftError for what is no chord.
    """
    return put_row(loop, parse_progression(text, loop.key), **way_of_voicing(loop.style))


def _draw_key(card: Card, rng: np.random.Generator) -> Key:
    weights = 1.0 / np.arange(1, len(card.key.modes) + 1) ** 1.5
    mode = card.key.modes[int(rng.choice(len(weights), p=weights / weights.sum()))]
    return Key(card.key.tonics[int(rng.integers(len(card.key.tonics)))], mode)


def _draw_tempo(card: Card, rng: np.random.Generator) -> float:
    """Mostly about the usual tempo, never outside the card's range, whole BPM."""
    tempo = rng.triangular(card.tempo.low, card.tempo.usual, card.tempo.high)
    return float(round(tempo))


def suggest_chords(card: Card, loop: Loop, variation: int) -> tuple[Chord, ...]:
    """Draw chords for a loop from a card's grammar, in its rhythm and voicing."""
    rng = rng_for(variation, "chords")
    lengths = _rhythm(card, loop, rng)
    once = _progression(card, len(lengths), rng)
    total = sum(lengths)
    turns = max(1, loop.ticks // total)
    chords: list[Chord] = []
    before: tuple[int, ...] = ()
    for turn in range(turns):
        tokens = list(once)
        last = turn == turns - 1 and turns > 1
        if last and rng.random() < card.chords.vary_end:
            tokens[-1] = _other_end(card, tokens, rng)
        start = turn * total
        for token, length in zip(tokens, lengths, strict=True):
            tones = parse_degree(token, loop.key)
            spread = rng_for(variation, "spread").random() < card.voicing.spread
            upper, voices = voiced(tones, card.voicing, before, spread=spread)
            chords.append(
                Chord(
                    id=f"c{len(chords) + 1}",
                    start_tick=start,
                    length_ticks=length,
                    voices=voices,
                    root=tones[0],
                )
            )
            before, start = upper, start + length
    return _in_rhythm(card, loop, chords, variation)


def _in_rhythm(card: Card, loop: Loop, chords: list[Chord], variation: int) -> tuple[Chord, ...]:
    """Let chords come late, and be struck more than once, as the card likes."""
    grammar, beat = card.chords, beat_ticks(loop.metre)
    loop = replace(loop, chords=tuple(chords))
    ids = [chord.id for chord in chords]
    rng = rng_for(variation, "rhythm")
    if grammar.strike_beats:
        loop = chord_time.strike_every(loop, ids, round(grammar.strike_beats * beat))
    gate = rng.uniform(*grammar.gate) if isinstance(grammar.gate, tuple) else grammar.gate
    if gate < 1:
        loop = chord_time.set_gate(loop, ids, round(float(gate), 2))
    behind = round(grammar.late_beats * beat)
    late = [c.id for c in chords if rng.random() < grammar.late and behind < c.length_ticks]
    if late and behind:
        loop = chord_time.set_late(loop, late, behind)
    return loop.chords


def _rhythm(card: Card, loop: Loop, rng: np.random.Generator) -> list[int]:
    """Draw chord lengths in ticks whose sum divides the loop; a chord a bar if none does.

    Rhythms that turn once or twice are taken before shorter ones.
    """
    bar = bar_ticks(loop.metre)
    fitting = [r for r in card.chords.rhythms if loop.bars % sum(r) == 0]
    fitting = [r for r in fitting if 2 * sum(r) >= loop.bars] or fitting
    if not fitting:
        return [bar] * loop.bars
    chosen = fitting[int(rng.integers(len(fitting)))]
    return [round(length * bar) for length in chosen]


def _progression(card: Card, count: int, rng: np.random.Generator) -> list[str]:
    """Walk the grammar: from chord to chord as it says, to an ending it likes if one follows.

    The same chord comes twice in a row only where the grammar lets it follow itself; so too where
    the row begins again.
    """
    grammar = card.chords
    tokens = [grammar.starts[int(rng.integers(len(grammar.starts)))]]
    while len(tokens) < count:
        options = list(grammar.next[tokens[-1]])
        first, left = tokens[0], count - len(tokens)
        if first not in grammar.next[first]:
            if left == 2:  # from there it must be able to end elsewhere
                options = [t for t in options if set(grammar.next[t]) - {first}] or options
            elif left == 1:
                options = [t for t in options if t != first] or options
        if left == 1:
            options = [t for t in options if t in grammar.ends] or options
        # A chord that was not there yet is likelier: a loop of four wants four colours.
        weights = np.array([1.0 if t in tokens else 3.0 for t in options])
        tokens.append(options[int(rng.choice(len(options), p=weights / weights.sum()))])
    return tokens


def _other_end(card: Card, tokens: list[str], rng: np.random.Generator) -> str:
    """Another ending that the card likes, and that is no repeat of the chord before it."""
    before = tokens[-2] if len(tokens) > 1 else ""
    repeats = before in card.chords.next.get(before, ())
    rest = [
        t for t in card.chords.ends if t not in (tokens[-1], tokens[0]) and (repeats or t != before)
    ]
    return rest[int(rng.integers(len(rest)))] if rest else tokens[-1]
