"""Habits: what composers do by hand again and again, each under the name that a card calls it by.

A habit is an edit of any loop. Those of the group Flip are done to a print of all of it: what they
say is how the print is laid, and how much lower.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError, did_you_mean
from cloudrift.ground.words import number
from cloudrift.loop.edits.chords import chord_edits, chord_time, progression
from cloudrift.loop.edits.flip import cutting, ordering
from cloudrift.loop.edits.flip.scatter import Rules, scattered
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.model import spec
from cloudrift.loop.model.chord import Chord
from cloudrift.loop.model.flip import Flipped
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.notes.time import bar_ticks, beat_ticks
from cloudrift.style.card import CardMove
from cloudrift.theory.movement import moves

Edit = Callable[[Loop, CardMove], Loop]
Lay = Callable[[Flipped, CardMove, int], Flipped]  # the last: ticks of a bar
TURNS = 4  # either way that a chord's body is turned over
FURTHEST_ST = 5.0  # a body that is set out otherwise stays about where the loop's chords are


@dataclass(frozen=True, kw_only=True)
class Habit:
    """A habit: ``edit`` of a loop, or ``lay``, how a print of it is laid.

    ``takes`` names what a card may say of it beside: ``on`` (the role of the layers it is about)
    and ``amount`` (with the unit in ``unit``; ``usual`` where the card says none). ``says`` is what
    it does in words, the amount at ``{}``.
    """

    name: str
    group: str
    edit: Edit | None = None
    lay: Lay | None = None
    on: bool = False
    says: str = ""
    unit: str = ""
    low: float = 0.0
    high: float = 0.0
    usual: float = 0.0

    def amount(self, move: CardMove) -> float:
        """Return how much a card's move does of it."""
        return self.usual if move.amount is None else move.amount

    def text(self, move: CardMove) -> str:
        """Say what a card's move does."""
        amount = self.amount(move)
        written = number(amount, "+g" if self.unit == "st" else "g")
        unit = self.unit.removesuffix("s") if amount == 1 else self.unit
        words = self.says.format(f"{written} {unit}") if self.says and amount else self.name
        return words + (f" on the {move.on}" if move.on else "")

    def check(self, move: CardMove) -> None:
        """Raise CloudriftError where a card says of it what there is not."""
        if move.on and not self.on:
            raise CloudriftError(f"moves: {self.name} applies to the whole loop; leave out `on`")
        if move.amount is not None and not self.unit:
            raise CloudriftError(f"moves: {self.name} takes no amount")
        if self.unit and not self.low <= self.amount(move) <= self.high:
            raise CloudriftError(
                f"moves: {self.name} is set to {self.amount(move):g} {self.unit}, but lies between "
                f"{self.low:g} and {self.high:g}"
            )


def habit_of(move: CardMove) -> Habit:
    """Return the habit that a card's move is, checked; raise CloudriftError where there is none."""
    found = HABITS.get(move.does)
    if found is None:
        raise CloudriftError(
            f"moves: there is no habit called {move.does!r}{did_you_mean(move.does, HABITS)}"
        )
    found.check(move)
    return found


# --- chords ---------------------------------------------------------------------------------------


def _every(loop: Loop) -> list[str]:
    if not loop.chords:
        raise CloudriftError("there are no chords yet; write some first")
    return [chord.id for chord in loop.chords]


def _half_steps(loop: Loop, _move: CardMove) -> Loop:
    """Set chords out so that most of their voices come by half steps from the one before.

    Counted all the way round. The first chord stays; of ways with as many half steps, the one that
    moves least is taken, and none goes further than a fourth from where the first chord is.
    """
    _every(loop)
    first = loop.chords[0]
    # The best way to come to each way of a chord: half steps and nearness so far, and the ways.
    best: list[tuple[tuple[int, float], tuple[Chord, ...]]] = [((0, 0.0), (first,))]
    for chord in loop.chords[1:]:
        ways = _ways(loop, chord)
        near = [w for w in ways if abs(_middle(w) - _middle(first)) <= FURTHEST_ST] or ways
        best = [
            max((_further(come, way) for come in best), key=lambda come: come[0]) for way in near
        ]
    _score, row = max(best, key=lambda come: _further(come, first)[0])
    return replace(loop, chords=row)


def _further(
    come: tuple[tuple[int, float], tuple[Chord, ...]], way: Chord
) -> tuple[tuple[int, float], tuple[Chord, ...]]:
    (half, near), before = come
    found = moves(before[-1].voices, way.voices).count("half")
    return (half + found, near - abs(_middle(before[-1]) - _middle(way))), (*before, way)


def _ways(loop: Loop, chord: Chord) -> list[Chord]:
    """A chord as it is, and its body turned over a few times either way."""
    out = [chord]
    for up in (True, False):
        way = loop
        for _ in range(TURNS):
            way = chord_edits.invert(way, chord.id, up=up)
            out.append(way.chord(chord.id))
    return out


def _middle(chord: Chord) -> float:
    upper = chord.voices[1:] or chord.voices
    return sum(upper) / len(upper)


def _nearest(loop: Loop, _move: CardMove) -> Loop:
    return chord_edits.to_nearest(loop, _every(loop))


def _bass_held(loop: Loop, _move: CardMove) -> Loop:
    return chord_edits.hold_bass(loop, _every(loop))


def _late(loop: Loop, move: CardMove) -> Loop:
    _every(loop)
    behind = round(HABITS[move.does].amount(move) * beat_ticks(loop.metre))
    second = [loop.chord(chord_id) for chord_id in chord_time.every_second(loop)]
    return chord_time.set_late(loop, [x.id for x in second if x.length_ticks > behind], behind)


def _away(loop: Loop, _move: CardMove) -> Loop:
    """Begin with the second chord: the first comes last."""
    if len(_every(loop)) < 2:
        raise CloudriftError("a progression of one chord can't be rotated; add a second")
    return progression.start_from(loop, loop.chords[1].id)


def _passing(loop: Loop, _move: CardMove) -> Loop:
    """Notes between the last chord and the first."""
    return progression.add_passing(loop, _every(loop)[-1], beat_ticks(loop.metre))[0]


def _struck(loop: Loop, move: CardMove) -> Loop:
    beats = HABITS[move.does].amount(move)
    return chord_time.strike_every(loop, _every(loop), round(beats * beat_ticks(loop.metre)))


# --- layers ---------------------------------------------------------------------------------------


def _of_role(loop: Loop, move: CardMove) -> list[Layer]:
    """The layers that a move is about: those of its role that follow the chords."""
    of = [x for x in loop.layers if x.follows and not x.parked]
    of = [x for x in of if (x.role == move.on if move.on else x.role != "bass")]
    if not of:
        raise CloudriftError(f"no {move.on or 'layer'} follows the chords; add one in Layers")
    return of


def _with_lens(**changes: object) -> Edit:
    def edit(loop: Loop, move: CardMove) -> Loop:
        for layer in _of_role(loop, move):
            loop = layer_edits.set_lens(loop, layer.id, **changes)
        return loop

    return edit


def _with_touch(name: str, times: float = 1.0) -> Edit:
    def edit(loop: Loop, move: CardMove) -> Loop:
        value = HABITS[move.does].amount(move) * times
        for layer in _of_role(loop, move):
            loop = layer_edits.set_touch(loop, layer.id, **{name: value})
        return loop

    return edit


def _skips(loop: Loop, move: CardMove) -> Loop:
    """Leave every n-th bar out."""
    every, bar = round(HABITS[move.does].amount(move)), bar_ticks(loop.metre)
    plays = [i for i in range(loop.bars) if (i + 1) % every]
    if not plays:
        raise CloudriftError(f"the loop has {loop.bars} bars; nothing would be left")
    for layer in _of_role(loop, move):
        where = tuple((i * bar, (i + 1) * bar) for i in plays)
        loop = layer_edits.set_lens(loop, layer.id, where=where)
    return loop


def _twin(loop: Loop, move: CardMove) -> Loop:
    """Another of a layer that moves with it, an octave higher and softer."""
    layer = _of_role(loop, move)[0]
    before = {x.id for x in loop.layers}
    loop = layer_edits.copy_layer(loop, layer.id)
    new = next(x for x in loop.layers if x.id not in before)
    loop = layer_edits.set_lens(loop, new.id, octave=min(new.played.lens.octave + 1, 3))
    return layer_edits.set_layer(loop, new.id, level_db=max(new.level_db - 6, spec.MIN_LEVEL_DB))


# --- flips ----------------------------------------------------------------------------------------


def _in_order(flip: Flipped, move: CardMove, _bar: int) -> Flipped:
    return _lower(ordering.backward_in_order(flip), move)


def _scattered(flip: Flipped, move: CardMove, bar: int) -> Flipped:
    cut = cutting.cut(
        flip, cutting.tidied(range(0, flip.length_ticks, bar // 4), flip.length_ticks)
    )
    return _lower(scattered(cut, Rules(), bar), move)


def _straight(flip: Flipped, move: CardMove, _bar: int) -> Flipped:
    return _lower(flip, move)


def _lower(flip: Flipped, move: CardMove) -> Flipped:
    semitones = HABITS[move.does].amount(move)
    return replace(flip, of=replace(flip.of, semitones=flip.of.semitones + semitones))


HABITS = {
    habit.name: habit
    for habit in (
        Habit(name="half steps between", group="Chords", edit=_half_steps),
        Habit(name="nearest voicings", group="Chords", edit=_nearest),
        Habit(name="bass held under all", group="Chords", edit=_bass_held),
        Habit(name="start away from the tonic", group="Chords", edit=_away),
        Habit(name="passing notes into the first", group="Chords", edit=_passing),
        Habit(
            name="every other chord late",
            group="Chords",
            edit=_late,
            unit="beats",
            says="every other chord late by {}",
            low=0.25,
            high=4,
            usual=0.5,
        ),
        Habit(
            name="repeated chords",
            group="Chords",
            edit=_struck,
            unit="beats",
            low=0.25,
            high=16,
            says="repeated every {}",
            usual=1,
        ),
        Habit(
            name="top notes only", group="Layers", on=True, edit=_with_lens(kind="top", voices=0)
        ),
        Habit(
            name="inner voices only",
            group="Layers",
            on=True,
            edit=_with_lens(kind="inner", voices=0),
        ),
        Habit(name="held", group="Layers", on=True, edit=_with_lens(kind="held")),
        Habit(name="arpeggio", group="Layers", on=True, edit=_with_lens(kind="arpeggio")),
        Habit(
            name="answers the chords",
            group="Layers",
            on=True,
            edit=_with_lens(kind="line", answers=True, low=60, high=84),
        ),
        Habit(name="a twin an octave up", group="Layers", on=True, edit=_twin),
        Habit(
            name="a bar rests",
            group="Layers",
            on=True,
            edit=_skips,
            unit="bars",
            says="one of every {} rests",
            low=2,
            high=16,
            usual=4,
        ),
        Habit(
            name="rolled",
            group="Playing",
            on=True,
            edit=_with_touch("roll_ms"),
            unit="ms",
            says="rolled by {}",
            low=0,
            high=200,
            usual=40,
        ),
        Habit(
            name="short",
            group="Playing",
            on=True,
            edit=_with_touch("length", 0.01),
            unit="%",
            says="notes held for {} of their length",
            low=10,
            high=100,
            usual=35,
        ),
        Habit(
            name="loose in time",
            group="Playing",
            on=True,
            edit=_with_touch("drift_ms"),
            says="loose in time by {}",
            unit="ms",
            low=0,
            high=60,
            usual=12,
        ),
        Habit(
            name="print, reversed in order",
            group="Flip",
            lay=_in_order,
            unit="st",
            says="print, reversed in order, {}",
            low=-24,
            high=24,
            usual=-3,
        ),
        Habit(
            name="print, scattered",
            group="Flip",
            lay=_scattered,
            unit="st",
            says="print, scattered, {}",
            low=-24,
            high=24,
            usual=0,
        ),
        Habit(
            name="print, lower",
            group="Flip",
            lay=_straight,
            unit="st",
            says="print, {}",
            low=-24,
            high=24,
            usual=-3,
        ),
    )
}


def described() -> Sequence[tuple[str, str, str]]:
    """Return each habit's name, what it takes in words, and its group: for the documentation."""
    out = []
    for habit in HABITS.values():
        takes = ["`on`"] if habit.on else []
        if habit.unit:
            takes.append(
                f"`amount` in {habit.unit}, {habit.low:g} to {habit.high:g} ({habit.usual:g})"
            )
        out.append((habit.name, ", ".join(takes), habit.group))
    return out
