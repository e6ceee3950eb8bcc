"""A chord in its place."""

import msgspec
from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.model import spec
from cloudrift.loop.model.checks import within
from cloudrift.notes.touch import ChordTouch
from cloudrift.theory.key import Key
from cloudrift.theory.naming import ChordReading, read_chord


class Chord(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A chord in its place. ``voices`` are MIDI numbers, low to high; ``root`` a pitch class.

    The voices are the truth; the root says what was meant where they could read as two chords.
    ``muted`` voices are kept but silent, ``tied`` ones ring on from the chord before. It is struck
    ``late_ticks`` after its place, then at ``strikes`` (ticks after that; none: once, at 0), each
    stroke held for the ``gate`` share of its time. ``touch`` is its own, if it has one.
    """

    id: str
    start_tick: int
    length_ticks: int
    voices: tuple[int, ...]
    root: int
    muted: tuple[int, ...] = ()
    tied: tuple[int, ...] = ()
    late_ticks: int = 0
    strikes: tuple[int, ...] = ()
    gate: float = 1.0
    touch: ChordTouch | None = None

    def __post_init__(self) -> None:
        where = f"chord {self.id}"
        within(f"{where}: root", self.root, 0, 11)
        within(f"{where}: number of voices", len(self.voices), 1, spec.MAX_VOICES)
        for voice in self.voices:
            within(f"{where}: voice", voice, spec.LOWEST_VOICE, spec.HIGHEST_VOICE)
        within(f"{where}: gate", self.gate, spec.MIN_GATE, 1.0)
        if self.start_tick < 0 or self.length_ticks < 1:
            raise CloudriftError(f"{where} must start at tick 0 or later and last at least 1 tick")
        for name in ("muted", "tied"):
            strange = set(getattr(self, name)) - set(self.voices)
            if strange:
                raise CloudriftError(f"{where}: {name} names {min(strange)}, which is not a voice")
        if not 0 <= self.late_ticks < self.length_ticks:
            raise CloudriftError(
                f"{where} is {self.late_ticks} ticks late, but lasts only {self.length_ticks}"
            )
        if len(self.strikes) > spec.MAX_STRIKES:
            raise CloudriftError(f"{where} is played more than {spec.MAX_STRIKES} times")
        if list(self.strikes) != sorted(set(self.strikes)) or min(self.strikes, default=0) < 0:
            raise CloudriftError(f"{where}: onsets must rise from 0 ticks, without repeats")

    @property
    def end_tick(self) -> int:
        """The first tick after it."""
        return self.start_tick + self.length_ticks

    @property
    def sounding(self) -> tuple[int, ...]:
        """The voices that are not muted."""
        return tuple(v for v in self.voices if v not in self.muted)

    @property
    def hits(self) -> tuple[tuple[int, int], ...]:
        """Where it is struck and how long each stroke is held, in ticks from the loop's start.

        Strikes that a shorter chord has left no room for are passed over, but come again with it.
        """
        first = self.start_tick + self.late_ticks
        starts = [first + strike for strike in self.strikes or (0,)]
        starts = [s for s in starts if s < self.end_tick] or [first]
        ends = [*starts[1:], self.end_tick]
        return tuple(
            (start, max(1, round((end - start) * self.gate)))
            for start, end in zip(starts, ends, strict=True)
        )

    def read(self, key: Key) -> ChordReading:
        """Name it in a key."""
        return read_chord(self.voices, key, root_hint=self.root)


def lasting(chord: Chord, start: int, end: int) -> Chord:
    """Give a chord another place; a lateness longer than the chord is cut to what fits."""
    late = min(chord.late_ticks, max(0, end - start - spec.MIN_CHORD_TICKS))
    return replace(chord, start_tick=start, length_ticks=end - start, late_ticks=late)
