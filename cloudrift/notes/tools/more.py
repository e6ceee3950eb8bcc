"""Tools that add notes: echoes, approaches, runs, fillers."""

from itertools import pairwise

import numpy as np
from msgspec.structs import replace

from cloudrift.ground.draws import rng_for
from cloudrift.ground.settings import ResolvedSettings, SettingsSpec, percent
from cloudrift.notes.note import Note
from cloudrift.notes.tools.tool import (
    VALUES,
    VARIATION,
    Tool,
    ToolContext,
    by_start,
    choice,
    count,
    value,
)


def echo(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Repeat notes, each time softer, as long as the loop lasts; nothing repeats over the seam."""
    step, share = around.ticks(full.word("step")), 1 - full.number("fall") / 100
    by = round(full.number("pitch"))
    out = list(notes)
    for note in notes:
        for i in range(1, round(full.number("repeats")) + 1):
            start = note.start_tick + i * step
            velocity = round(note.velocity * share**i)
            if start >= around.loop_ticks or velocity < 1:
                break
            pitch = around.key.step(note.pitch, i * by) if by else note.pitch
            out.append(replace(note, start_tick=start, velocity=velocity, pitch=pitch, id=0,
                               length_ticks=min(note.length_ticks, step)))  # fmt: skip
    return out


def approach(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Lead into notes from a half step away, struck shortly before them."""
    ticks = around.ticks(full.word("length"))
    by = -1 if full.word("side") == "from below" else 1
    every, share = round(full.number("every")), full.number("loud") / 100
    out = list(notes)
    for i, chord in enumerate(by_start(notes)):
        note = chord[-1]  # the top of a chord is what is heard as the line
        if i % every or note.start_tick < ticks:
            continue
        out.append(replace(note, start_tick=note.start_tick - ticks, length_ticks=ticks,
                           pitch=note.pitch + by, id=0,
                           velocity=max(1, round(note.velocity * share))))  # fmt: skip
    return out


def run(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Fill the way from each note to the next with the scale, ending just before it."""
    step = around.ticks(full.word("step"))
    line = [chord[-1] for chord in by_start(notes)]
    out = list(notes)
    for one, other in pairwise(line):
        way = 1 if other.pitch > one.pitch else -1
        between = [p for p in range(one.pitch + way, other.pitch, way) if around.key.has(p)]
        room = (other.start_tick - one.start_tick) // step - 1
        between = between[-max(0, room) :] if room > 0 else []
        first = other.start_tick - len(between) * step
        swell = np.linspace(0.6, 1.0, max(1, len(between)))
        for i, (pitch, loud) in enumerate(zip(between, swell, strict=False)):
            out.append(replace(other, start_tick=first + i * step, length_ticks=step, pitch=pitch,
                               velocity=max(1, round(other.velocity * float(loud))),
                               offset_ms=0.0, id=0))  # fmt: skip
        if between:
            held = min(one.length_ticks, first - one.start_tick)
            out[out.index(one)] = replace(one, length_ticks=held)
    return out


def fill_gaps(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Put single scale notes where nothing plays, near the note before."""
    step, variation = around.ticks(full.word("step")), round(full.number("variation"))
    often, share = full.number("often") / 100, full.number("loud") / 100
    line = [chord[-1] for chord in by_start(notes)]
    out = list(notes)
    for i, note in enumerate(line):
        end = line[i + 1].start_tick if i + 1 < len(line) else around.loop_ticks
        pitch = note.pitch
        first = -(-note.end_tick // step) * step
        for start in range(first, end - step + 1, step):
            rng = rng_for(variation, "fill", start)
            if rng.random() >= often:
                continue
            pitch = around.key.step(pitch, int(rng.choice([-2, -1, 1, 2])))
            if abs(pitch - note.pitch) > 7:
                pitch = around.key.step(note.pitch, 1)
            out.append(replace(note, start_tick=start, length_ticks=round(0.9 * step), pitch=pitch,
                               velocity=max(1, round(note.velocity * share)), offset_ms=0.0, id=0)
                       )  # fmt: skip
    return out


BARS = {"1 bar": 1, "2 bars": 2, "4 bars": 4, "8 bars": 8}


def twice(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Copy the notes on, as often as they fit: a bar becomes the next ones."""
    after = full.word("after")
    length = BARS[after] * around.bar_ticks if after in BARS else around.ticks(after)
    out = list(notes)
    for turn in range(1, round(full.number("times")) + 1):
        moved = [replace(n, start_tick=n.start_tick + turn * length, id=0) for n in notes]
        out += [n for n in moved if n.start_tick < around.loop_ticks]
    return out


TOOLS = (
    Tool(name="echo", group="Add", about="repeats that fade, as notes", act=echo,
         spec=SettingsSpec((count("repeats", "Again", 3, 1, 16, "times"),
                            value("step", "Every", "1/8"),
                            percent("fall", "Quieter by", 30, high=90),
                            count("pitch", "Each up by", 0, -7, 7, "steps")))),
    Tool(name="approach", group="Add", about="a half step leads into notes", act=approach,
         spec=SettingsSpec((choice("side", "Side", ("from below", "from above")),
                            value("length", "Length", "1/16"),
                            count("every", "Every", 1, 1, 8, "notes"),
                            percent("loud", "Velocity", 75, low=5)))),
    Tool(name="scale run", group="Add", about="a scale from note to note", act=run,
         spec=SettingsSpec((value("step", "Step", "1/16"),))),
    Tool(name="fill gaps", group="Add", about="scale notes where nothing plays",
         act=fill_gaps,
         spec=SettingsSpec((value("step", "Step", "1/8"), percent("often", "How often", 50),
                            percent("loud", "Velocity", 75, low=5), VARIATION))),
    Tool(name="repeat", group="Add", about="repeats the notes after themselves", act=twice,
         spec=SettingsSpec((choice("after", "After", (*BARS, *VALUES), "1 bar"),
                            count("times", "Again", 1, 1, 32, "times")))),
)  # fmt: skip
