"""The note: what is written, and how it came to be."""

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
