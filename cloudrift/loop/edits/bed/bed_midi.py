"""The groove bed as MIDI, and MIDI as lanes: keys of the tenth channel are drums.

The keys are those of the percussion map of General MIDI, levels 1 and 2 (MIDI Association).
"""

from collections.abc import Sequence

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.bed.beds import FIRST, PARTS, lane_for, set_bed
from cloudrift.loop.model.bed import hits_of
from cloudrift.loop.model.hits import MOST_HITS, MOST_ST, Hit, Pattern
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.sounding import around_bed, notes_of
from cloudrift.notes.note import LOW_PITCH, Note
from cloudrift.notes.time import bar_ticks

# The key of each drum sound of the house.
KEY_OF = {"kick": 36, "low kick": 35, "snare": 38, "rim": 37, "clap": 39, "closed hat": 42,
          "open hat": 46, "crash": 49, "shaker": 82, "snap": 26, "zap": 27, "dry kick": 36,
          "tight snare": 40, "brushed snare": 38, "small clap": 39, "tom": 47, "ride": 51,
          "tambourine": 54, "conga": 63, "woodblock": 76}  # fmt: skip
ELSE_KEY = 75  # claves: of a sound that is none of these
# Which part a key is played by; keys that are not here have a lane for "rim".
PART_OF = {
    **dict.fromkeys((35, 36), "kick"), **dict.fromkeys((38, 40), "snare"), 39: "clap", 26: "snap",
    **dict.fromkeys((42, 44), "hats"), 46: "open hat", **dict.fromkeys((49, 52, 55, 57), "crash"),
    **dict.fromkeys((69, 70, 82), "shaker"), 27: "zap",
    **dict.fromkeys((51, 53, 59), "ride"), **dict.fromkeys((41, 43, 45, 47, 48, 50), "tom"),
    **dict.fromkeys((60, 61, 62, 63, 64), "conga"), **dict.fromkeys((76, 77), "woodblock"),
    54: "tambourine", **dict.fromkeys((37, 31, 75), "rim"),
}  # fmt: skip
ELSE_PART, LOW_PART = "rim", "low drum"
DRUM_TICKS = 120  # how long a drum's note is held in a file


def bed_parts(loop: Loop) -> tuple[list[tuple[str, tuple[Note, ...]]], tuple[int, ...]]:
    """Return each lane that is heard as a name and notes, and the numbers of those that are drums.

    Low drums are notes as they sound; drums have the key of their first sound, played as written.
    """
    parts: list[tuple[str, tuple[Note, ...]]] = []
    drums = []
    for lane in loop.bed.heard if loop.bed else ():
        hits, notes = hits_of(lane), notes_of(loop, lane)
        if not hits.on_roots:
            key = KEY_OF.get(hits.stack[0].use.name, ELSE_KEY)
            notes = tuple(replace(note, pitch=key, length_ticks=DRUM_TICKS) for note in notes)
            drums.append(len(parts))
        else:
            notes = _one_at_a_time(notes, loop.ticks)
        parts.append((lane.name, notes))
    return parts, tuple(drums)


def _one_at_a_time(notes: tuple[Note, ...], end: int) -> tuple[Note, ...]:
    """Notes that ring until they are stopped, each ended by the next."""
    ends = [*(note.start_tick for note in notes[1:]), end]
    return tuple(
        replace(note, length_ticks=max(1, min(note.length_ticks, then - note.start_tick)))
        for note, then in zip(notes, ends, strict=True)
    )


def lanes_of_midi(
    loop: Loop, drums: Sequence[Note], parts: Sequence[tuple[str, Sequence[Note]]] = ()
) -> Loop:
    """Put the drums of a MIDI file, and its low parts, into the bed as lanes of their own.

    Each kind of drum becomes a lane; hits lie where they are, also off the grid. A low part is a
    lane on roots: each note as far from the root as it is. As many bars as the loop has are taken.
    Raises CloudriftError where nothing is in them.
    """
    by_part: dict[str, list[Note]] = {}
    for note in drums:
        by_part.setdefault(PART_OF.get(note.pitch, ELSE_PART), []).append(note)
    found = [(part, by_part[part]) for part in PARTS if part in by_part]
    found += [(LOW_PART, list(notes)) for _name, notes in parts if notes and is_low(notes)]
    found = [(part, [x for x in notes if x.start_tick < loop.ticks]) for part, notes in found]
    bar = bar_ticks(loop.metre)
    last = max((note.start_tick for _part, notes in found for note in notes), default=-1)
    if last < 0:
        raise CloudriftError("there are no drums in the first bars of that file")
    for part, notes in found:
        if notes:
            loop = _with_lane(loop, part, notes, last // bar + 1)
    return loop


def is_low(notes: Sequence[Note]) -> bool:
    """Whether notes are those of a bass: the middle of them is low."""
    return sorted(note.pitch for note in notes)[len(notes) // 2] <= LOW_PITCH


def _with_lane(loop: Loop, part: str, notes: Sequence[Note], bars: int) -> Loop:
    lane = lane_for(loop, part, (Pattern(name=FIRST, bars=bars),))
    loop = set_bed(loop, lanes=(*loop.lanes, lane))
    around, plays = around_bed(loop), hits_of(lane)
    hits: dict[int, Hit] = {}
    for note in notes:
        hit = Hit(tick=note.start_tick, velocity=min(max(note.velocity, 1), 127))
        if plays.on_roots:
            st = note.pitch - plays.base_at(note.start_tick, around)
            hit = replace(hit, st=min(max(st, -MOST_ST), MOST_ST), length_ticks=note.length_ticks)
        hits[note.start_tick] = hit
    kept = tuple(hits[tick] for tick in sorted(hits))[:MOST_HITS]
    pattern = Pattern(name=FIRST, bars=bars, hits=kept)
    return loop.with_owner(lane.id, source=replace(plays, patterns=(pattern,)))
