"""The roots that are heard in a loop: what a bass has to follow."""

from typing import TYPE_CHECKING

from cloudrift.loop.around import Root
from cloudrift.loop.flip import Flipped
from cloudrift.loop.flipping import heard_chords, shift_of
from cloudrift.texture.treatment import shift_st

if TYPE_CHECKING:
    from cloudrift.loop.model import Loop


def heard_roots(loop: "Loop") -> tuple[Root, ...]:
    """Return the roots that are heard, in order of time.

    Where nothing plays the chords any more but a flip of which they are known, they are those of
    its pieces where these lie now. All go with the shift of the whole loop's line.
    """
    whole = round(shift_st(loop.line, loop.line_blend))
    heard = loop.heard()
    flips = [x.source for x in heard if isinstance(x.source, Flipped) and x.source.chords]
    if flips and all(x.recorded is not None for x in heard):
        flip = flips[0]
        by = round(shift_of(flip, loop.tempo)) + whole
        return tuple(Root(start, min(end, loop.ticks), (chord.root + by) % 12)
                     for start, end, chord in sorted(heard_chords(flip), key=lambda x: x[:2])
                     if chord is not None and start < loop.ticks)  # fmt: skip
    return tuple(Root(c.start_tick + c.late_ticks, c.end_tick, (c.root + whole) % 12)
                 for c in loop.chords)  # fmt: skip
