"""Edits of hits: drawn, moved, rolled, thinned, panned, tuned; in the pattern that a lane plays.

Hits are named by their number in it. What hands back numbers says where the hits are afterwards.
"""

from collections.abc import Callable, Collection, Iterable
from typing import Any

from msgspec.structs import replace

from cloudrift.ground.draws import rng_for
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.bed.beds import lane_of, set_pattern
from cloudrift.loop.model.bed import hits_of
from cloudrift.loop.model.hits import MOST_LATE_MS, MOST_ST, Hit, Pattern
from cloudrift.loop.model.loop import Loop
from cloudrift.notes.time import bar_ticks, beat_ticks

Numbers = Collection[int]


def pattern_of(loop: Loop, lane_id: str) -> Pattern:
    """Return the pattern that a lane plays."""
    return hits_of(lane_of(loop, lane_id)).pattern


def pattern_ticks(loop: Loop, lane_id: str) -> int:
    """Return how long that is."""
    return pattern_of(loop, lane_id).bars * bar_ticks(loop.metre)


def with_hits(loop: Loop, lane_id: str, hits: Iterable[Hit]) -> Loop:
    """Put hits in the place of those of a lane's pattern: in order, one at a place and sound."""
    last = pattern_ticks(loop, lane_id) - 1
    found: dict[tuple[int, int], Hit] = {}
    for hit in hits:  # a later one at the same place is the one that was meant
        placed = replace(hit, tick=min(max(hit.tick, 0), last))
        found[placed.tick, placed.sound] = placed
    ordered = tuple(sorted(found.values(), key=lambda hit: (hit.tick, hit.sound)))
    return set_pattern(loop, lane_id, replace(pattern_of(loop, lane_id), hits=ordered))


def put_hit(loop: Loop, lane_id: str, hit: Hit) -> tuple[Loop, int]:
    """Put a hit into a lane, in the place of one that is there; return its number too."""
    loop = with_hits(loop, lane_id, (*pattern_of(loop, lane_id).hits, hit))
    return loop, number_at(loop, lane_id, hit.tick)


def number_at(loop: Loop, lane_id: str, tick: int) -> int:
    """Return the number of the hit at a tick; -1 where there is none."""
    hits = pattern_of(loop, lane_id).hits
    return next((i for i, hit in enumerate(hits) if hit.tick == tick), -1)


def take_hits(loop: Loop, lane_id: str, numbers: Numbers) -> Loop:
    """Take hits out."""
    hits = pattern_of(loop, lane_id).hits
    return with_hits(loop, lane_id, [hit for i, hit in enumerate(hits) if i not in numbers])


def change_hits(loop: Loop, lane_id: str, numbers: Numbers, edit: Callable[[Hit], Hit]) -> Loop:
    """Change some hits, each by itself; they come last, so that what they move onto goes."""
    hits = pattern_of(loop, lane_id).hits
    still = [hit for i, hit in enumerate(hits) if i not in numbers]
    return with_hits(loop, lane_id, [*still, *(edit(hits[i]) for i in sorted(numbers))])


def set_hits(loop: Loop, lane_id: str, numbers: Numbers, **changes: Any) -> Loop:
    """Set fields of some hits."""
    return change_hits(loop, lane_id, numbers, lambda hit: replace(hit, **changes))


def move_hits(loop: Loop, lane_id: str, numbers: Numbers, by: int) -> Loop:
    """Move hits by ticks, as far as all of them stay in the pattern."""
    hits = [pattern_of(loop, lane_id).hits[i] for i in numbers]
    if not hits:
        return loop
    last = pattern_ticks(loop, lane_id) - 1
    by = max(by, -min(hit.tick for hit in hits))
    by = min(by, last - max(hit.tick for hit in hits))
    return change_hits(loop, lane_id, numbers, lambda hit: replace(hit, tick=hit.tick + by))


def nudge_hits(loop: Loop, lane_id: str, numbers: Numbers, by_ms: float) -> Loop:
    """Play hits earlier or later than they are written."""

    def lean(hit: Hit) -> Hit:
        late = min(max(hit.late_ms + by_ms, -MOST_LATE_MS), MOST_LATE_MS)
        return replace(hit, late_ms=round(late, 1))

    return change_hits(loop, lane_id, numbers, lean)


def louder(loop: Loop, lane_id: str, numbers: Numbers, by: int) -> Loop:
    """Strike hits harder or softer."""
    return change_hits(
        loop,
        lane_id,
        numbers,
        lambda hit: replace(hit, velocity=min(max(hit.velocity + by, 1), 127)),
    )


def tune_hits(loop: Loop, lane_id: str, numbers: Numbers, by: int) -> Loop:
    """Move the pitch of hits by semitones."""
    return change_hits(
        loop,
        lane_id,
        numbers,
        lambda hit: replace(hit, st=min(max(hit.st + by, -MOST_ST), MOST_ST)),
    )


def copy_hits(loop: Loop, lane_id: str, numbers: Numbers, by: int) -> Loop:
    """Put copies of hits that many ticks later; what would lie after the pattern begins it."""
    hits, length = pattern_of(loop, lane_id).hits, pattern_ticks(loop, lane_id)
    copies = [replace(hits[i], tick=(hits[i].tick + by) % length) for i in sorted(numbers)]
    return with_hits(loop, lane_id, [*hits, *copies])


def copy_bar_on(loop: Loop, lane_id: str, bar: int) -> Loop:
    """Put what a bar of the pattern (from 0) has into all bars after it."""
    pattern, ticks = pattern_of(loop, lane_id), bar_ticks(loop.metre)
    inside = [hit for hit in pattern.hits if hit.tick // ticks == bar]
    before = [hit for hit in pattern.hits if hit.tick // ticks <= bar]
    copies = [
        replace(hit, tick=hit.tick + turn * ticks)
        for turn in range(1, pattern.bars - bar)
        for hit in inside
    ]
    return with_hits(loop, lane_id, [*before, *copies])


# --- rolls ----------------------------------------------------------------------------------------


def roll(
    loop: Loop,
    lane_id: str,
    first: int,
    last: int,
    count: int,
    *,
    loud: tuple[int, int] = (60, 110),
    like: Hit | None = None,
) -> Loop:
    """Strike ``count`` times between two ticks (the last not among them), evenly.

    What was there gives way. ``loud`` are the velocities of the first and the last stroke; what
    lies between goes evenly from one to the other. ``like`` is what each hit is like otherwise.
    """
    length = pattern_ticks(loop, lane_id)
    first, last = max(min(first, last), 0), min(max(first, last), length)
    if not 1 <= count <= last - first:
        raise CloudriftError(f"{count} hits don't fit there; drag further, or use fewer")
    like = like or Hit(tick=0)
    hits = []
    for i in range(count):
        share = i / max(count - 1, 1)
        velocity = round(loud[0] + share * (loud[1] - loud[0]))
        tick = first + round(i * (last - first) / count)
        hits.append(replace(like, tick=tick, velocity=min(max(velocity, 1), 127)))
    rest = [hit for hit in pattern_of(loop, lane_id).hits if not first <= hit.tick < last]
    return with_hits(loop, lane_id, [*rest, *hits])


def mirror(loop: Loop, lane_id: str, numbers: Numbers) -> Loop:
    """Turn the places of some hits round between the first and the last: a roll backward."""
    hits = pattern_of(loop, lane_id).hits
    ticks = [hits[i].tick for i in numbers]
    if len(ticks) < 2:
        raise CloudriftError("select at least two hits to mirror")
    both = min(ticks) + max(ticks)
    return change_hits(loop, lane_id, numbers, lambda hit: replace(hit, tick=both - hit.tick))


def thin(loop: Loop, lane_id: str, numbers: Numbers) -> Loop:
    """Take every second of some hits out."""
    return take_hits(loop, lane_id, sorted(numbers)[1::2])


# --- pan ------------------------------------------------------------------------------------------


def spread(loop: Loop, lane_id: str, numbers: Numbers, width: float, variation: int) -> Loop:
    """Pan some hits at random: from side to side in turn, each within a width."""
    hits, chosen = pattern_of(loop, lane_id).hits, sorted(numbers)
    rng = rng_for(variation, "pan", lane_id)
    side = 1 if rng.random() < 0.5 else -1
    out = list(hits)
    for turn, i in enumerate(chosen):
        far = width * rng.uniform(0.35, 1.0)
        out[i] = replace(hits[i], pan=round(side * (-1) ** turn * far, 2))
    return with_hits(loop, lane_id, out)


# --- the low end ----------------------------------------------------------------------------------


def high_jump(loop: Loop, lane_id: str, numbers: Numbers = ()) -> Loop:
    """Let the last hit (or some) jump an octave up; those that have jumped come back."""
    hits = pattern_of(loop, lane_id).hits
    if not hits:
        raise CloudriftError("there is no hit to change; draw one first")
    of = numbers or {len(hits) - 1}
    up = any(hits[i].st < 12 for i in of)
    return tune_hits(loop, lane_id, of, 12 if up else -12)


def cut_short(loop: Loop, lane_id: str, numbers: Numbers, share: float = 0.5) -> Loop:
    """Hold hits for a share of the time to the next, so that there are pauses."""
    hits, length = pattern_of(loop, lane_id).hits, pattern_ticks(loop, lane_id)
    starts = sorted({hit.tick for hit in hits})
    following = dict(zip(starts, [*starts[1:], starts[0] + length], strict=True)) if starts else {}

    def short(hit: Hit) -> Hit:
        return replace(hit, length_ticks=max(1, round(share * (following[hit.tick] - hit.tick))))

    return change_hits(loop, lane_id, numbers, short)


def skip_bar(loop: Loop, lane_id: str, every: int) -> Loop:
    """Leave every n-th bar of the pattern out."""
    bar = bar_ticks(loop.metre)
    hits = pattern_of(loop, lane_id).hits
    if every < 2 or pattern_of(loop, lane_id).bars < every:
        raise CloudriftError(f"the pattern has fewer than {every} bars; make it longer first")
    return with_hits(loop, lane_id, [hit for hit in hits if (hit.tick // bar + 1) % every])


def tension(loop: Loop, lane_id: str, beats: float = 2.0, st: int = 1) -> Loop:
    """Let the end of the pattern go away from its root by semitones, sliding there."""
    length = pattern_ticks(loop, lane_id)
    first = length - round(beats * beat_ticks(loop.metre))
    hits = pattern_of(loop, lane_id).hits
    late = {i for i, hit in enumerate(hits) if hit.tick >= first}
    if not late:
        like = (
            replace(hits[-1], tick=first, length_ticks=length - first)
            if hits
            else Hit(tick=first, length_ticks=length - first)
        )
        loop, number = put_hit(loop, lane_id, like)
        late = {number}
    return set_hits(loop, lane_id, late, st=st, glide_ms=60.0)


def slide(loop: Loop, lane_id: str, numbers: Numbers, ms: float = 90.0) -> Loop:
    """Let hits slide from the pitch of the one before; those that do, no longer."""
    hits = pattern_of(loop, lane_id).hits
    on = any(not hits[i].glide_ms for i in numbers)
    return set_hits(loop, lane_id, numbers, glide_ms=ms if on else 0.0)


def hand_over(loop: Loop, lane_id: str, at_tick: int) -> Loop:
    """Let hits before a tick play the first sound of a stack, those from there on the second."""
    if len(hits_of(lane_of(loop, lane_id)).stack) < 2:
        raise CloudriftError("two sounds are needed to alternate; add one to the stack first")
    hits = (
        replace(hit, sound=1 if hit.tick < at_tick else 2) for hit in pattern_of(loop, lane_id).hits
    )
    return with_hits(loop, lane_id, hits)
