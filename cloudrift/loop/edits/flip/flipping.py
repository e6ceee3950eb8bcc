"""Edits of flips: cutting, and what plays where."""

from typing import Any

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.flip.cutting import with_places
from cloudrift.loop.model.flip import SHORTEST_TICKS, Flipped, SlicePlacement

# --- making one -----------------------------------------------------------------------------------


# --- cutting --------------------------------------------------------------------------------------


# --- places ---------------------------------------------------------------------------------------


def _at(flip: Flipped, number: int) -> SlicePlacement:
    if not 0 <= number < len(flip.places):
        raise CloudriftError("there is no piece there; select one below")
    return flip.places[number]


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
    second = replace(
        place,
        at_tick=place.at_tick + length,
        length_ticks=place.length_ticks - length,
        from_tick=place.from_tick + span,
        from_ticks=place.from_ticks - span,
    )
    if place.backward:  # what plays first comes from the end
        spans = (first.from_tick, first.from_ticks), (second.from_tick, second.from_ticks)
        first = replace(first, from_tick=spans[1][0], from_ticks=spans[1][1])
        second = replace(second, from_tick=spans[0][0], from_ticks=spans[0][1])
    others = (x for i, x in enumerate(flip.places) if i != number)
    return with_places(flip, (*others, first, second))


def repeat(flip: Flipped, number: int) -> Flipped:
    """Let a piece play once more in the place of what comes after it."""
    place = _at(flip, number)
    end = min(place.end_tick + place.length_ticks, flip.length_ticks)
    if end - place.end_tick < SHORTEST_TICKS:
        raise CloudriftError("there is no room after that piece; repeat an earlier one")
    again = replace(place, at_tick=place.end_tick, length_ticks=end - place.end_tick)
    return lay(flip, again)


def copy_on(flip: Flipped, number: int) -> Flipped:
    """Let a piece play again and again after itself, to the end."""
    place = _at(flip, number)
    if place.end_tick + SHORTEST_TICKS > flip.length_ticks:
        raise CloudriftError("there is no room after that piece; repeat an earlier one")
    for tick in range(place.end_tick, flip.length_ticks - SHORTEST_TICKS + 1, place.length_ticks):
        length = min(place.length_ticks, flip.length_ticks - tick)
        flip = lay(flip, replace(place, at_tick=tick, length_ticks=length))
    return flip


def slow(flip: Flipped, number: int) -> Flipped:
    """Let the first half of what plays in a place fill it, half as fast, at its pitch."""
    place = _at(flip, number)
    half = place.from_ticks // 2
    if half < SHORTEST_TICKS:
        raise CloudriftError("that piece is too short for half speed")
    start = place.from_tick + (place.from_ticks - half if place.backward else 0)
    return set_place(flip, number, from_tick=start, from_ticks=half, fills=True)


def stutter(flip: Flipped, number: int, times: int) -> Flipped:
    """Strike a piece's start several times in its place."""
    place = _at(flip, number)
    if place.length_ticks // times < SHORTEST_TICKS:
        raise CloudriftError(f"that piece is too short to be repeated {times} times")
    return set_place(flip, number, times=times)


def swap(flip: Flipped, number: int, other: int) -> Flipped:
    """Let two places change what plays in them."""
    one, two = _at(flip, number), _at(flip, other)

    def in_place(what: SlicePlacement, where: SlicePlacement) -> SlicePlacement:
        return replace(what, at_tick=where.at_tick, length_ticks=where.length_ticks)

    kept = (x for i, x in enumerate(flip.places) if i not in (number, other))
    return with_places(flip, (*kept, in_place(two, one), in_place(one, two)))


def put_piece(flip: Flipped, piece: int, number: int) -> Flipped:
    """Let a piece from above play as it is in a place, as long as that is, at its level and pan."""
    place, (start, end) = _at(flip, number), flip.pieces[piece]
    new = SlicePlacement(
        at_tick=place.at_tick,
        length_ticks=place.length_ticks,
        from_tick=start,
        from_ticks=end - start,
        level_db=place.level_db,
        pan=place.pan,
    )
    return with_places(flip, (new if i == number else x for i, x in enumerate(flip.places)))


def put_at(flip: Flipped, piece: int, tick: int) -> Flipped:
    """Let a piece from above play from a tick on, over what plays there."""
    start, end = flip.pieces[piece]
    tick = max(0, min(tick, flip.length_ticks - SHORTEST_TICKS))
    length = min(end - start, flip.length_ticks - tick)
    return lay(
        flip,
        SlicePlacement(at_tick=tick, length_ticks=length, from_tick=start, from_ticks=end - start),
    )


def move(flip: Flipped, number: int, tick: int) -> Flipped:
    """Let a place begin elsewhere, over what plays there; it leaves a gap behind."""
    place = _at(flip, number)
    tick = max(0, min(tick, flip.length_ticks - place.length_ticks))
    return lay(take_out(flip, number), replace(place, at_tick=tick))


def lay(flip: Flipped, new: SlicePlacement) -> Flipped:
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


def _part(place: SlicePlacement, first: int, last: int) -> SlicePlacement:
    """A place from one tick of it to another, with what plays in that."""
    start, end = min(first, place.from_ticks), min(last, place.from_ticks)
    if place.backward:
        start, end = place.from_ticks - end, place.from_ticks - start
    if end - start < SHORTEST_TICKS:
        start = max(0, min(start, place.from_ticks - SHORTEST_TICKS))
        end = start + SHORTEST_TICKS
    return replace(
        place,
        at_tick=place.at_tick + first,
        length_ticks=last - first,
        from_tick=place.from_tick + start,
        from_ticks=end - start,
    )


# --- the whole ------------------------------------------------------------------------------------
