"""Making a flip and cutting it: at chords, beats, bars, onsets, labels, or evenly."""

from collections.abc import Iterable

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.model.chord import Chord
from cloudrift.loop.model.flip import SHORTEST_TICKS, Flipped, SlicePlacement
from cloudrift.loop.model.recorded import FromRecording
from cloudrift.notes.time import bar_ticks, beat_ticks

CUT_AT = ("chords", "beats", "bars", "transients", "labels", "equal")


def flip_of(
    of: FromRecording,
    length_ticks: int,
    chords: tuple[Chord, ...] = (),
    print_id: str = "",
    cuts: tuple[int, ...] = (0,),
) -> Flipped:
    """Return a flip in which everything plays where it was."""
    made = Flipped(
        of=of, length_ticks=length_ticks, cuts=cuts, places=(), chords=chords, print_id=print_id
    )
    return reset(made)


def cuts_at(
    flip: Flipped, what: str, metre: tuple[int, int], count: int = 16, hits: Iterable[int] = ()
) -> tuple[int, ...]:
    """Return where a flip is cut: at ``CUT_AT``; ``equal`` makes that many pieces.

    ``hits`` are the ticks at which something is struck in it, for who wants it cut there.
    """
    total = flip.length_ticks
    if what == "chords":
        found = [0, *(chord.start_tick for chord in flip.chords)]
        if len(found) < 2:
            raise CloudriftError("it has no known chords; slice it at beats, or equally")
    elif what == "labels":
        found = [label.at_tick for label in flip.labels]
        if not found:
            raise CloudriftError("it has no labels; select a piece and press Label")
    elif what in ("beats", "bars"):
        found = list(range(0, total, beat_ticks(metre) if what == "beats" else bar_ticks(metre)))
    elif what == "transients":
        found = list(hits)
        if not found:
            raise CloudriftError("it has no transients; slice it at beats, or equally")
    elif what == "equal":
        if not 1 <= count <= total // SHORTEST_TICKS:
            raise CloudriftError(
                f"{count} slices are not possible; use 1 to {total // SHORTEST_TICKS}"
            )
        found = [round(total * i / count) for i in range(count)]
    else:
        raise CloudriftError(f"there is no slicing at {what}; known are {', '.join(CUT_AT)}")
    return tidied(found, total)


def tidied(found: Iterable[int], total: int) -> tuple[int, ...]:
    """Return cuts in order, from 0 on, each far enough from the next and from the end."""
    out = [0]
    for cut in sorted(set(found)):
        if cut - out[-1] >= SHORTEST_TICKS and total - cut >= SHORTEST_TICKS:
            out.append(cut)
    return tuple(out)


def cut(flip: Flipped, cuts: tuple[int, ...]) -> Flipped:
    """Cut it elsewhere: what plays where it was is cut again, what was moved stays."""
    moved = any(
        not place.plain or place.backward or place.at_tick != place.from_tick
        for place in flip.places
    )
    whole = sum(place.length_ticks for place in flip.places) == flip.length_ticks
    made = replace(flip, cuts=cuts)
    return made if moved or not whole else reset(made)


def reset(flip: Flipped) -> Flipped:
    """Let every piece play where it was."""
    places = (
        SlicePlacement(at_tick=a, length_ticks=b - a, from_tick=a, from_ticks=b - a)
        for a, b in flip.pieces
    )
    return replace(flip, places=tuple(places))


def with_places(flip: Flipped, places: Iterable[SlicePlacement]) -> Flipped:
    """Return a flip with other places, in order."""
    return replace(flip, places=tuple(sorted(places, key=lambda place: place.at_tick)))
