"""Tools for low lines: late and silent bars, jumps, glides, turns, pauses."""

from msgspec.structs import replace

from cloudrift.ground.settings import ResolvedSettings, SettingsSpec
from cloudrift.notes.note import Note
from cloudrift.notes.tools.tool import Tool, ToolContext, by_start, choice, count, ms, value

OF = ("every bar", "every 2nd", "every 4th", "every 8th")
OF_BARS = dict(zip(OF, (1, 2, 4, 8), strict=True))


def _last_of(bar: int, full: ResolvedSettings) -> bool:
    """Whether a bar is the last of that many."""
    return (bar + 1) % OF_BARS[full.word("bars")] == 0


def late(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Start the first note of chosen bars late; it ends where it did."""
    by = around.ticks(full.word("by"))
    out = []
    for note in notes:
        into = note.start_tick % around.bar_ticks
        if into < by and _last_of(around.bar_of(note.start_tick), full):
            start = note.start_tick - into + by
            note = replace(  # noqa: PLW2901
                note, start_tick=start, length_ticks=max(1, note.end_tick - start)
            )
        out.append(note)
    return out


def skip_bar(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Leave chosen bars out; what rings into them ends before."""
    out = []
    for note in notes:
        if _last_of(around.bar_of(note.start_tick), full):
            continue
        bars = range(around.bar_of(note.start_tick) + 1, around.bar_of(note.end_tick - 1) + 1)
        silent = next((bar for bar in bars if _last_of(bar, full)), None)
        end = note.end_tick if silent is None else silent * around.bar_ticks
        out.append(replace(note, length_ticks=end - note.start_tick))
    return out


def jumps(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Play every n-th note an octave higher."""
    every = round(full.number("every"))
    by = 12 if full.word("way") == "up" else -12
    return [replace(n, pitch=n.pitch + by) if i % every == 0 else n for i, n in enumerate(notes, 1)]


def bounce(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Split long notes: the note, then shorter ones of the scale and its octave after it."""
    step, held = around.ticks(full.word("step")), around.ticks(full.word("held"))
    out = []
    for note in notes:
        if note.length_ticks <= held + step:
            out.append(note)
            continue
        out.append(replace(note, length_ticks=held))
        fifth = note.pitch + 7 if around.key.has(note.pitch + 7) else note.pitch + 6
        below = around.key.step(note.pitch, -1)
        way = (note.pitch + 12, fifth, note.pitch, below)
        for i, start in enumerate(range(note.start_tick + held, note.end_tick - step + 1, step)):
            out.append(replace(note, start_tick=start, length_ticks=round(0.8 * step),
                               pitch=way[i % 4], velocity=max(1, note.velocity - 14), id=0,
                               offset_ms=0.0))  # fmt: skip
    return out


def glide(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Let chosen notes leave the pitch of the note before them."""
    every, time = round(full.number("every")), full.number("over_ms")
    return [replace(n, glide_ms=time) if (i + 1) % every == 0 else n for i, n in enumerate(notes)]


def turn(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """End the last bar of that many with half steps that lead back to where it began."""
    step = around.ticks(full.word("step"))
    steps = round(full.number("notes"))
    last = max(1, round(OF_BARS[full.word("bars")])) * around.bar_ticks
    out = list(notes)
    for end in range(last, around.loop_ticks + 1, last):
        begin = end - steps * step
        goal = next((n for n in notes if n.start_tick >= end % around.loop_ticks), None)
        if goal is None or begin < 0:
            continue
        kept: list[Note] = []
        for note in out:  # what sounds there makes room
            if begin <= note.start_tick < end:
                continue
            length = note.length_ticks
            if note.start_tick < begin < note.end_tick:
                length = begin - note.start_tick
            kept.append(replace(note, length_ticks=length))
        side = 1 if full.word("side") == "from above" else -1
        for i in range(steps):
            kept.append(replace(goal, start_tick=begin + i * step, length_ticks=step, id=0,
                                pitch=goal.pitch + side * (steps - i), offset_ms=0.0))  # fmt: skip
        out = kept
    return out


def cut_short(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Let every n-th onset be short, for a pause after it."""
    every, ticks = round(full.number("every")), around.ticks(full.word("length"))
    out = []
    for i, chord in enumerate(by_start(notes), 1):
        short = i % every == 0
        out += [replace(n, length_ticks=min(n.length_ticks, ticks)) if short else n for n in chord]
    return out


BARS = choice("bars", "Of the bars", OF, "every 4th")
TOOLS = (
    Tool(name="late bars", group="Bass", about="bars that start late", act=late,
         spec=SettingsSpec((BARS, value("by", "By", "1/8")))),
    Tool(name="skip bars", group="Bass", about="bars left out", act=skip_bar,
         spec=SettingsSpec((BARS,))),
    Tool(name="octave jumps", group="Bass", about="moves every nth note by an octave", act=jumps,
         spec=SettingsSpec((count("every", "Every", 4, 2, 16, "notes"),
                            choice("way", "Way", ("up", "down"))))),
    Tool(name="bounce", group="Bass", about="adds octave, fifth and step after long "
                                            "notes", act=bounce,
         spec=SettingsSpec((value("held", "Length", "1/4"), value("step", "Step", "1/8")))),
    Tool(name="glide into", group="Bass", about="notes that glide from the one before", act=glide,
         spec=SettingsSpec((count("every", "Every", 2, 1, 16, "notes"),
                            ms("over_ms", "Over", 120, 1500)))),
    Tool(name="turn", group="Bass", about="half steps at the end of every few bars", act=turn,
         spec=SettingsSpec((choice("bars", "At the end of", OF, "every 8th"),
                            count("notes", "Last", 2, 1, 6, "notes"), value("step", "Step", "1/8"),
                            choice("side", "Side", ("from above", "from below"))))),
    Tool(name="cut short", group="Bass", about="rests after some onsets", act=cut_short,
         spec=SettingsSpec((count("every", "Every", 2, 1, 16, "onsets"),
                            value("length", "Length", "1/8")))),
)  # fmt: skip
