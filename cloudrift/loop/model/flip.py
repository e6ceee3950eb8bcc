"""A layer that is a flip: a recording cut into pieces, and where each plays now.

Times are ticks of the loop, counted from where the recording lies in it: what is cut is what is
heard of it, fitted and shifted.
"""

from itertools import pairwise

import msgspec

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import named, plural
from cloudrift.loop.model.checks import within
from cloudrift.loop.model.chord import Chord
from cloudrift.loop.model.recorded import FromRecording, WithoutNotes

MOST_CUTS, MOST_PLACES, MOST_TIMES, MOST_CHORDS = 512, 1024, 64, 512
SHORTEST_TICKS = 15  # a hundred and twenty-eighth
MOST_ST, LOWEST_DB, HIGHEST_DB = 24.0, -60.0, 12.0
FADE_IN_MS, FADE_OUT_MS = 2.0, 8.0
LONGEST_FADE_MS, LONGEST_DECAY_MS = 2000.0, 8000.0
MOST_TICKS = 1 << 24
LEAST_LONGER, MOST_LONGER = 0.25, 4.0


class SlicePlacement(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A span of the recording, and where and how it plays.

    What is longer than its place is cut, what is shorter leaves a gap; or it ``fills`` its place,
    stretched at its pitch. ``decay_ms`` is how fast it dies away (0: not). ``times`` is how often
    its start is struck in it, each time ``level_step_db`` louder and ``step_st`` higher.
    ``semitones`` moves its pitch, its length held, or as on ``tape``. What leads on in the
    recording from one place to the next is not faded.
    """

    at_tick: int
    length_ticks: int
    from_tick: int
    from_ticks: int
    backward: bool = False
    times: int = 1
    semitones: float = 0.0
    tape: bool = False
    level_db: float = 0.0
    pan: float = 0.0
    level_step_db: float = 0.0
    step_st: float = 0.0
    fade_in_ms: float = FADE_IN_MS
    fade_out_ms: float = FADE_OUT_MS
    mute: bool = False
    fills: bool = False
    decay_ms: float = 0.0

    def __post_init__(self) -> None:
        where = f"the piece at tick {self.at_tick}"
        within(f"{where}: place", self.at_tick, 0, MOST_TICKS, " ticks")
        within(f"{where}: start in the print", self.from_tick, 0, MOST_TICKS, " ticks")
        for what, ticks in (("length", self.length_ticks), ("span", self.from_ticks)):
            within(f"{where}: {what}", ticks, SHORTEST_TICKS, MOST_TICKS, " ticks")
        within(f"{where}: times", self.times, 1, MOST_TIMES)
        within(f"{where}: shift", self.semitones, -MOST_ST, MOST_ST, " semitones")
        within(f"{where}: level", self.level_db, LOWEST_DB, HIGHEST_DB, " dB")
        within(f"{where}: pan", self.pan, -1, 1)
        within(f"{where}: level per repeat", self.level_step_db, -12, 12, " dB")
        within(f"{where}: shift per repeat", self.step_st, -12, 12, " semitones")
        within(f"{where}: decay", self.decay_ms, 0, LONGEST_DECAY_MS, " ms")
        for what, ms in (("fade in", self.fade_in_ms), ("fade out", self.fade_out_ms)):
            within(f"{where}: {what}", ms, 0, LONGEST_FADE_MS, " ms")

    @property
    def end_tick(self) -> int:
        """Where its place ends."""
        return self.at_tick + self.length_ticks

    @property
    def end_from(self) -> int:
        """Where its span ends in the recording."""
        return self.from_tick + self.from_ticks

    @property
    def stretches(self) -> tuple[float, float]:
        """How many times as long what plays in it is made, at the least and the most.

        That is so to fill its place, and where its pitch goes and its length is held.
        """
        longer = self.length_ticks / self.times / self.from_ticks if self.fills else 1.0
        ends = (self.semitones, self.semitones + (self.times - 1) * self.step_st)
        held = [longer * (1.0 if self.tape else 2 ** (end / 12)) for end in ends]
        return min(held), max(held)

    @property
    def plain(self) -> bool:
        """Whether it plays as it is in the recording, wherever; forward or backward."""
        as_it_is = SlicePlacement(
            at_tick=self.at_tick,
            length_ticks=self.length_ticks,
            from_tick=self.from_tick,
            from_ticks=self.from_ticks,
            backward=self.backward,
        )
        return self == as_it_is and self.length_ticks == self.from_ticks


class Label(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What a recording is called from a tick on, to where the next label is."""

    at_tick: int
    name: str

    def __post_init__(self) -> None:
        within("the place of a label", self.at_tick, 0, MOST_TICKS, " ticks")
        named(self, "a label")


class Flipped(WithoutNotes, frozen=True, kw_only=True, tag="flip"):
    """A recording (``of``), cut at ``cuts`` (ticks, the first 0), playing at ``places``.

    It lasts ``length_ticks`` where nothing is moved; what lies after the end of its loop is not
    heard there. ``chords`` are those that sound in it, as far as they are known; ``labels`` name
    spans of it; it is laid over ``longer`` times as many bars as it was recorded in.
    ``print_id`` names the print that it was cut from.
    """

    of: FromRecording
    length_ticks: int
    cuts: tuple[int, ...]
    places: tuple[SlicePlacement, ...]
    chords: tuple[Chord, ...] = ()
    labels: tuple[Label, ...] = ()
    longer: float = 1.0
    print_id: str = ""

    def check(self, where: str) -> None:
        """Raise CloudriftError that names what can't be."""
        self.of.check(where)
        within(f"{where}: length", self.length_ticks, SHORTEST_TICKS, MOST_TICKS, " ticks")
        within(f"{where}: stretch of its bars", self.longer, LEAST_LONGER, MOST_LONGER)
        within(f"{where}: number of pieces", len(self.cuts), 1, MOST_CUTS)
        within(f"{where}: number of places", len(self.places), 0, MOST_PLACES)
        edges = (*self.cuts, self.length_ticks)
        if self.cuts[0] != 0 or any(b - a < SHORTEST_TICKS for a, b in pairwise(edges)):
            raise CloudriftError(
                f"{where}: its cuts do not rise from its start to its end, {SHORTEST_TICKS} ticks "
                "apart or more"
            )
        end = 0
        for place in self.places:
            if place.at_tick < end:
                raise CloudriftError(f"{where}: two pieces play at tick {place.at_tick}")
            if place.end_from > self.length_ticks:
                raise CloudriftError(
                    f"{where}: the piece at tick {place.at_tick} is outside the print"
                )
            end = place.end_tick
        within(f"{where}: number of chords", len(self.chords), 0, MOST_CHORDS)
        within(f"{where}: number of labels", len(self.labels), 0, MOST_CUTS)
        ticks = [label.at_tick for label in self.labels]
        if ticks != sorted(set(ticks)) or any(tick >= self.length_ticks for tick in ticks):
            raise CloudriftError(f"{where}: its labels do not rise from its start to its end")

    @property
    def own_tempo(self) -> float:
        """The tempo (BPM) at which what was recorded is not stretched; 0 where it has none."""
        return self.of.facts.tempo * self.longer

    # --- pieces -------------------------------------------------------------------------------

    @property
    def pieces(self) -> tuple[tuple[int, int], ...]:
        """Each piece's start and end."""
        return tuple(pairwise((*self.cuts, self.length_ticks)))

    def piece_at(self, tick: int) -> int:
        """Return the number of the piece that a tick of the recording lies in."""
        return max(i for i, cut in enumerate(self.cuts) if cut <= max(tick, 0))

    def chord_at(self, tick: int) -> Chord | None:
        """Return the chord that sounds at a tick of the recording."""
        return next(
            (c for c in self.chords if c.start_tick <= tick < c.start_tick + c.length_ticks), None
        )

    def label_at(self, tick: int) -> Label | None:
        """Return the label of the span that a tick of the recording lies in."""
        return next((x for x in reversed(self.labels) if x.at_tick <= tick), None)

    @property
    def long_ticks(self) -> int:
        """How long it is in all: as long as what was cut, or to where its last place ends."""
        return max(self.length_ticks, self.places[-1].end_tick if self.places else 0)

    # --- as a source --------------------------------------------------------------------------

    @property
    def end_tick(self) -> int:
        """It may be longer than its loop: what lies after that is not heard."""
        return 0

    @property
    def name(self) -> str:
        """What it is called."""
        return self.of.name

    @property
    def sound_text(self) -> str:
        """What is heard, in words."""
        return self.of.sound_text

    @property
    def is_silent(self) -> bool:
        """Whether nothing can be heard of it."""
        return all(place.mute for place in self.places)

    def rings_s(self, _tempo: float) -> float:
        """Return how long it goes on after the loop's end, in seconds: a fade."""
        return LONGEST_FADE_MS / 1000

    @property
    def recordings(self) -> tuple[FromRecording, ...]:
        """The recordings that it carries along."""
        return (self.of,)

    @property
    def text(self) -> str:
        """What it plays, in words."""
        backward = sum(place.backward for place in self.places)
        turned = f", {backward} reversed" if backward else ""
        return f"{plural(len(self.places), 'piece')}{turned}"


def letters_of(number: int) -> str:
    """Return the letters of a piece by its number: a to z, then aa, ab, …"""
    text = ""
    number += 1
    while number:
        number, rest = divmod(number - 1, 26)
        text = chr(ord("a") + rest) + text
    return text
