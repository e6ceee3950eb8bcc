"""Marks of the layers: how many, which, how much they play."""

import math
from collections.abc import Callable
from itertools import combinations

import numpy as np
from msgspec.structs import replace

from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.notes.time import TICKS_PER_QUARTER, bar_ticks
from cloudrift.style.marks.kind import Change, Found, Kind
from cloudrift.style.marks.view import View, names

MOVING = 4.0  # strikes a bar, from which on a layer is one that moves
HELD = 0.85  # of the time to its next strike that a note sounds, for it to be held
SHORT = 0.5
SLOW = 2.0  # strikes a bar: as chords do, rather than what moves
ALIKE = 0.6  # of the sparser layer's strikes that another doubles
NEAR_TICKS = 30
STEPS = (480, 640, 960, 320, 240, 160, 1920, 120)
SOFT = ("pad", "strings", "voice")
STRUCK = ("pluck", "lead", "bell")


def _layers(view: View) -> Found:
    return Found(value=float(len(view.heard)), where=names([x.name for x in view.heard], 8))


def _fewer_layers(view: View, asked: tuple[float, float]) -> Change | None:
    over = len(view.heard) - int(asked[1])
    if over <= 0:
        parked = [x for x in view.loop.layers if x.parked]
        missing = math.ceil(asked[0]) - len(view.heard)
        if len(parked) < missing or missing <= 0:
            return None
        back = parked[:missing]
        return Change(
            words=f"{names([x.name for x in back], 2)} on",
            edit=lambda loop: _parked(loop, back, parked=False),
        )
    # The one that plays what another plays, or else the last, is what can be spared.
    spare = [x for x in reversed(view.heard) if x.role != "bass"][:over]
    return Change(
        words=f"{names([x.name for x in spare], 2)} off",
        edit=lambda loop: _parked(loop, spare, parked=True),
    )


def _parked(loop: Loop, layers: list[Layer], *, parked: bool) -> Loop:
    for layer in layers:
        loop = layer_edits.set_layer(loop, layer.id, parked=parked)
    return loop


def _held(view: View) -> Found | None:
    if not view.melodic:
        return None
    found = [x for x in view.melodic if _holds(view, x)]
    return Found(value=float(len(found)), where=names([x.name for x in found]))


def _to_held(view: View, asked: tuple[float, float]) -> Change | None:
    """Pads and the like first are held; those that shall not be are broken, keys first."""
    held = [x for x in view.melodic if _holds(view, x)]
    more = math.ceil(asked[0]) - len(held)
    following = view.following(view.melodic)
    still = sorted((x for x in following if x not in held), key=lambda x: x.role not in SOFT)
    moved = sorted((x for x in following if x in held), key=lambda x: x.role in SOFT)
    of = still[:more] if more > 0 else moved[: len(held) - int(asked[1])]
    if not of:
        return None
    kind, words = ("held", "held") if more > 0 else ("arpeggio", "arpeggio in eighths")

    def edit(loop: Loop) -> Loop:
        for layer in of:
            loop = layer_edits.set_lens(loop, layer.id, kind=kind)
            loop = layer_edits.set_touch(loop, layer.id, length=1.0) if more > 0 else loop
        return loop

    return Change(words=f"{names([x.name for x in of], 2)} {words}", edit=edit)


def _holds(view: View, layer: Layer) -> bool:
    """Whether what it plays lasts until it plays again, and at least a bar in the mean."""
    lengths = [note.length_ticks for note in view.notes[layer.id]]
    share = sum(_shares(view, layer)) / max(1, len(_shares(view, layer)))
    return share >= HELD and sum(lengths) / len(lengths) >= bar_ticks(view.loop.metre) * 0.75


def _shares(view: View, layer: Layer) -> list[float]:
    """Of each note, the share of the time to the layer's next strike that it lasts, round."""
    onsets = view.onsets(layer)
    then = dict(zip(onsets, [*onsets[1:], onsets[0] + view.loop.ticks], strict=True))
    return [
        n.length_ticks / max(1, then[n.start_tick] - n.start_tick) for n in view.notes[layer.id]
    ]


def _doubled(view: View) -> Found | None:
    if len(view.melodic) < 2:
        return None
    found = []
    for one, other in combinations(view.melodic, 2):
        few, many = sorted((_struck(view, x) for x in (one, other)), key=len)
        near = len(few & many)
        if near >= ALIKE * len(few):
            found.append(f"{one.name} and {other.name}")
    return Found(value=float(len(found)), where=names(found, 2))


def _struck(view: View, layer: Layer) -> set[tuple[int, int]]:
    return {(round(n.start_tick / NEAR_TICKS), n.pitch % 12) for n in view.notes[layer.id]}


def _moving(view: View) -> Found:
    found = [x for x in view.melodic if view.pace(x) >= MOVING]
    return Found(value=float(len(found)), where=names([x.name for x in found]))


def _to_moving(view: View, asked: tuple[float, float]) -> Change | None:
    found = [x for x in view.melodic if view.pace(x) >= MOVING]
    if len(found) > asked[1]:
        over = view.following(tuple(found))[int(asked[1]) :]
        if not over:
            return None

        def hold(loop: Loop) -> Loop:
            for layer in over:
                loop = layer_edits.set_lens(loop, layer.id, kind="held")
            return loop

        return Change(words=f"{names([x.name for x in over], 2)} held", edit=hold)
    still = [x for x in view.following(view.melodic) if x not in found]
    best = sorted(still, key=lambda x: (x.role in SOFT, x.role not in STRUCK))
    more = best[: math.ceil(asked[0]) - len(found)]
    if not more:
        return None

    def move(loop: Loop) -> Loop:
        for layer in more:
            loop = layer_edits.set_lens(loop, layer.id, kind="arpeggio", step_ticks=480)
        return loop

    return Change(words=f"{names([x.name for x in more], 2)} arpeggio in eighths", edit=move)


def _pace(view: View) -> Found | None:
    if not view.melodic:
        return None
    layer = max(view.melodic, key=view.pace)
    return Found(value=view.pace(layer), where=layer.name)


def _to_pace(view: View, asked: tuple[float, float]) -> Change | None:
    of = view.following(view.melodic)
    if not of:
        return None
    if asked[1] < SLOW:
        over = [x for x in of if view.pace(x) > asked[1]]

        def hold(loop: Loop) -> Loop:
            for one in over:
                loop = layer_edits.set_lens(loop, one.id, kind="held")
            return loop

        return Change(words=f"{names([x.name for x in over], 2)} held", edit=hold)
    return _in_steps(view, [max(of, key=view.pace)], asked, _pace)


def _in_steps(
    view: View, of: list[Layer], asked: tuple[float, float], measure: Callable[[View], Found | None]
) -> Change:
    """Break layers up in the steps that come nearest to what is asked."""

    def edit(loop: Loop, step: int) -> Loop:
        for layer in of:
            kind = layer.played.lens.kind
            kind = kind if kind in ("arpeggio", "line") else "arpeggio"
            loop = layer_edits.set_lens(loop, layer.id, step_ticks=step, kind=kind)
        return loop

    def away(step: int) -> float:
        found = measure(View(edit(view.loop, step)))
        value = float(found.value) if found else 0.0
        return max(asked[0] - value, value - asked[1], 0.0)

    step = min(STEPS, key=away)
    words = f"{names([x.name for x in of], 2)} in steps of {step / TICKS_PER_QUARTER:g} beats"
    return Change(words=words, edit=lambda loop: edit(loop, step))


def _notes_of(*roles: str) -> Callable[[View], Found | None]:
    def measure(view: View) -> Found | None:
        of = [x for x in view.playing if x.role in roles]
        if not of:
            return None
        return Found(
            value=sum(view.pace(x) for x in of) / len(of), where=names([x.name for x in of])
        )

    return measure


def _to_notes_of(*roles: str) -> Callable[[View, tuple[float, float]], Change | None]:
    measure = _notes_of(*roles)

    def change(view: View, asked: tuple[float, float]) -> Change | None:
        of = view.following(tuple(x for x in view.playing if x.role in roles))
        if not of:
            return None
        if asked[1] >= SLOW:
            return _in_steps(view, of, asked, measure)

        def with_chords(loop: Loop) -> Loop:
            for layer in of:
                loop = layer_edits.set_lens(loop, layer.id, kind="all")
            return loop

        return Change(words=f"{names([x.name for x in of], 2)} with the chords", edit=with_chords)

    return change


def _staccato(view: View) -> Found | None:
    shares = [(x, share) for x in view.melodic for share in _shares(view, x)]
    if not shares:
        return None
    short = [x.name for x, share in shares if share < SHORT]
    return Found(value=100 * len(short) / len(shares), where=names(short))


def _to_staccato(view: View, asked: tuple[float, float]) -> Change | None:
    found = _staccato(view)
    of = view.following(view.melodic)
    if found is None or not of:
        return None
    more = float(found.value) < asked[0]
    length = 0.4 if more else 0.98

    def edit(loop: Loop) -> Loop:
        for layer in of:
            loop = layer_edits.set_touch(loop, layer.id, length=length)
            loop = layer_edits.set_lens(loop, layer.id, gate=length)
        return loop

    return Change(
        words=f"{names([x.name for x in of], 2)} {'short' if more else 'longer'}", edit=edit
    )


def _gaps(view: View) -> Found | None:
    if not view.melodic:
        return None
    ticks = view.loop.ticks
    held = np.zeros(ticks // NEAR_TICKS + 1, bool)
    for layer in view.melodic:
        for note in view.notes[layer.id]:
            held[note.start_tick // NEAR_TICKS : -(-note.end_tick // NEAR_TICKS)] = True
    return Found(value=100 * float(1 - held[: ticks // NEAR_TICKS].mean()))


def _to_gaps(view: View, asked: tuple[float, float]) -> Change | None:
    """As much shorter notes as leave the gaps that are asked; none: one layer is held."""
    of = view.following(view.melodic)
    found = _gaps(view)
    if not of or found is None:
        return None
    if float(found.value) > asked[1]:
        first = min(of, key=lambda x: x.role not in SOFT)
        return Change(
            words=f"{first.name} held",
            edit=lambda loop: layer_edits.set_touch(
                layer_edits.set_lens(loop, first.id, kind="held"), first.id, length=1.0
            ),
        )

    def edit(loop: Loop, length: float) -> Loop:
        for layer in of:
            loop = layer_edits.set_touch(loop, layer.id, length=length)
        return loop

    def away(length: float) -> float:
        after = _gaps(View(edit(view.loop, length)))
        return abs(float(after.value) - sum(asked) / 2) if after else 100.0

    length = min((0.8, 0.65, 0.5, 0.4, 0.3, 0.2, 0.1, 0.05), key=away)
    return Change(words=f"notes last {100 * length:g} %", edit=lambda loop: edit(loop, length))


def _triplets(view: View) -> Found | None:
    beat = TICKS_PER_QUARTER
    third, sixteenth = beat // 3, beat // 4
    found, total = [], 0
    for layer in view.playing:
        for tick in view.onsets(layer):
            total += 1
            if tick % third == 0 and tick % sixteenth:
                found.append(layer.name)
    return Found(value=100 * len(found) / total, where=names(found)) if total else None


def _to_triplets(view: View, asked: tuple[float, float]) -> Change | None:
    of = view.following(view.melodic)
    found = _triplets(view)
    if not of or found is None:
        return None
    layer = max(of, key=view.pace)
    more = float(found.value) < asked[0]
    step = 320 if more else 480
    return Change(
        words=f"{layer.name} in {'triplets' if more else 'eighths'}",
        edit=lambda loop: layer_edits.set_lens(loop, layer.id, kind="arpeggio", step_ticks=step),
    )


def _panned(view: View) -> Found | None:
    if not view.heard:
        return None
    left, right = (end(view.heard, key=lambda x: x.pan) for end in (min, max))
    return Found(value=50 * (right.pan - left.pan), where=f"{left.name} to {right.name}")


def _to_panned(view: View, asked: tuple[float, float]) -> Change | None:
    of = [x for x in view.heard if x.role != "bass"]
    now = _panned(view)
    if len(of) < 2 or now is None:
        return None
    aim = sum(asked) / 2 / 100
    one, other = min(of, key=lambda x: x.pan), max(of, key=lambda x: x.pan)
    one, other = (one, other) if one is not other else (of[0], of[1])

    def edit(loop: Loop) -> Loop:
        loop = replace(
            loop, layers=tuple(replace(x, pan=min(max(x.pan, -aim), aim)) for x in loop.layers)
        )
        return layer_edits.set_layer(
            layer_edits.set_layer(loop, one.id, pan=-aim), other.id, pan=aim
        )

    return Change(words=f"{one.name} and {other.name} apart by {100 * aim:.0f} %", edit=edit)


KINDS = (
    Kind(name="layers", label="Layers on", group="Layers", unit="layers", high=16,
         about="number of layers that play", measure=_layers, change=_fewer_layers),
    Kind(name="held_layers", label="Sustained layers", group="Layers", unit="layers", high=8,
         about="layers, except the bass, whose notes last three quarters of a bar or more",
         measure=_held, change=_to_held),
    Kind(name="doubled_layers", label="Doubled layers", group="Layers", unit="pairs", high=8,
         about="pairs of layers of which one doubles 60 % of the other's notes, in any "
               "octave", measure=_doubled),
    Kind(name="moving_layers", label="Moving layers", group="Layers", unit="layers", high=8,
         about=f"layers, except the bass, with {MOVING:g} or more onsets per bar", measure=_moving,
         change=_to_moving),
    Kind(name="pace", label="Busiest layer", group="Layers", unit="a bar", high=32, decimals=1,
         about="onsets per bar of the busiest layer, except the bass", measure=_pace,
         change=_to_pace),
    Kind(name="keys_pace", label="Keys", group="Layers", unit="a bar", high=16, decimals=1,
         about="mean onsets per bar of keys layers", measure=_notes_of("keys"),
         change=_to_notes_of("keys")),
    Kind(name="pad_pace", label="Pads and strings", group="Layers", unit="a bar", high=16,
         decimals=1, about="mean onsets per bar of pads, strings and voices",
         measure=_notes_of(*SOFT),
         change=_to_notes_of(*SOFT)),
    Kind(name="pluck_pace", label="Plucks and leads", group="Layers", unit="a bar", high=32,
         decimals=1, about="mean onsets per bar of plucks, leads and bells",
         measure=_notes_of(*STRUCK), change=_to_notes_of(*STRUCK)),
    Kind(name="staccato_share", label="Staccato", group="Playing", unit="%",
         about="share of notes, except the bass, shorter than half the time to the next",
         measure=_staccato, change=_to_staccato),
    Kind(name="gaps", label="Gaps", group="Playing", unit="%",
         about="share of time without a note in any layer except the bass", measure=_gaps,
         change=_to_gaps),
    Kind(name="triplets", label="Triplets", group="Playing", unit="%",
         about="share of onsets on triplets", measure=_triplets,
         change=_to_triplets),
    Kind(name="panned", label="Pan spread", group="Layers", unit="%",
         about="half the distance from the leftmost layer to the rightmost", measure=_panned,
         change=_to_panned),
)  # fmt: skip
