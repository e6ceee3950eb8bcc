"""Drawing a groove from a loop: strokes that land where the loop strikes, in a manner."""

from dataclasses import dataclass

import numpy as np
from msgspec.structs import replace

from cloudrift.ground.draws import rng_for
from cloudrift.loop.edits.bed.beds import BARE, FIRST, SECOND, lane_for, set_bed
from cloudrift.loop.model.bed import Bed, Duck, hits_of
from cloudrift.loop.model.hits import Hit, Pattern
from cloudrift.loop.model.layer import Layer
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.sounding import notes_of
from cloudrift.notes.time import bar_ticks
from cloudrift.render.measure.strokes import LOUD_SHARE, STEP_TICKS, Strengths, folded
from cloudrift.style.card import CardGroove
from cloudrift.style.card_files import known_cards
from cloudrift.style.manner import Manner, MannerLane, chances_of, find_manner, manners

APART_MS = 32.0  # what keeps a kick and a low drum from covering each other's beginning
NEUTRAL = 0.5  # as busy as that, chances are what a manner says
SHARPER, MOST_LEAN = 1.7, 5.0  # how much likelier a stroke is where the loop strikes
STRUCK_ROLES = ("keys", "pluck", "lead", "bell")
LOW = ("low drum", "sub", "synth bass", "low octave")
HIGH_JUMP_ST = 12


@dataclass(frozen=True)
class _Steps:
    """The steps of a pattern: how many, in how many bars; how strongly the loop strikes at each."""

    bars: int
    a_bar: int
    strengths: Strengths

    @property
    def count(self) -> int:
        return self.bars * self.a_bar


def suggest_bed(
    loop: Loop, manner: Manner, strengths: Strengths, *, variation: int, busy: float = NEUTRAL
) -> Loop:
    """Return a loop with a groove bed drawn in a manner.

    Parameters
    ----------
    strengths : how strongly the loop strikes at each sixteenth (``render.strokes``).
    draw : the number that decides everything that the manner leaves open.
    busy : 0 (only what is always there) to 1; 0.5 is what the manner says.

    Lanes that are locked stay as they are; what all share (line, level, ducking) stays where there
    is a bed already. Three patterns are drawn: A, B (which ends otherwise) and Bare.
    """
    bed = loop.bed or Bed()
    rng = rng_for(variation, "bed", manner.name)
    a_bar = bar_ticks(loop.metre) // STEP_TICKS
    bars = min(manner.bars, loop.bars)
    steps = _Steps(bars, a_bar, folded(strengths, bars, loop.metre))
    kept = tuple(lane for lane in bed.lanes if lane.id in bed.locked)
    loop = set_bed(loop, lanes=kept)
    drawn: list[tuple[MannerLane, Layer]] = []
    for number, of in enumerate(manner.lanes):
        if rng_for(variation, "lane", number).random() >= of.chance:
            continue
        patterns = tuple(
            _pattern(of, steps, variation, busy, name) for name in (FIRST, SECOND, BARE)
        )
        lane = lane_for(loop, of.part, patterns)
        if lane.name in {x.name for x in kept}:
            continue
        late = rng_for(variation, "late", number).uniform(*of.late_ms)
        lane = replace(lane, source=replace(hits_of(lane), late_ms=round(float(late), 1)))
        loop = set_bed(loop, lanes=(*loop.lanes, lane))
        drawn.append((of, lane))
    lanes = _apart(loop.lanes, drawn, manner)
    swing, late = (round(float(rng.uniform(*ends)), 1) for ends in (manner.swing, manner.late_ms))
    kicks = tuple(lane.id for of, lane in drawn if of.part == "kick")
    duck = bed.duck
    if duck is None and kicks and manner.duck_db:
        duck = Duck(lanes=kicks, depth_db=manner.duck_db)
    elif duck is not None:
        there = {lane.id for lane in lanes}
        left = tuple(x for x in duck.lanes if x in there) or kicks
        duck = replace(duck, lanes=left) if left else None
    return set_bed(loop, lanes=lanes, swing=swing, swing_ticks=manner.swing_ticks, late_ms=late,
                   manner=manner.name, variation=variation, busy=busy, duck=duck)  # fmt: skip


def usual_manner(loop: Loop) -> str:
    """Return the manner that goes with a loop's style card; the first there is without one."""
    card = known_cards().get(loop.style)
    if card is not None and card.groove is not None:
        return card.groove.manners[0]
    return next(iter(manners()))


def written_strengths(loop: Loop) -> Strengths:
    """Return how strongly a loop strikes at each sixteenth as its notes say it, 0 to 1: (steps,).

    For who has no sound yet. What strikes short counts more than what is held.
    """
    out = np.zeros(loop.ticks // STEP_TICKS)
    for layer in loop.heard():
        for note in notes_of(loop, layer):
            short = 1.0 if layer.role in STRUCK_ROLES else 0.5
            step = round(note.start_tick / STEP_TICKS) % len(out)
            out[step] += short * note.velocity / 127
    top = float(np.quantile(out, LOUD_SHARE)) or float(out.max(initial=0.0))
    return np.minimum(out / top, 1.0) if top else out


def bed_in_style(loop: Loop, groove: CardGroove, variation: int) -> Loop:
    """Return a loop with a groove bed as a style card asks for it, off at first."""
    rng = rng_for(variation, "groove")
    manner = find_manner(groove.manners[int(rng.integers(len(groove.manners)))])
    busy = float(rng.uniform(*groove.busy)) / 100
    loop = suggest_bed(
        loop, manner, written_strengths(loop), variation=variation, busy=round(busy, 2)
    )
    bed = loop.bed
    assert bed is not None
    return set_bed(loop, group=replace(bed.group, mute=True))


def _pattern(of: MannerLane, steps: _Steps, variation: int, busy: float, name: str) -> Pattern:
    """One pattern of a lane. B shares A's but for its last bar; Bare has the certain ones."""
    chances = _chances(of, steps, busy, bare=name == BARE)
    falls = rng_for(variation, "strokes", of.part).random(steps.count)
    if name == SECOND:
        other = rng_for(variation, "strokes of B", of.part).random(steps.count)
        falls = np.where(np.arange(steps.count) >= steps.count - steps.a_bar, other, falls)
    struck = np.flatnonzero(falls < chances)
    if name == BARE and of.part in LOW:
        struck = struck[struck % steps.a_bar == 0]
    certain = _certain(of, steps)
    rng = rng_for(variation, "touch", of.part, name)
    hits = []
    side = 1 if rng.random() < 0.5 else -1
    for turn, step in enumerate(struck):
        low, high = of.velocity
        velocity = rng.uniform(low, high) - (0 if certain[step] else rng.uniform(0.3, 1) * of.ghost)
        pan = side * (-1) ** turn * of.pan * rng.uniform(0.4, 1)
        hits.append(
            Hit(
                tick=int(step) * STEP_TICKS,
                velocity=int(min(max(velocity, 8), 127)),
                pan=round(float(pan), 2),
            )
        )
    if of.rolls is not None and name != BARE:
        hits = _rolled(of, hits, steps, variation, busy, name)
    if of.part in LOW:
        hits = _low(of, hits, steps, variation, name)
    return Pattern(name=name, bars=steps.bars, hits=tuple(hits))


def _rows(of: MannerLane, steps: _Steps) -> list[float]:
    """The chances of all steps as they are written, in whatever metre there is."""
    out: list[float] = []
    for bar in range(steps.bars):
        row = chances_of(of.steps[bar % len(of.steps)])
        if of.every_bars and bar % of.every_bars:
            row = [0.0] * len(row)
        if of.last and bar == steps.bars - 1:
            row = [max(one, more) for one, more in zip(row, chances_of(of.last), strict=True)]
        out += np.resize(row, steps.a_bar).tolist()
    return out


def _certain(of: MannerLane, steps: _Steps) -> list[bool]:
    return [chance >= 1 for chance in _rows(of, steps)]


def _chances(of: MannerLane, steps: _Steps, busy: float, *, bare: bool) -> Strengths:
    """How likely each step is struck: as written, as busy, and as the loop strikes there."""
    written = np.array(_rows(of, steps))
    if bare:
        return np.where(written >= 1, 1.0, 0.0)
    written = np.maximum(written, of.follows * steps.strengths**2)
    open_ = written < 1
    # Where the loop strikes as strongly as it does in the mean, a chance stays what it is.
    strong = steps.strengths**SHARPER
    lean = strong / max(float(strong.mean()), 1e-9) if strong.any() else np.ones(steps.count)
    lean = (1 - of.onsets) + of.onsets * np.minimum(lean, MOST_LEAN)
    odds = written / np.maximum(1 - written, 1e-9) * lean * (busy / max(1 - busy, 1e-9))
    return np.where(open_, odds / (1 + odds), 1.0)


def _rolled(
    of: MannerLane, hits: list[Hit], steps: _Steps, variation: int, busy: float, name: str
) -> list[Hit]:
    """Put rolls where the manner has them: what lies in them gives way."""
    rolls = of.rolls
    assert rolls is not None
    for bar in range(steps.bars):
        # In the last bar of B there is another variation, as of the strokes.
        which = name if bar == steps.bars - 1 else FIRST
        rng = rng_for(variation, "rolls", of.part, which, bar)
        places = [at for at in rolls.at if at < steps.a_bar]
        if not places or rng.random() >= rolls.chance * 2 * busy:
            continue
        first = (bar * steps.a_bar + int(rng.choice(places))) * STEP_TICKS
        span = min(rolls.steps * STEP_TICKS, steps.count * STEP_TICKS - first)
        count = int(rng.choice(rolls.strokes))
        st = int(rng.choice(rolls.st))
        hits = [hit for hit in hits if not first <= hit.tick < first + span]
        top = of.velocity[1]
        for i in range(count):
            share = i / max(count - 1, 1)
            loud = 1 - abs(rolls.swell) * (1 - share if rolls.swell > 0 else share)
            pan = rolls.pan * (2 * share - 1)
            hits.append(
                Hit(
                    tick=first + round(i * span / count),
                    velocity=max(10, int(top * loud)),
                    pan=round(pan, 2),
                    st=st,
                )
            )
    return sorted(hits, key=lambda hit: hit.tick)


def _low(of: MannerLane, hits: list[Hit], steps: _Steps, variation: int, name: str) -> list[Hit]:
    """Give low notes lengths, slides and jumps; at the end, perhaps, a half step away."""
    rng = rng_for(variation, "low", of.part)
    end = steps.count * STEP_TICKS
    if not hits:
        return hits
    following = [*(hit.tick for hit in hits[1:]), hits[0].tick + end]
    out: list[Hit] = []
    for hit, then in zip(hits, following, strict=True):
        share, slides, jumps = rng.uniform(*of.lengths), rng.random(), rng.random()
        length = max(STEP_TICKS // 2, round(share * (then - hit.tick)))
        changes: dict[str, float] = {"length_ticks": length, "pan": 0.0}
        if slides < of.slides and out:
            changes["glide_ms"] = 80.0
        if jumps < of.jumps and name != BARE:
            changes["st"] = HIGH_JUMP_ST
        out.append(replace(hit, **changes))
    if name == SECOND:
        out[-1] = replace(out[-1], st=HIGH_JUMP_ST)
    elif name == FIRST and rng.random() < of.tension:
        out[-1] = replace(out[-1], st=1, glide_ms=60.0)
    return out


def _apart(
    lanes: tuple[Layer, ...], drawn: list[tuple[MannerLane, Layer]], manner: Manner
) -> tuple[Layer, ...]:
    """Keep kick and low drums from covering each other's beginning, unless both are asked."""
    low = [lane for lane in lanes if hits_of(lane).on_roots]
    kicks = {lane.id for of, lane in drawn if of.part == "kick"}
    if manner.meet == "both" or not low:
        return lanes
    return tuple(_kick_apart(lane, low, manner) if lane.id in kicks else lane for lane in lanes)


def _kick_apart(kick: Layer, low: list[Layer], manner: Manner) -> Layer:
    hits = hits_of(kick)
    patterns = []
    for pattern in hits.patterns:
        late = {
            hit.tick: hits_of(x).late_ms + hit.late_ms
            for x in low
            for one in hits_of(x).patterns
            if one.name == pattern.name
            for hit in one.hits
        }
        if manner.meet == "one":
            kept = [hit for hit in pattern.hits if hit.tick not in late]
        else:
            kept = [
                replace(hit, late_ms=round(late[hit.tick] - APART_MS - hits.late_ms, 1))
                if hit.tick in late
                else hit
                for hit in pattern.hits
            ]
        patterns.append(replace(pattern, hits=tuple(kept)))
    return replace(kick, source=replace(hits, patterns=tuple(patterns)))
