"""Marks of the groove bed, whether it is heard or kept."""

from collections import Counter
from collections.abc import Callable, Iterable
from typing import Any

from cloudrift.loop.edits.bed import beds, hitting
from cloudrift.loop.model.bed import MOST_SWING, STRAIGHT, Bed, hits_of
from cloudrift.loop.model.hits import Hit, Pattern
from cloudrift.loop.model.layer import Layer
from cloudrift.loop.model.loop import Loop
from cloudrift.notes.time import TICKS_PER_QUARTER, bar_ticks, beat_ticks
from cloudrift.style.marks.kind import Change, Found, Kind, to_range
from cloudrift.style.marks.view import View, names

NEAR_MS = 30.0  # what strikes so near covers the other's beginning
APART_MS = -32.0
HATS = ("closed hat", "open hat")
BACK = ("snare", "clap", "snap")
KICKS = ("kick", "low kick")
LOUD = 0.75  # of a lane's loudest: softer hits are ghosts
WHERE = {
    "three": (2,),
    "two and four": (1, 3),
    "two": (1,),
    "every beat": (0, 1, 2, 3),
    "one and three": (0, 2),
}
ELSEWHERE = "elsewhere"


def _lanes(view: View, sounds: Iterable[str]) -> list[Layer]:
    """The lanes whose stack has one of some sounds."""
    wanted = set(sounds)
    return [x for x in view.loop.lanes if wanted & {use.name for use in x.source.sounds}]


def _low(view: View) -> list[Layer]:
    return [x for x in view.loop.lanes if hits_of(x).on_roots]


def _swing(_view: View, bed: Bed) -> Found:
    return Found(value=bed.swing, where=bed.manner)


def _to_swing(view: View, asked: tuple[float, float]) -> Change | None:
    if view.loop.bed is None:
        return None
    aim = round(to_range(view.loop.bed.swing, asked), 1)
    return Change(words=f"swings at {aim:g} %", edit=lambda loop: beds.set_bed(loop, swing=aim))


def _feel(_view: View, bed: Bed) -> Found:
    return Found(value=bed.late_ms)


def _to_feel(view: View, asked: tuple[float, float]) -> Change | None:
    if view.loop.bed is None:
        return None
    aim = round(to_range(view.loop.bed.late_ms, asked), 1)
    where = "late" if aim > 0 else "early"
    return Change(
        words=f"{abs(aim):g} ms {where}" if aim else "on the beat",
        edit=lambda loop: beds.set_bed(loop, late_ms=aim),
    )


def _a_bar(lane: Layer) -> float:
    pattern = hits_of(lane).pattern
    return len(pattern.hits) / pattern.bars


def _hats(view: View, _bed: Bed) -> Found:
    of = _lanes(view, HATS)
    return Found(value=sum(map(_a_bar, of)), where=names([x.name for x in of]))


def _to_hats(view: View, asked: tuple[float, float]) -> Change | None:
    """The closed hats in even steps, as many as are wanted; what lies between them goes."""
    of = _lanes(view, HATS[:1])
    if not of:
        return None
    lane, bar = of[0], bar_ticks(view.loop.metre)
    rest = sum(_a_bar(x) for x in _lanes(view, HATS) if x is not lane)
    aim = max(1, round(sum(asked) / 2 - rest))
    pattern = hits_of(lane).pattern
    loud = max((hit.velocity for hit in pattern.hits), default=96)
    hits = tuple(
        Hit(tick=turn * bar + round(i * bar / aim), velocity=loud if i % 2 == 0 else loud * 3 // 4)
        for turn in range(pattern.bars)
        for i in range(aim)
    )
    return Change(
        words=f"{lane.name} {aim} times per bar",
        edit=lambda loop: hitting.with_hits(loop, lane.id, hits),
    )


def _strokes(view: View, bed: Bed) -> Found:
    return Found(value=sum(map(_a_bar, bed.lanes)), where=names([x.name for x in bed.lanes], 6))


def _drums(view: View, bed: Bed) -> Found:
    return Found(value=float(len(bed.lanes)), where=names([x.name for x in bed.lanes], 8))


def _near(view: View, _bed: Bed) -> Found | None:
    """How many of the kicks fall on a low drum's beginning."""
    kicks, low = _lanes(view, KICKS), _low(view)
    hits = [(x, hit) for x in kicks for hit in hits_of(x).pattern.hits]
    if not hits or not low:
        return None
    close = [hit for x, hit in hits if _covers(view, x, hit, low)]
    return Found(value=100 * len(close) / len(hits), where=f"{len(close)} of {len(hits)} kicks")


def _covers(view: View, kick: Layer, hit: Hit, low: list[Layer]) -> bool:
    ms = 60_000 / view.loop.sounding_tempo / TICKS_PER_QUARTER
    at = hit.tick * ms + hit.late_ms + hits_of(kick).late_ms
    return any(
        abs(at - (one.tick * ms + one.late_ms + hits_of(x).late_ms)) < NEAR_MS
        for x in low
        for one in hits_of(x).pattern.hits
    )


def _to_near(view: View, asked: tuple[float, float]) -> Change | None:
    """Apart: each kick that is in the way comes a little before."""
    kicks, low = _lanes(view, KICKS), _low(view)
    if asked[1] >= 100 or not kicks:
        return None

    def edit(loop: Loop) -> Loop:
        for lane in kicks:
            of = {
                i
                for i, hit in enumerate(hits_of(lane).pattern.hits)
                if _covers(view, lane, hit, low)
            }
            late = APART_MS - hits_of(lane).late_ms
            loop = hitting.set_hits(loop, lane.id, of, late_ms=late)
        return loop

    return Change(words=f"the kick {-APART_MS:g} ms before the low drum", edit=edit)


def _backbeat(view: View, _bed: Bed) -> Found | None:
    """On which beats the loud hits of snare, clap and snap fall, in most bars."""
    of = _lanes(view, BACK)
    bar, beat = bar_ticks(view.loop.metre), beat_ticks(view.loop.metre)
    found: Counter[int] = Counter()
    bars = 1
    for lane in of:
        pattern = hits_of(lane).pattern
        bars = max(bars, pattern.bars)
        loud = LOUD * max((hit.velocity for hit in pattern.hits), default=0)
        on = {
            hit.tick // bar * 100 + hit.tick % bar // beat
            for hit in pattern.hits
            if hit.velocity >= loud and hit.tick % beat == 0
        }
        found.update(place % 100 for place in on)
    if not found:
        return None
    most = max(found.values())
    beats = tuple(sorted(one for one, count in found.items() if count >= most / 2))
    words = next((name for name, where in WHERE.items() if where == beats), ELSEWHERE)
    return Found(value=words, where=names([x.name for x in of]))


def _to_backbeat(view: View, asked: tuple[str, ...]) -> Change | None:
    of, wanted = _lanes(view, BACK), next((x for x in asked if x in WHERE), "")
    if not of or not wanted:
        return None
    bar, beat = bar_ticks(view.loop.metre), beat_ticks(view.loop.metre)

    def edit(loop: Loop) -> Loop:
        for lane in of:
            pattern = hits_of(lane).pattern
            loud = max((hit.velocity for hit in pattern.hits), default=108)
            soft = [hit for hit in pattern.hits if hit.velocity < LOUD * loud and hit.tick % beat]
            on = [
                Hit(tick=turn * bar + one * beat, velocity=loud)
                for turn in range(pattern.bars)
                for one in WHERE[wanted]
                if one * beat < bar
            ]
            loop = hitting.with_hits(loop, lane.id, [*soft, *on])
        return loop

    return Change(words=f"{names([x.name for x in of], 2)} on {wanted}", edit=edit)


def _low_held(view: View, _bed: Bed) -> Found | None:
    """How much of the time to the next low drums are held, the mean."""
    shares = []
    for lane in _low(view):
        pattern = hits_of(lane).pattern
        shares += _shares(pattern, bar_ticks(view.loop.metre))
    if not shares:
        return None
    return Found(value=100 * sum(shares) / len(shares), where=names([x.name for x in _low(view)]))


def _shares(pattern: Pattern, bar: int) -> list[float]:
    hits = pattern.hits
    if not hits:
        return []
    then = [*(hit.tick for hit in hits[1:]), hits[0].tick + pattern.bars * bar]
    return [
        min(1.0, hit.length_ticks / max(1, end - hit.tick)) if hit.length_ticks else 1.0
        for hit, end in zip(hits, then, strict=True)
    ]


def _to_low_held(view: View, asked: tuple[float, float]) -> Change | None:
    of = _low(view)
    if not of:
        return None
    share = sum(asked) / 200

    def edit(loop: Loop) -> Loop:
        for lane in of:
            numbers = range(len(hits_of(lane).pattern.hits))
            loop = hitting.cut_short(loop, lane.id, numbers, share)
        return loop

    return Change(words=f"low drums last {100 * share:.0f} %", edit=edit)


def _ducked(_view: View, bed: Bed) -> Found:
    duck = bed.duck
    where = names([x.name for x in bed.lanes if duck and x.id in duck.lanes])
    return Found(value=duck.depth_db if duck and duck.lanes else 0.0, where=where)


def _to_ducked(view: View, asked: tuple[float, float]) -> Change | None:
    aim = round(sum(asked) / 2, 1)
    kicks = tuple(x.id for x in _lanes(view, KICKS))
    bed = view.loop.bed
    if bed is None:
        return None
    if not aim:
        return Change(words="no ducking", edit=lambda loop: beds.duck_under(loop, ()))
    lanes = bed.duck.lanes if bed.duck else kicks
    if not lanes:
        return None

    def edit(loop: Loop) -> Loop:
        return beds.set_duck(beds.duck_under(loop, lanes), depth_db=aim)

    return Change(words=f"the loop ducked by {aim:g} dB", edit=edit)


def _kind(*, measure: Callable[[View, Bed], Found | None], **of: Any) -> Kind:
    """A kind of mark of the groove bed, measured where there is one with lanes."""

    def found(view: View) -> Found | None:
        bed = view.loop.bed
        return None if bed is None or not bed.lanes else measure(view, bed)

    return Kind(group="Groove", needs_bed=True, measure=found, **of)


KINDS = (
    _kind(name="swing", label="Swing", unit="%", low=STRAIGHT, high=MOST_SWING,
         decimals=1, about="position of the second step in each pair; 50 is "
                           "straight", measure=_swing, change=_to_swing),
    _kind(name="feel", label="Feel", unit="ms", low=-40, high=40, decimals=1,
         about="how late the groove bed plays; below 0: early",
         measure=_feel, change=_to_feel),
    _kind(name="hats_pace", label="Hats", unit="a bar", high=32, decimals=1,
         about="hi-hat hits per bar of the pattern",
         measure=_hats, change=_to_hats),
    _kind(name="bed_pace", label="Hits", unit="a bar", high=96, decimals=1,
         about="hits per bar of the pattern",
         measure=_strokes),
    _kind(name="drums", label="Drums", unit="lanes", high=16,
         about="number of lanes in the groove bed", measure=_drums),
    _kind(name="backbeat", label="Backbeat", words=(*WHERE, ELSEWHERE),
         about="beats of the loud snare, clap and snap hits in most bars",
         measure=_backbeat, change_word=_to_backbeat),
    _kind(name="kick_on_low", label="Kick with the low drum", unit="%",
         about="share of kicks within 30 ms of a low drum's onset",
         measure=_near, change=_to_near),
    _kind(name="low_held", label="Low drum length", unit="%",
         about="mean length of low drums as a share of the time to the next hit",
         measure=_low_held, change=_to_low_held),
    _kind(name="ducked", label="Ducked", unit="dB", high=24, decimals=1,
         about="how far drums duck the loop", measure=_ducked,
         change=_to_ducked),
)  # fmt: skip
