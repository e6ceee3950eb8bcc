"""Tools that move notes in time."""

import numpy as np
from msgspec.structs import replace

from cloudrift.ground.draws import rng_for
from cloudrift.ground.settings import ResolvedSettings, SettingsSpec, percent
from cloudrift.notes.note import Note
from cloudrift.notes.tools.tool import (
    VARIATION,
    WINDOWS,
    Tool,
    ToolContext,
    by_start,
    choice,
    count,
    ms,
    value,
)
from cloudrift.notes.touch import ChordTouch, roll_delays

UP, DOWN, UP_DOWN = "up", "down", "up, then down"


def roll(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Start the notes of each chord one after another."""
    way = ChordTouch(
        roll_ms=full.number("roll_ms"),
        direction=full.word("direction"),  # type: ignore[arg-type]
        top=round(full.number("top")),
        uneven=full.number("uneven") / 100,
        variation=round(full.number("variation")),
    )
    out = []
    for chord in by_start(notes):
        ordered = chord[::-1] if way.direction == "down" else chord
        rng = rng_for(way.variation, "roll", chord[0].start_tick)
        delays = roll_delays(len(chord), way, rng)
        out += [replace(n, offset_ms=round(d, 3)) for n, d in zip(ordered, delays, strict=True)]
    return out


def loosen(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Let each note stray a little either way."""
    most, variation = full.number("drift_ms"), round(full.number("variation"))
    return [
        replace(n, offset_ms=round(n.offset_ms + most * _drawn(variation, "loosen", n), 3))
        for n in notes
    ]


def _drawn(variation: int, what: str, note: Note) -> float:
    return float(rng_for(variation, what, note.start_tick, note.pitch).uniform(-1, 1))


def straighten(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Take rolls and straying out: each note is played where it is written."""
    keep = 1 - full.number("strength") / 100
    return [replace(n, offset_ms=round(keep * n.offset_ms, 3)) for n in notes]


def quantise(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Bring starts to the grid; with swing every second place of it comes late."""
    step = around.ticks(full.word("step"))
    strength = full.number("strength") / 100
    late = full.number("swing") / 100 * step * 2 / 3  # 100 %: the last third of the pair
    out = []
    for note in notes:
        place = round(note.start_tick / step)
        aim = place * step + (late if place % 2 else 0)
        start = round(note.start_tick + strength * (aim - note.start_tick))
        offset = round((1 - strength) * note.offset_ms, 3)
        if start >= around.loop_ticks:  # just before the seam: the start of the next turn
            start = 0
        out.append(replace(note, start_tick=start, offset_ms=offset))
    return out


def nudge(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Move notes against the beat: played later or earlier, written where they were."""
    by = full.number("by_ms")
    return [replace(n, offset_ms=round(n.offset_ms + by, 3)) for n in notes]


def stagger(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Lay notes in order of pitch, each a part of the grid after the one before, swelling.

    Going up and down turns back at the top without striking it twice, to the note it began with.
    """
    step = max(1, round(around.ticks(full.word("step")) * full.number("share") / 100))
    line = sorted(notes, key=lambda n: (n.pitch, n.start_tick))
    way = full.word("direction")
    run = line if way == UP else line[::-1]
    if way == UP_DOWN:
        run = line + line[-2::-1]
    first = min(n.start_tick for n in notes)
    # From the loudest of them, so that using it twice does not soften twice.
    loudest = max(n.velocity for n in notes)
    swell = np.linspace(1 - full.number("swell") / 100, 1, len(run))
    plain = full.number("swell") == 0
    out = []
    for i, (note, loud) in enumerate(zip(run, swell, strict=True)):
        start = first + i * step
        if start >= around.loop_ticks:
            break
        longest = max(step, note.length_ticks - i * step)
        length = step if full.word("lengths") == "short" else longest
        out.append(
            replace(
                note,
                start_tick=start,
                length_ticks=length,
                velocity=note.velocity if plain else max(1, round(loudest * float(loud))),
            )
        )
    return out


def flip_order(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Play the notes the other way round in time, within where they stood."""
    first, last = min(n.start_tick for n in notes), max(n.end_tick for n in notes)
    return [replace(n, start_tick=first + last - n.end_tick) for n in notes]


def to_front(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Pull notes squeezes into the first part of each window: what a slow treatment lets one "
    "hear."""
    window, share = around.ticks(full.word("window")), full.number("share") / 100
    out = []
    for note in notes:
        begin = note.start_tick // window * window
        length = max(1, round(note.length_ticks * share))
        start = begin + round((note.start_tick - begin) * share)
        out.append(replace(note, start_tick=start, length_ticks=length))
    return out


DIRECTIONS = (UP, DOWN)
TOOLS = (
    Tool(name="roll", group="Time", about="plays the notes of a chord one after another", act=roll,
         spec=SettingsSpec((ms("roll_ms", "Over", 60), choice("direction", "Direction", DIRECTIONS),
                            count("top", "Only the top", 0, 0, 9, "notes"),
                            percent("uneven", "Uneven", 20), VARIATION))),
    Tool(name="loosen", group="Time", about="random timing for every note", act=loosen,
         spec=SettingsSpec((ms("drift_ms", "At most", 12, 60), VARIATION))),
    Tool(name="straighten", group="Time", about="removes rolls and random timing", act=straighten,
         spec=SettingsSpec((percent("strength", "How much", 100),))),
    Tool(name="quantise", group="Time", about="quantises onsets", act=quantise,
         spec=SettingsSpec((value(), percent("strength", "Strength", 100),
                            percent("swing", "Swing", 0)))),
    Tool(name="lean", group="Time", about="plays all later or earlier", act=nudge,
         spec=SettingsSpec((count("by_ms", "By", 12, -60, 60, "ms"),))),
    Tool(name="stagger", group="Time", about="one after another by half a step, growing louder",
         act=stagger,
         spec=SettingsSpec((value(), percent("share", "Of the step", 50, low=10),
                            choice("direction", "Direction", (UP, DOWN, UP_DOWN)),
                            percent("swell", "Swell", 50),
                            choice("lengths", "Lengths", ("held on", "short"))))),
    Tool(name="flip order", group="Time", about="reverses the order", act=flip_order),
    Tool(name="to the front", group="Time", about="squeezes into the first part of each window",
         act=to_front,
         spec=SettingsSpec((choice("window", "Window", WINDOWS, "1/1"),
                            percent("share", "Part", 50, low=10)))),
)  # fmt: skip
