"""Edits of flips: cutting, and what plays where."""

import re
from collections.abc import Iterable
from fractions import Fraction
from itertools import pairwise
from typing import Any

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.model import spec
from cloudrift.loop.model.chord import Chord, lasting
from cloudrift.loop.model.flip import (
    LEAST_LONGER,
    MOST_LONGER,
    SHORTEST_TICKS,
    Flipped,
    Label,
    Place,
    letters_of,
)
from cloudrift.loop.model.recorded import FromRecording
from cloudrift.notes.time import bar_ticks, beat_ticks

CUT_AT = ("chords", "beats", "bars", "hits", "labels", "even")
_PLACE = re.compile(r"([a-z]+)(-?)(?:x(\d+))?$")


# --- making one -----------------------------------------------------------------------------------


def flip_of(
    of: FromRecording, length_ticks: int, chords: tuple[Chord, ...] = (), print_id: str = "",
    cuts: tuple[int, ...] = (0,),
) -> Flipped:  # fmt: skip
    """Return a flip in which everything plays where it was."""
    made = Flipped(of=of, length_ticks=length_ticks, cuts=cuts, places=(), chords=chords,
                   print_id=print_id)  # fmt: skip
    return reset(made)


# --- cutting --------------------------------------------------------------------------------------


def cuts_at(
    flip: Flipped, what: str, metre: tuple[int, int], count: int = 16, hits: Iterable[int] = (),
) -> tuple[int, ...]:  # fmt: skip
    """Return where a flip is cut: at ``CUT_AT``; ``even`` makes so many pieces.

    ``hits`` are the ticks at which something is struck in it, for who wants it cut there.
    """
    total = flip.length_ticks
    if what == "chords":
        found = [0, *(chord.start_tick for chord in flip.chords)]
        if len(found) < 2:
            raise CloudriftError("no chords are known in it; cut it at beats, or evenly")
    elif what == "labels":
        found = [label.at_tick for label in flip.labels]
        if not found:
            raise CloudriftError("nothing of it has a label; choose a piece and press Label")
    elif what in ("beats", "bars"):
        found = list(range(0, total, beat_ticks(metre) if what == "beats" else bar_ticks(metre)))
    elif what == "hits":
        found = list(hits)
        if not found:
            raise CloudriftError("nothing is struck in it; cut it at beats, or evenly")
    elif what == "even":
        if not 1 <= count <= total // SHORTEST_TICKS:
            raise CloudriftError(
                f"{count} pieces can't be cut; take 1 to {total // SHORTEST_TICKS}"
            )
        found = [round(total * i / count) for i in range(count)]
    else:
        raise CloudriftError(f"nothing is cut at {what}; known are {', '.join(CUT_AT)}")
    return tidied(found, total)


def tidied(found: Iterable[int], total: int) -> tuple[int, ...]:
    """Return cuts in order, from 0 on, each far enough from the next and from the end."""
    out = [0]
    for cut in sorted(set(found)):
        if cut - out[-1] >= SHORTEST_TICKS and total - cut >= SHORTEST_TICKS:
            out.append(cut)
    return tuple(out)


def cut(flip: Flipped, cuts: tuple[int, ...]) -> Flipped:
    """Cut it elsewhere: what plays where it was is cut anew, what was moved stays."""
    moved = any(not place.plain or place.backward or place.at_tick != place.from_tick
                for place in flip.places)  # fmt: skip
    whole = sum(place.length_ticks for place in flip.places) == flip.length_ticks
    made = replace(flip, cuts=cuts)
    return made if moved or not whole else reset(made)


def reset(flip: Flipped) -> Flipped:
    """Let every piece play where it was."""
    places = (Place(at_tick=a, length_ticks=b - a, from_tick=a, from_ticks=b - a)
              for a, b in flip.pieces)  # fmt: skip
    return replace(flip, places=tuple(places))


# --- places ---------------------------------------------------------------------------------------


def _at(flip: Flipped, number: int) -> Place:
    if not 0 <= number < len(flip.places):
        raise CloudriftError("there is no piece there; choose one below")
    return flip.places[number]


def with_places(flip: Flipped, places: Iterable[Place]) -> Flipped:
    """Return a flip with other places, in order."""
    return replace(flip, places=tuple(sorted(places, key=lambda place: place.at_tick)))


def set_place(flip: Flipped, number: int, **changes: Any) -> Flipped:
    """Change fields of one place: ``semitones``, ``level_db``, ``backward``, …"""
    now = replace(_at(flip, number), **changes)
    return with_places(flip, (now if i == number else x for i, x in enumerate(flip.places)))


def set_all(flip: Flipped, **changes: Any) -> Flipped:
    """Change fields of all places."""
    return with_places(flip, (replace(place, **changes) for place in flip.places))


def swap_backward(flip: Flipped, number: int) -> Flipped:
    """Turn a piece round, or forward again."""
    return set_place(flip, number, backward=not _at(flip, number).backward)


def swap_mute(flip: Flipped, number: int) -> Flipped:
    """Silence a piece, or let it sound again."""
    return set_place(flip, number, mute=not _at(flip, number).mute)


def take_out(flip: Flipped, number: int) -> Flipped:
    """Leave a gap where a piece plays."""
    _at(flip, number)
    return with_places(flip, (x for i, x in enumerate(flip.places) if i != number))


def halve(flip: Flipped, number: int) -> Flipped:
    """Cut a place in two, each with its half of what plays there."""
    place = _at(flip, number)
    length, span = place.length_ticks // 2, place.from_ticks // 2
    if min(length, span) < SHORTEST_TICKS:
        raise CloudriftError("that piece is too short to be halved")
    first = replace(place, length_ticks=length, from_ticks=span)
    second = replace(place, at_tick=place.at_tick + length,
                     length_ticks=place.length_ticks - length, from_tick=place.from_tick + span,
                     from_ticks=place.from_ticks - span)  # fmt: skip
    if place.backward:  # what plays first comes from the end
        spans = (first.from_tick, first.from_ticks), (second.from_tick, second.from_ticks)
        first = replace(first, from_tick=spans[1][0], from_ticks=spans[1][1])
        second = replace(second, from_tick=spans[0][0], from_ticks=spans[0][1])
    others = (x for i, x in enumerate(flip.places) if i != number)
    return with_places(flip, (*others, first, second))


def repeat(flip: Flipped, number: int) -> Flipped:
    """Let a piece play once more in the place of what comes behind it."""
    place = _at(flip, number)
    end = min(place.end_tick + place.length_ticks, flip.length_ticks)
    if end - place.end_tick < SHORTEST_TICKS:
        raise CloudriftError("there is nothing behind that piece; repeat an earlier one")
    again = replace(place, at_tick=place.end_tick, length_ticks=end - place.end_tick)
    return lay(flip, again)


def copy_on(flip: Flipped, number: int) -> Flipped:
    """Let a piece play again and again behind itself, to the end."""
    place = _at(flip, number)
    if place.end_tick + SHORTEST_TICKS > flip.length_ticks:
        raise CloudriftError("there is nothing behind that piece; copy an earlier one")
    for tick in range(place.end_tick, flip.length_ticks - SHORTEST_TICKS + 1, place.length_ticks):
        length = min(place.length_ticks, flip.length_ticks - tick)
        flip = lay(flip, replace(place, at_tick=tick, length_ticks=length))
    return flip


def slow(flip: Flipped, number: int) -> Flipped:
    """Let the first half of what plays in a place fill it, half as fast, at its pitch."""
    place = _at(flip, number)
    half = place.from_ticks // 2
    if half < SHORTEST_TICKS:
        raise CloudriftError("that piece is too short to be slowed")
    start = place.from_tick + (place.from_ticks - half if place.backward else 0)
    return set_place(flip, number, from_tick=start, from_ticks=half, fills=True)


def stutter(flip: Flipped, number: int, times: int) -> Flipped:
    """Strike a piece's start several times in its place."""
    place = _at(flip, number)
    if place.length_ticks // times < SHORTEST_TICKS:
        raise CloudriftError(f"that piece is too short to be struck {times} times")
    return set_place(flip, number, times=times)


def swap(flip: Flipped, number: int, other: int) -> Flipped:
    """Let two places change what plays in them."""
    one, two = _at(flip, number), _at(flip, other)

    def in_place(what: Place, where: Place) -> Place:
        return replace(what, at_tick=where.at_tick, length_ticks=where.length_ticks)

    kept = (x for i, x in enumerate(flip.places) if i not in (number, other))
    return with_places(flip, (*kept, in_place(two, one), in_place(one, two)))


def put_piece(flip: Flipped, piece: int, number: int) -> Flipped:
    """Let a piece from above play as it is in a place, as long as that is, at its level and pan."""
    place, (start, end) = _at(flip, number), flip.pieces[piece]
    new = Place(at_tick=place.at_tick, length_ticks=place.length_ticks, from_tick=start,
                from_ticks=end - start, level_db=place.level_db, pan=place.pan)  # fmt: skip
    return with_places(flip, (new if i == number else x for i, x in enumerate(flip.places)))


def put_at(flip: Flipped, piece: int, tick: int) -> Flipped:
    """Let a piece from above play from a tick on, over what plays there."""
    start, end = flip.pieces[piece]
    tick = max(0, min(tick, flip.length_ticks - SHORTEST_TICKS))
    length = min(end - start, flip.length_ticks - tick)
    return lay(flip, Place(at_tick=tick, length_ticks=length, from_tick=start,
                           from_ticks=end - start))  # fmt: skip


def move(flip: Flipped, number: int, tick: int) -> Flipped:
    """Let a place begin elsewhere, over what plays there; it leaves a gap behind."""
    place = _at(flip, number)
    tick = max(0, min(tick, flip.length_ticks - place.length_ticks))
    return lay(take_out(flip, number), replace(place, at_tick=tick))


def lay(flip: Flipped, new: Place) -> Flipped:
    """Put a place over what plays there: of that, what sticks out on either side stays."""
    places = [new]
    for place in flip.places:
        before = new.at_tick - place.at_tick
        behind = place.end_tick - new.end_tick
        if place.end_tick <= new.at_tick or place.at_tick >= new.end_tick:
            places.append(place)
            continue
        if before >= SHORTEST_TICKS:
            places.append(_part(place, 0, before))
        if behind >= SHORTEST_TICKS:
            places.append(_part(place, place.length_ticks - behind, place.length_ticks))
    return with_places(flip, places)


def _part(place: Place, first: int, last: int) -> Place:
    """A place from one tick of it to another, with what plays in that."""
    start, end = min(first, place.from_ticks), min(last, place.from_ticks)
    if place.backward:
        start, end = place.from_ticks - end, place.from_ticks - start
    if end - start < SHORTEST_TICKS:
        start = max(0, min(start, place.from_ticks - SHORTEST_TICKS))
        end = start + SHORTEST_TICKS
    return replace(place, at_tick=place.at_tick + first, length_ticks=last - first,
                   from_tick=place.from_tick + start, from_ticks=end - start)  # fmt: skip


# --- the whole ------------------------------------------------------------------------------------


def backward(flip: Flipped) -> Flipped:
    """Play all of it backward: the last piece first, each turned round."""
    total = flip.length_ticks
    return with_places(flip, (
        replace(place, at_tick=total - place.end_tick, backward=not place.backward)
        for place in flip.places
    ))  # fmt: skip


def backward_in_order(flip: Flipped, first: int = 0, last: int | None = None) -> Flipped:
    """Turn each chord round in its own place, between two ticks: the chords keep their order.

    What plays in a chord's place is turned as a whole, so that its end comes first. Without known
    chords, each place is turned round where it is.
    """
    end = flip.length_ticks if last is None else last
    places = [place for place in flip.places if not first <= place.at_tick < end]
    for a, b in _in_chords(flip):
        inside = [place for place in flip.places
                  if a <= place.at_tick < b and first <= place.at_tick < end]  # fmt: skip
        for place in inside:
            at = max(0, a + b - place.end_tick)
            places.append(replace(place, at_tick=at, backward=not place.backward))
    return with_places(flip, places)


def _in_chords(flip: Flipped) -> list[tuple[int, int]]:
    """Spans that are turned round, each for itself: chords, or places where none are known.

    A place that reaches over a chord's end takes the chord behind along.
    """
    if not flip.chords:
        return [(place.at_tick, place.end_tick) for place in flip.places]
    edges = {0, flip.length_ticks, *(chord.start_tick for chord in flip.chords)}
    inside = {edge for edge in edges
              if not any(p.at_tick < edge < p.end_tick for p in flip.places)}  # fmt: skip
    return list(pairwise(sorted(inside | {0, flip.long_ticks})))


def on_grid(flip: Flipped, step: int) -> Flipped:
    """Let each place begin on the nearest multiple of so many ticks; what met before does so again.

    So what was played off the beat and cut where it is struck comes onto it. What would come where
    another begins already goes along with that one, as far behind it as it was.
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
                f"{word!r} is no piece; there are a to {letters_of(len(pieces) - 1)}, with a "
                "minus for backward and x4 for four strikes"
            )
        start, end = pieces[found[1]]
        length = min(end - start, flip.length_ticks - at)
        if length < SHORTEST_TICKS:
            break
        places.append(Place(at_tick=at, length_ticks=length, from_tick=start,
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
    """Return a flip that is repeated to so many ticks; a longer one stays as it is."""
    if flip.long_ticks >= ticks:
        return flip
    return with_places(flip, _to(flip, ticks))


def heard_in(flip: Flipped, ticks: int) -> Flipped:
    """Return what is heard of a flip in a loop of so many ticks: what lies behind it is left out.

    A flip that is shorter stays as it is.
    """
    return flip if flip.long_ticks <= ticks else with_places(flip, _to(flip, ticks))


def _to(flip: Flipped, ticks: int) -> list[Place]:
    """Places cut or repeated to so many ticks."""
    out: list[Place] = []
    for start in range(0, ticks if flip.places else 0, flip.long_ticks):
        for place in flip.places:
            at = start + place.at_tick
            if ticks - at >= SHORTEST_TICKS:
                length = min(place.length_ticks, ticks - at)
                out.append(replace(place, at_tick=at, length_ticks=length))
    return out


def in_bars(flip: Flipped, bars: int, metre: tuple[int, int]) -> Flipped:
    """Lay what was cut over so many bars, all that plays going along: slower, or quicker.

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
            f"{LEAST_LONGER:g} to {MOST_LONGER:g} times is what can be"
        )

    def longer(tick: int) -> int:
        return round(tick * ratio)

    def place(one: Place) -> Place:
        at, start = longer(one.at_tick), longer(one.from_tick)
        return replace(one, at_tick=at, length_ticks=longer(one.end_tick) - at, from_tick=start,
                       from_ticks=longer(one.end_from) - start)  # fmt: skip

    def chord(one: Chord) -> Chord:
        return lasting(one, longer(one.start_tick), longer(one.end_tick))

    return replace(
        flip, length_ticks=ticks, cuts=tuple(longer(cut) for cut in flip.cuts),
        places=tuple(place(one) for one in flip.places),
        chords=tuple(chord(one) for one in flip.chords),
        labels=tuple(replace(one, at_tick=longer(one.at_tick)) for one in flip.labels),
        longer=longer_by,
    )  # fmt: skip


def labelled(flip: Flipped, tick: int, name: str) -> Flipped:
    """Call what was cut something from a tick on; an empty name takes the label there out."""
    others = [label for label in flip.labels if label.at_tick != tick]
    if name.strip():
        others.append(Label(at_tick=tick, name=name.strip()))
    return replace(flip, labels=tuple(sorted(others, key=lambda label: label.at_tick)))


def moved(chord: Chord, semitones: int) -> Chord:
    """Return a chord so many semitones higher, by octaves where there are no such notes.

    How it was played is not told of it, for that is in the sound already.
    """
    voices = sorted({spec.in_reach(voice + semitones) for voice in chord.voices})
    return Chord(id=chord.id, start_tick=chord.start_tick, length_ticks=chord.length_ticks,
                 voices=tuple(voices), root=(chord.root + semitones) % 12)  # fmt: skip


def chords_now(flip: Flipped, semitones: int) -> tuple[Chord, ...]:
    """Return the chords that are heard in a flip so many semitones higher, place by place.

    The same chord in places that meet is one.
    """
    chords: list[Chord] = []
    for start, end, chord in flip.heard_chords:
        if chord is None:
            continue
        now = moved(chord, semitones)
        last = chords[-1] if chords else None
        if last is not None and last.voices == now.voices and last.end_tick == start:
            chords[-1] = replace(last, length_ticks=end - last.start_tick)
            continue
        chords.append(replace(now, id=f"c{len(chords) + 1}", start_tick=start,
                              length_ticks=end - start))  # fmt: skip
    return tuple(chords)
