"""Edits of a flip as a whole: its order, its grid, its length, its labels, its chords."""

import re
from fractions import Fraction
from itertools import pairwise

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.flip.cutting import with_places
from cloudrift.loop.model.chord import Chord, lasting
from cloudrift.loop.model.flip import (
    LEAST_LONGER,
    MOST_LONGER,
    SHORTEST_TICKS,
    Flipped,
    Label,
    SlicePlacement,
    letters_of,
)
from cloudrift.notes.time import bar_ticks

_PLACE = re.compile(r"([a-z]+)(-?)(?:x(\d+))?$")


def backward(flip: Flipped) -> Flipped:
    """Play all of it backward: the last piece first, each turned round."""
    total = flip.length_ticks
    return with_places(
        flip,
        (
            replace(place, at_tick=total - place.end_tick, backward=not place.backward)
            for place in flip.places
        ),
    )


def backward_in_order(flip: Flipped, first: int = 0, last: int | None = None) -> Flipped:
    """Turn each chord round in its own place, between two ticks: the chords keep their order.

    What plays in a chord's place is turned as a whole, so that its end comes first. Without known
    chords, each place is turned round where it is.
    """
    end = flip.length_ticks if last is None else last
    places = [place for place in flip.places if not first <= place.at_tick < end]
    for a, b in _in_chords(flip):
        inside = [
            place
            for place in flip.places
            if a <= place.at_tick < b and first <= place.at_tick < end
        ]
        for place in inside:
            at = max(0, a + b - place.end_tick)
            places.append(replace(place, at_tick=at, backward=not place.backward))
    return with_places(flip, places)


def _in_chords(flip: Flipped) -> list[tuple[int, int]]:
    """Spans that are turned round, each for itself: chords, or places where none are known.

    A place that reaches over a chord's end takes the chord after along.
    """
    if not flip.chords:
        return [(place.at_tick, place.end_tick) for place in flip.places]
    edges = {0, flip.length_ticks, *(chord.start_tick for chord in flip.chords)}
    inside = {edge for edge in edges if not any(p.at_tick < edge < p.end_tick for p in flip.places)}
    return list(pairwise(sorted(inside | {0, flip.long_ticks})))


def on_grid(flip: Flipped, step: int) -> Flipped:
    """Let each place begin on the nearest multiple of a number of ticks; what met before meets.

    So what was played off the beat and cut where it is struck comes onto it. What would come where
    another begins already goes along with that one, as far after it as it was.
    """
    starts: list[int] = []
    last_step = (flip.length_ticks - 1) // step * step
    for i, place in enumerate(flip.places):
        at = min(round(place.at_tick / step) * step, last_step)
        if starts and at <= starts[-1]:
            at = starts[-1] + place.at_tick - flip.places[i - 1].at_tick
        starts.append(at)
    places = []
    was = [*(place.at_tick for place in flip.places[1:]), flip.length_ticks]
    for place, at, then, then_was in zip(
        flip.places, starts, [*starts[1:], flip.length_ticks], was, strict=True
    ):
        room = then - at
        length = room if place.end_tick == then_was else min(room, place.length_ticks)
        if length >= SHORTEST_TICKS:
            places.append(replace(place, at_tick=at, length_ticks=length))
    return with_places(flip, places)


def ordered(flip: Flipped, words: str) -> Flipped:
    """Lay pieces one after another as they are written: ``a c- b bx4``.

    Letters name the pieces, a minus turns one round, ``x4`` strikes it four times, a dot leaves a
    gap as long as the piece that would be there. Raises CloudriftError that names what is wrong.
    """
    pieces = {letters_of(i): span for i, span in enumerate(flip.pieces)}
    at, places = 0, []
    for i, word in enumerate(words.split()):
        start, end = flip.pieces[i % len(flip.pieces)]
        if word == ".":
            at += end - start
            continue
        found = _PLACE.match(word)
        if not found or found[1] not in pieces:
            raise CloudriftError(
                f"{word!r} is not a piece; there are a to {letters_of(len(pieces) - 1)}, with - "
                "for reversed and x4 for four repeats"
            )
        start, end = pieces[found[1]]
        length = min(end - start, flip.length_ticks - at)
        if length < SHORTEST_TICKS:
            break
        places.append(SlicePlacement(at_tick=at, length_ticks=length, from_tick=start,
                            from_ticks=end - start, backward=bool(found[2]),
                            times=int(found[3] or 1)))  # fmt: skip
        at += length
    return with_places(flip, places)


def order_text(flip: Flipped) -> str:
    """Write down what plays after what, as ``ordered`` reads it; spans that are no piece by parts.

    A piece's letter stands for any span that begins in it.
    """
    words = []
    for place in flip.places:
        word = letters_of(flip.piece_at(place.from_tick)) + "-" * place.backward
        words.append(word + (f"x{place.times}" if place.times > 1 else ""))
    return " ".join(words)


def to_length(flip: Flipped, ticks: int) -> Flipped:
    """Return a flip that is repeated to that many ticks; a longer one stays as it is."""
    if flip.long_ticks >= ticks:
        return flip
    return with_places(flip, _to(flip, ticks))


def heard_in(flip: Flipped, ticks: int) -> Flipped:
    """Return what is heard of a flip in a loop of that many ticks: what lies after it is left out.

    A flip that is shorter stays as it is.
    """
    return flip if flip.long_ticks <= ticks else with_places(flip, _to(flip, ticks))


def _to(flip: Flipped, ticks: int) -> list[SlicePlacement]:
    """Places cut or repeated to that many ticks."""
    out: list[SlicePlacement] = []
    for start in range(0, ticks if flip.places else 0, flip.long_ticks):
        for place in flip.places:
            at = start + place.at_tick
            if ticks - at >= SHORTEST_TICKS:
                length = min(place.length_ticks, ticks - at)
                out.append(replace(place, at_tick=at, length_ticks=length))
    return out


def in_bars(flip: Flipped, bars: int, metre: tuple[int, int]) -> Flipped:
    """Lay what was cut over that many bars, all that plays going along: slower, or quicker.

    Raises CloudriftError where a piece would become too short, or it does not keep to the tempo.
    """
    if flip.of.fit not in ("tempo", "tape") or not flip.of.facts.tempo:
        raise CloudriftError(f"{flip.name} does not follow the tempo, so it can't last {bars} bars")
    ticks = bars * bar_ticks(metre)
    ratio = Fraction(ticks, flip.length_ticks)
    longer_by = round(flip.longer * float(ratio), 9)
    if not LEAST_LONGER <= longer_by <= MOST_LONGER:
        raise CloudriftError(
            f"over {bars} bars, {flip.name} would last {longer_by:g} times as long; "
            f"{LEAST_LONGER:g} to {MOST_LONGER:g} times is possible"
        )

    def longer(tick: int) -> int:
        return round(tick * ratio)

    def place(one: SlicePlacement) -> SlicePlacement:
        at, start = longer(one.at_tick), longer(one.from_tick)
        return replace(
            one,
            at_tick=at,
            length_ticks=longer(one.end_tick) - at,
            from_tick=start,
            from_ticks=longer(one.end_from) - start,
        )

    def chord(one: Chord) -> Chord:
        return lasting(one, longer(one.start_tick), longer(one.end_tick))

    return replace(
        flip,
        length_ticks=ticks,
        cuts=tuple(longer(cut) for cut in flip.cuts),
        places=tuple(place(one) for one in flip.places),
        chords=tuple(chord(one) for one in flip.chords),
        labels=tuple(replace(one, at_tick=longer(one.at_tick)) for one in flip.labels),
        longer=longer_by,
    )


def labelled(flip: Flipped, tick: int, name: str) -> Flipped:
    """Call what was cut something from a tick on; an empty name takes the label there out."""
    others = [label for label in flip.labels if label.at_tick != tick]
    if name.strip():
        others.append(Label(at_tick=tick, name=name.strip()))
    return replace(flip, labels=tuple(sorted(others, key=lambda label: label.at_tick)))
