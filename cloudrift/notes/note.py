"""The note, and the chord span that lenses look at."""

import msgspec


class Note(msgspec.Struct, frozen=True, kw_only=True):
    """One note: written in ticks, played with an offset in milliseconds.

    ``length_ticks`` is at least 1, ``velocity`` 1-127. ``chord`` and ``voice`` say where the
    note came from (indices), so that touch can roll the notes of one chord together.
    """

    start_tick: int
    length_ticks: int
    pitch: int
    velocity: int = 84
    offset_ms: float = 0.0
    chord: int = 0
    voice: int = 0


class Span(msgspec.Struct, frozen=True, kw_only=True):
    """A chord as notes see it: a stretch of the loop, its voices (MIDI numbers) and its root."""

    start_tick: int
    length_ticks: int
    voices: tuple[int, ...]
    root: int
