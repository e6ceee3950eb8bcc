"""Another metre for a loop that stands: bars keep their number, beats come or go at their ends."""

from typing import Any

from msgspec.structs import replace

from cloudrift.ground.words import plural
from cloudrift.loop.edits.flip.flipping import lay
from cloudrift.loop.model import spec
from cloudrift.loop.model.bed import Bed
from cloudrift.loop.model.chord import lasting
from cloudrift.loop.model.flip import Flipped
from cloudrift.loop.model.hits import Hits, Pattern
from cloudrift.loop.model.loop import Chord, Layer, Loop
from cloudrift.loop.model.recorded import FromRecording
from cloudrift.notes.note import Note, numbered
from cloudrift.notes.time import bar_ticks
from cloudrift.texture.ride import LEAST_EVERY, MOST_EVERY, Ride, RidePoint
from cloudrift.texture.treatment import Line

METRES = tuple((beats, unit) for unit in spec.BEAT_UNITS for beats in spec.BEATS)


def metre_text(metre: tuple[int, int]) -> str:
    """Write a metre: ``6/8``."""
    return f"{metre[0]}/{metre[1]}"


def set_metre(loop: Loop, metre: tuple[int, int]) -> Loop:
    """Give every bar another number of beats; tempo and the number of bars stay.

    What starts in beats that go is let go, what reaches into them is cut at the bar's end. What
    ended with a bar ends with the longer bar. Rides and places go along; a layer that plays only in
    beats that go is off.
    """
    if metre == loop.metre:
        return loop
    bars = _Bars(bar_ticks(loop.metre), bar_ticks(metre))
    chords = [made for chord in loop.chords if (made := bars.chord(chord)) is not None]
    return replace(
        loop,
        metre=metre,
        chords=tuple(chords),
        layers=tuple(bars.layer(layer) for layer in loop.layers),
        groups=tuple(replace(g, line=bars.line(g.line)) for g in loop.groups),
        line=bars.line(loop.line),
        bed=loop.bed and bars.bed(loop.bed),
    )


def metre_words(loop: Loop, metre: tuple[int, int]) -> str:
    """Say what another metre would do to a loop."""
    made = set_metre(loop, metre)
    gone = len(loop.chords) - len(made.chords)
    before, after = (sum(len(x.own or ()) for x in one.layers) for one in (loop, made))
    lengths = {c.id: c.length_ticks for c in made.chords}
    others = [lengths[c.id] - c.length_ticks for c in loop.chords if c.id in lengths]
    off = sum(x.mute for x in made.layers) - sum(x.mute for x in loop.layers)
    parts = [
        f"{plural(gone, 'chord')} lost" if gone else "",
        f"{plural(sum(x < 0 for x in others), 'chord')} shorter"
        if min(others, default=0) < 0
        else "",
        f"{plural(sum(x > 0 for x in others), 'chord')} longer"
        if max(others, default=0) > 0
        else "",
        f"{plural(before - after, 'note')} lost" if before > after else "",
        f"{plural(off, 'layer')} off: it plays only in those beats" if off else "",
    ]
    said = ", ".join(part for part in parts if part) or "no chord or note changes"
    seconds = made.frames / made.rate
    return f"{metre_text(metre)}: {said}; {plural(made.bars, 'bar')} last {seconds:.2f} s"


class _Bars:
    """Takes what lies in bars of one length into bars of another."""

    def __init__(self, old: int, new: int) -> None:
        self.old, self.new = old, new

    def at(self, tick: int) -> int:
        """Where a place is: in the same bar, at the latest at its end."""
        bar, rest = divmod(tick, self.old)
        return bar * self.new + min(rest, self.new)

    def goes(self, tick: int) -> bool:
        """Whether a place is in beats that go."""
        return tick % self.old >= self.new

    def chord(self, chord: Chord) -> Chord | None:
        start, end = self.at(chord.start_tick), self.at(chord.end_tick)
        if self.goes(chord.start_tick) or end - start < spec.MIN_CHORD_TICKS:
            return None
        return lasting(chord, start, end)

    def note(self, note: Note) -> Note:
        start, end = self.at(note.start_tick), self.at(note.end_tick)
        if (note.end_tick - 1) // self.old == note.start_tick // self.old:
            end = min(end, start + note.length_ticks)  # within a bar it is as long as it was
        return replace(note, start_tick=start, length_ticks=max(1, end - start))

    def layer(self, layer: Layer) -> Layer:
        changes: dict[str, Any] = {"line": self.line(layer.line)}
        source = layer.source
        if layer.own is not None:
            kept = (note for note in layer.own if not self.goes(note.start_tick))
            source = replace(source, notes=numbered(self.note(note) for note in kept))
        if isinstance(source, Flipped):
            still = (
                replace(place, at_tick=self.at(place.at_tick))
                for place in source.places
                if not self.goes(place.at_tick)
            )
            source = replace(source, places=())
            for place in still:
                source = lay(source, place)
        elif isinstance(source, FromRecording):
            source = replace(source, at_tick=self.at(source.at_tick))
        elif isinstance(source, Hits):
            source = replace(source, patterns=tuple(map(self.pattern, source.patterns)))
        elif source.lens.where:
            places = ((self.at(a), self.at(b)) for a, b in source.lens.where)
            where = tuple((a, b) for a, b in places if b > a)
            source = replace(source, lens=replace(source.lens, where=where))
            if not where:  # nowhere is left where it plays, and no places would mean everywhere
                changes["mute"] = True
        if layer.level_ride is not None:
            changes["level_ride"] = self.ride(layer.level_ride)
        return replace(layer, source=source, **changes)

    def bed(self, bed: Bed) -> Bed:
        lanes = tuple(self.layer(lane) for lane in bed.lanes)
        return replace(bed, lanes=lanes, group=replace(bed.group, line=self.line(bed.group.line)))

    def pattern(self, pattern: Pattern) -> Pattern:
        kept = (hit for hit in pattern.hits if not self.goes(hit.tick))
        moved = (replace(hit, tick=self.at(hit.tick)) for hit in kept)
        return replace(pattern, hits=tuple(sorted(moved, key=lambda hit: hit.tick)))

    def line(self, line: Line) -> Line:
        return tuple(
            replace(t, rides=tuple(map(self.ride, t.rides))) if t.rides else t for t in line
        )

    def ride(self, ride: Ride) -> Ride:
        """One that comes every few bars still does; one that comes more often stays as it is."""
        every = ride.every_ticks
        if every % self.old:
            return ride
        every = min(max(every // self.old * self.new, LEAST_EVERY), MOST_EVERY) if every else 0
        points: dict[int, RidePoint] = {}
        for point in ride.points:
            tick = self.at(point.tick)
            points.setdefault(tick, replace(point, tick=tick))
        return replace(ride, points=tuple(points.values()), every_ticks=every)
