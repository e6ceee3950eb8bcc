"""Tools that change how long notes are, and cut or join them."""

from msgspec.structs import replace

from cloudrift.ground.settings import ResolvedSettings, SettingsSpec, percent
from cloudrift.notes.lens import ORDERS, run_of
from cloudrift.notes.note import Note
from cloudrift.notes.tools.tool import (
    GRID,
    VARIATION,
    Tool,
    ToolContext,
    by_start,
    choice,
    count,
    value,
)


def shorten_to_gaps(
    notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings
) -> list[Note]:
    """End each note a little before the next one starts, so that nothing bleeds over."""
    gap = around.ms_to_ticks(full.number("gap_ms"))
    starts = sorted({n.start_tick for n in (*notes, *around.others)})
    out = []
    for note in notes:
        following = next((s for s in starts if s > note.start_tick), around.loop_ticks)
        most = max(1, round(following - gap) - note.start_tick)
        out.append(replace(note, length_ticks=min(note.length_ticks, most)))
    return out


def staccato(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Hold each note for a share of its length."""
    share = full.number("share") / 100
    return [replace(n, length_ticks=max(1, round(n.length_ticks * share))) for n in notes]


def same_length(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Give all notes one length."""
    ticks = around.ticks(full.word("length"))
    return [replace(n, length_ticks=ticks) for n in notes]


def slice_up(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Cut each note into pieces that start on the grid."""
    step = around.ticks(full.word("step"))
    gate = full.number("gate") / 100
    out = []
    for note in notes:
        first = note.start_tick
        cuts = range((first // step + 1) * step, note.end_tick, step)
        starts = [first, *cuts]
        for i, (start, end) in enumerate(zip(starts, [*cuts, note.end_tick], strict=True)):
            length = max(1, round((end - start) * gate))
            out.append(
                replace(
                    note,
                    start_tick=start,
                    length_ticks=length,
                    offset_ms=note.offset_ms if i == 0 else 0.0,
                    id=note.id if i == 0 else 0,
                )
            )
    return out


def join(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Join notes of one pitch that follow each other, over gaps up to a length."""
    most = around.ticks(full.word("gap"))
    out: dict[int, Note] = {}  # by pitch: the one that may still grow
    done: list[Note] = []
    for note in notes:
        before = out.get(note.pitch)
        if before is not None and note.start_tick - before.end_tick <= most:
            length = max(before.end_tick, note.end_tick) - before.start_tick
            out[note.pitch] = replace(before, length_ticks=length)
            continue
        if before is not None:
            done.append(before)
        out[note.pitch] = note
    return [*done, *out.values()]


def break_up(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Play the notes of each chord one after another on the grid, for as long as it lasts."""
    step, order = around.ticks(full.word("step")), full.word("order")
    gate, variation = full.number("gate") / 100, round(full.number("variation"))
    octaves = round(full.number("octaves"))
    out = []
    for chord in by_start(notes):
        first = chord[0].start_tick
        end = max(n.end_tick for n in chord)
        steps = max(1, -(-(end - first) // step))
        pitches = [n.pitch + 12 * o for o in range(octaves) for n in chord]
        by_pitch = {n.pitch: n for n in chord}
        for i, pitch in enumerate(run_of(pitches, order, steps, variation, first)):
            source = by_pitch.get(pitch, chord[-1])
            start = first + i * step
            length = max(1, round(min(step, end - start) * gate))
            out.append(replace(source, start_tick=start, length_ticks=length, pitch=pitch,
                               offset_ms=0.0, id=source.id if i < len(chord) else 0))  # fmt: skip
    return out


TOOLS = (
    Tool(name="shorten to gaps", group="Length", about="each note ends before the next starts",
         act=shorten_to_gaps,
         spec=SettingsSpec((count("gap_ms", "Gap", 10, 0, 400, "ms"),))),
    Tool(name="staccato", group="Length", about="a share of each note's length", act=staccato,
         spec=SettingsSpec((percent("share", "Length", 50, low=5),))),
    Tool(name="same length", group="Length", about="all the same length", act=same_length,
         spec=SettingsSpec((value("length", "Length"),))),
    Tool(name="slice", group="Length", about="split on the grid", act=slice_up,
         spec=SettingsSpec((value(), percent("gate", "Gate", 100, low=5)))),
    Tool(name="join", group="Length", about="joins repeated notes", act=join,
         spec=SettingsSpec((value("gap", "Over gaps to", "1/32"),))),
    Tool(name="break up", group="Length", about="chords one note after another", act=break_up,
         spec=SettingsSpec((choice("order", "Order", ORDERS), value("step", "Step", GRID),
                            count("octaves", "Octaves", 1, 1, 3, "oct"),
                            percent("gate", "Gate", 80, low=5), VARIATION))),
)  # fmt: skip
