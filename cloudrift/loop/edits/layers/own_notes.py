"""Edits of the notes that are a layer's own: letting go of the chords, tools, notes one by one."""

from collections.abc import Callable, Collection, Iterable

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.settings import Settings
from cloudrift.loop.edits.layers.recordings import with_turns
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.loop.sounding import notes_of
from cloudrift.notes.note import HIGHEST, LOWEST, Note, in_order, numbered
from cloudrift.notes.time import bar_ticks
from cloudrift.notes.tools import Tool, ToolContext, use
from cloudrift.notes.tools.tool import inside

Ids = Collection[int]


def own_of(loop: Loop, layer_id: str) -> tuple[Note, ...]:
    """Return a layer's own notes; raise CloudriftError if it follows the chords."""
    layer = loop.layer(layer_id)
    if layer.own is None and layer.recorded is not None:
        raise CloudriftError(f"{layer.name} is a recording and has no notes")
    if layer.own is None:
        raise CloudriftError(
            f"the notes of {layer.name} follow the chords; detach it from the chords to edit them"
        )
    return layer.own


def with_own(loop: Loop, layer_id: str, notes: Iterable[Note] | None) -> Loop:
    """Give a layer notes of its own, brought into the loop and numbered; None: none."""
    ticks = loop.ticks
    own = None if notes is None else numbered(inside(note, ticks) for note in notes)
    layers = (x.with_notes(own) if x.id == layer_id else x for x in loop.layers)
    loop.layer(layer_id)
    return replace(loop, layers=tuple(layers))


def detach(loop: Loop, layer_id: str) -> Loop:
    """Make the notes that a layer plays its own: nothing that is heard changes.

    What the touch does to them is in them from then on; lens and touch rest.
    """
    layer = loop.layer(layer_id)
    if layer.own is not None:
        return loop
    cut = (inside(replace(note, id=0), loop.ticks) for note in notes_of(loop, layer))
    return with_own(loop, layer_id, cut)


def take_again(loop: Loop, layer_id: str) -> Loop:
    """Let a layer follow the chords again; its own notes go."""
    return with_own(loop, layer_id, None)


def around(loop: Loop, grid_ticks: int) -> ToolContext:
    """Return what tools may know of a loop."""
    return ToolContext(
        key=loop.key,
        tempo=loop.tempo,
        loop_ticks=loop.ticks,
        bar_ticks=bar_ticks(loop.metre),
        grid_ticks=grid_ticks,
    )


def use_tool(
    loop: Loop, layer_id: str, tool: Tool, picked: Ids, settings: Settings, grid_ticks: int
) -> tuple[Loop, frozenset[int]]:
    """Use a tool on a layer's picked notes (none: all); return the loop and the ids it left."""
    notes = own_of(loop, layer_id)
    made, left = use(tool, notes, picked, around(loop, grid_ticks), settings)
    return with_own(loop, layer_id, made), left


def _each(loop: Loop, layer_id: str, ids: Ids, change: Callable[[Note], Note]) -> Loop:
    notes = own_of(loop, layer_id)
    return with_own(loop, layer_id, [change(n) if n.id in ids else n for n in notes])


def add_note(loop: Loop, layer_id: str, note: Note) -> tuple[Loop, int]:
    """Draw a note; return the loop and its id. Where one starts on its pitch already, that one."""
    notes = own_of(loop, layer_id)
    there = next(
        (n for n in notes if (n.start_tick, n.pitch) == (note.start_tick, note.pitch)), None
    )
    if there is not None:
        return loop, there.id
    new = max((n.id for n in notes), default=0) + 1
    return with_own(loop, layer_id, [*notes, replace(note, id=new)]), new


def remove_notes(loop: Loop, layer_id: str, ids: Ids) -> Loop:
    """Take notes out."""
    return with_own(loop, layer_id, [n for n in own_of(loop, layer_id) if n.id not in ids])


def move_notes(
    loop: Loop, layer_id: str, ids: Ids, *, ticks: int = 0, semitones: int = 0, steps: int = 0
) -> Loop:
    """Move notes together: by ticks, by semitones, or by steps of the scale.

    They go only as far as all of them stay in the loop and in reach.
    """
    chosen = [n for n in own_of(loop, layer_id) if n.id in ids]
    if not chosen:
        return loop
    first, last = min(n.start_tick for n in chosen), max(n.end_tick for n in chosen)
    ticks = min(max(ticks, -first), loop.ticks - last)
    low, high = min(n.pitch for n in chosen), max(n.pitch for n in chosen)
    if steps:
        moved = {n.id: loop.key.step(n.pitch, steps) for n in chosen}
        if min(moved.values()) < LOWEST or max(moved.values()) > HIGHEST:
            return loop
    else:
        semitones = min(max(semitones, LOWEST - low), HIGHEST - high)
        moved = {n.id: n.pitch + semitones for n in chosen}
    return _each(
        loop,
        layer_id,
        ids,
        lambda n: replace(n, start_tick=n.start_tick + ticks, pitch=moved[n.id]),
    )


def stretch_notes(
    loop: Loop, layer_id: str, ids: Ids, *, start: int = 0, end: int = 0, least: int = 30
) -> Loop:
    """Move the starts or the ends of notes by ticks; each keeps at least a length."""

    def change(note: Note) -> Note:
        first = min(max(note.start_tick + start, 0), note.end_tick - min(least, note.length_ticks))
        last = max(note.end_tick + end, first + min(least, note.length_ticks))
        return replace(note, start_tick=first, length_ticks=last - first)

    return _each(loop, layer_id, ids, change)


def set_loudness(loop: Loop, layer_id: str, levels: dict[int, int]) -> Loop:
    """Set the loudness of notes: id -> velocity."""
    return _each(
        loop, layer_id, levels.keys(), lambda n: replace(n, velocity=min(max(levels[n.id], 1), 127))
    )


def mute_notes(loop: Loop, layer_id: str, ids: Ids) -> Loop:
    """Mute notes without deleting them; if all of them are muted, let them sound again."""
    notes = [n for n in own_of(loop, layer_id) if n.id in ids]
    mute = not all(n.muted for n in notes)
    return _each(loop, layer_id, ids, lambda n: replace(n, muted=mute))


def cut_notes(loop: Loop, layer_id: str, ids: Ids, tick: int) -> Loop:
    """Cut notes in two at a tick, those that sound there."""
    out = []
    for note in own_of(loop, layer_id):
        if note.id in ids and note.start_tick < tick < note.end_tick:
            out.append(replace(note, length_ticks=tick - note.start_tick))
            out.append(
                replace(
                    note, start_tick=tick, length_ticks=note.end_tick - tick, id=0, offset_ms=0.0
                )
            )
        else:
            out.append(note)
    return with_own(loop, layer_id, out)


def paste_notes(
    loop: Loop, layer_id: str, notes: Iterable[Note], tick: int
) -> tuple[Loop, frozenset[int]]:
    """Put notes in from a tick on, the first of them there; return the loop and their ids."""
    own, found = own_of(loop, layer_id), in_order(notes)
    if not found:
        return loop, frozenset()
    by = tick - found[0].start_tick
    moved = [replace(n, start_tick=n.start_tick + by, id=0) for n in found]
    moved = [n for n in moved if 0 <= n.start_tick < loop.ticks]
    there = {(n.start_tick, n.pitch) for n in own}
    after = with_own(
        loop, layer_id, [*own, *(n for n in moved if (n.start_tick, n.pitch) not in there)]
    )
    before = {n.id for n in own}
    return after, frozenset(n.id for n in own_of(after, layer_id) if n.id not in before)


def lies_there(own: Iterable[Note], notes: Iterable[Note], tick: int) -> bool:
    """Whether notes that are pasted from a tick on would all lie on some that are there."""
    found = in_order(notes)
    by = tick - found[0].start_tick if found else 0
    there = {(n.start_tick, n.pitch) for n in own}
    return all((n.start_tick + by, n.pitch) in there for n in found)


def repeat_ticks(notes: Collection[Note], units: Iterable[int]) -> int:
    """Return how far on notes come again: by whole bars if they last longer than half a bar, else
    by beats, or by steps of the grid.

    ``units`` are the ticks of these, the shortest first. What rings a little too long for it does
    not count.
    """
    first, last = min(n.start_tick for n in notes), max(n.end_tick for n in notes)
    chosen = 1
    for unit in units:
        if chosen == 1 or last - first > unit / 2:
            chosen = unit
    return max(chosen, -(-(last - first - chosen // 16) // chosen) * chosen)


def fitted(loop: Loop, bars: int) -> tuple[Layer, ...]:
    """Return a loop's layers for that many bars: their own notes and recordings cut or repeated."""
    bar = bar_ticks(loop.metre)
    if bars == loop.bars:
        return loop.layers
    return tuple(
        with_turns(layer, loop.bars, bars, bar)
        if layer.own is None
        else layer.with_notes(_fitted(layer.own, loop.ticks, bars * bar))
        for layer in loop.layers
    )


def _fitted(notes: tuple[Note, ...], have: int, ticks: int) -> tuple[Note, ...]:
    out = []
    for turn in range(-(-ticks // have)):
        for note in notes:
            start = note.start_tick + turn * have
            if start < ticks:
                out.append(
                    replace(
                        note,
                        start_tick=start,
                        id=note.id if turn == 0 else 0,
                        length_ticks=min(note.length_ticks, ticks - start),
                    )
                )
    return numbered(out)


# --- picking -----------------------------------------------------------------------------------


def same_voice(notes: tuple[Note, ...], ids: Ids) -> frozenset[int]:
    """Return the notes with the same place from the top, of those that start together."""
    ranks = _ranks(notes)
    wanted = {ranks[i] for i in ids if i in ranks}
    return frozenset(i for i, rank in ranks.items() if rank in wanted)


def _ranks(notes: tuple[Note, ...]) -> dict[int, int]:
    groups: dict[int, list[Note]] = {}
    for note in notes:
        groups.setdefault(note.start_tick, []).append(note)
    return {
        note.id: rank
        for group in groups.values()
        for rank, note in enumerate(sorted(group, key=lambda n: -n.pitch))
    }


def same_pitch(notes: tuple[Note, ...], ids: Ids, *, octaves: bool = False) -> frozenset[int]:
    """Return the notes on the same pitches, in any octave if wished."""
    turn = 12 if octaves else 128
    wanted = {n.pitch % turn for n in notes if n.id in ids}
    return frozenset(n.id for n in notes if n.pitch % turn in wanted)


def every(notes: tuple[Note, ...], ids: Ids, step: int) -> frozenset[int]:
    """Return every ``step``-th start of the picked notes (none: of all), from the first on."""
    chosen = [n for n in notes if not ids or n.id in ids]
    starts = sorted({n.start_tick for n in chosen})[::step]
    return frozenset(n.id for n in chosen if n.start_tick in set(starts))
