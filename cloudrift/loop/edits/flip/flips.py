"""Flips among the layers of a loop: found, made of recordings, heard alone, used."""

from collections.abc import Callable

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import free_name
from cloudrift.loop.edits.flip.cutting import cut, cuts_at, flip_of
from cloudrift.loop.edits.layers import recordings
from cloudrift.loop.model import spec
from cloudrift.loop.model.flip import SHORTEST_TICKS, Flipped
from cloudrift.loop.model.loop import Layer, Loop, new_id
from cloudrift.loop.model.recorded import FromRecording
from cloudrift.loop.sounding import chords_heard, heard, key_heard
from cloudrift.notes.note import Note
from cloudrift.notes.time import TICKS_PER_QUARTER, bar_ticks
from cloudrift.texture.treatment import Treatment

BASS_FROM, BASS_VELOCITY, BASS_CUT_HZ = 28, 92, 160.0  # from E1 on; what is taken out below


def flip_in(loop: Loop, layer_id: str) -> Flipped:
    """Return the flip that a layer is; raise CloudriftError where it is none."""
    source = loop.layer(layer_id).source
    if not isinstance(source, Flipped):
        raise CloudriftError(
            f"{loop.layer(layer_id).name} is not a flip; print it and slice the print"
        )
    return source


def with_flip(loop: Loop, layer_id: str, edit: Callable[[Flipped], Flipped]) -> Loop:
    """Change the flip that a layer is."""
    return loop.with_owner(layer_id, source=edit(flip_in(loop, layer_id)))


def flip_recording(loop: Loop, layer_id: str) -> Loop:
    """Make a recording's layer a flip, in which everything plays where it was; cut at beats."""
    layer = loop.layer(layer_id)
    source = layer.source
    if not isinstance(source, FromRecording):
        raise CloudriftError(f"{layer.name} is not a recording; print it and slice the print")
    pace = loop.tempo / source.facts.tempo if source.fit in ("tempo", "tape") else 1.0
    seconds = (source.end_s - source.origin_s) / pace
    ticks = min(round(seconds * loop.tempo / 60 * TICKS_PER_QUARTER), loop.ticks)
    if ticks < SHORTEST_TICKS:
        raise CloudriftError(f"{layer.name} is too short to be sliced")
    made = flip_of(replace(source, every_bars=0), ticks)
    return loop.with_owner(layer_id, source=cut(made, cuts_at(made, "beats", loop.metre)))


def cut_beside(loop: Loop, layer_id: str) -> tuple[Loop, str]:
    """Add a flip of a recording's layer, parked; the layer stays. Return the flip's id too."""
    layer = loop.layer(layer_id)
    flip = flip_recording(loop, layer_id).layer(layer_id)
    name = free_name(layer.name, (one.name for one in loop.layers))
    made = replace(flip, id=new_id("l", loop.ids), name=name, parked=True, mute=False)
    return replace(loop, layers=(*loop.layers, made)), made.id


def soloed(loop: Loop, layer_id: str) -> Loop:
    """Return the loop with a flip alone heard, without the whole loop's line.

    Its key and its chords are those that are heard in the flip, as far as they are known, so that
    whatever shows the loop shows that. One that is parked is heard as long as it is.
    """
    alone, flip = heard_with(loop, layer_id), flip_in(loop, layer_id)
    if loop.layer(layer_id).parked:
        alone = replace(alone, bars=bars_of(flip, loop), chords=())
    if flip.of.facts.key is None or not flip.chords:
        return alone
    return replace(alone, key=key_heard(alone), chords=chords_heard(alone))


def bars_of(flip: Flipped, loop: Loop) -> int:
    """Return how many bars of a loop's metre a flip lasts, as far as a loop may be long."""
    return min(-(-flip.long_ticks // bar_ticks(loop.metre)), spec.MAX_BARS)


def heard_with(loop: Loop, *ids: str) -> Loop:
    """Return the loop with some layers alone heard, without the whole loop's line or its bed."""
    layers = tuple(
        replace(x, mute=x.id not in ids, parked=x.parked and x.id not in ids) for x in loop.layers
    )
    groups = tuple(replace(group, mute=False) for group in loop.groups)
    return replace(loop, layers=layers, groups=groups, line=(), bed=None)


def with_layers_of(loop: Loop, other: Loop, layers: tuple[Layer, ...]) -> Loop:
    """Return a loop with what another has, and these layers; groups that are missing are left."""
    groups = {group.id for group in other.groups}
    layers = tuple(x if x.group in groups else replace(x, group="") for x in layers)
    return replace(other, title=loop.title, layers=layers)


def use(loop: Loop, layer_id: str) -> Loop:
    """Let a flip sound among the layers."""
    return loop.with_owner(layer_id, parked=False, mute=False)


def use_instead(loop: Loop, layer_id: str, printed: tuple[str, ...]) -> Loop:
    """Let a flip sound in the place of what it was printed from, which is parked.

    Of the whole loop (no layers), all others are, and the whole loop's line goes, for it is in
    the print.
    """
    others = {x.id for x in loop.layers if not printed or x.id in printed or x.group in printed}
    layers = tuple(
        replace(x, parked=x.parked or x.id in others) if x.id != layer_id else x
        for x in loop.layers
    )
    loop = use(replace(loop, layers=layers), layer_id)
    return loop if printed else replace(loop, line=())


def put_bass(loop: Loop, layer_id: str) -> Loop:
    """Take a flip's lows out, and lay a bass on the roots of what is heard in it now.

    As soon as its pieces lie otherwise, the bass in them goes from one root to another where no
    chord does; a fresh one does not. Raises CloudriftError where its chords are not known.
    """
    layer = loop.layer(layer_id)
    notes: list[Note] = []
    for start, end, pc in heard(replace(heard_with(loop, layer_id), chords=())).roots:
        low = BASS_FROM + (pc - BASS_FROM) % 12
        if notes and notes[-1].pitch == low and notes[-1].end_tick == start:
            notes[-1] = replace(notes[-1], length_ticks=end - notes[-1].start_tick)
        else:
            notes.append(Note(id=len(notes) + 1, start_tick=start, length_ticks=end - start,
                              pitch=low, velocity=BASS_VELOCITY))  # fmt: skip
    if not notes:
        raise CloudriftError(
            f"the chords of {layer.name} are not known, so no bass can follow them"
        )
    ids = {t.id for t in layer.line}
    low_cut = Treatment(id=new_id("t", ids), kind="cuts").set("low_cut_hz", BASS_CUT_HZ)
    loop = loop.with_owner(layer_id, line=(low_cut, *layer.line))
    return recordings.put_bass(loop, layer_id, tuple(notes))
