"""The note: what is written, and how it came to be."""

from collections.abc import Iterable

import msgspec

LOWEST, HIGHEST = 12, 120  # MIDI numbers that notes keep to
LOW_PITCH = 46  # below the middle of such notes a part is a bass
MOST = 4000  # notes of one layer: more is a mistake
MIN_TICKS = 30  # 1/128: the shortest that is written


class Note(
    msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True, forbid_unknown_fields=True
):
    """One note: written in ticks, played with an offset in milliseconds.

    ``length_ticks`` is at least 1, ``velocity`` 1-127. ``chord`` and ``voice`` say where the
    note came from (indices), so that touch can roll the notes of one chord together. ``glide_ms``
    is how long it takes to leave the pitch of the note before it (0: it starts on its own). A
    ``muted`` note is kept but silent; ``pan`` goes from -1 (left) to 1. ``id`` tells the notes of
    one layer apart once they are its own.
    """

    start_tick: int
    length_ticks: int
    pitch: int
    velocity: int = 84
    offset_ms: float = 0.0
    chord: int = 0
    voice: int = 0
    glide_ms: float = 0.0
    muted: bool = False
    pan: float = 0.0
    id: int = 0

    @property
    def end_tick(self) -> int:
        """The first tick after it."""
        return self.start_tick + self.length_ticks


def in_order(notes: Iterable[Note]) -> tuple[Note, ...]:
    """Return notes by time, then pitch."""
    return tuple(sorted(notes, key=lambda n: (n.start_tick, n.pitch)))


def numbered(notes: Iterable[Note]) -> tuple[Note, ...]:
    """Return notes in order, those without an id with the next free one."""
    found = in_order(notes)
    if all(n.id for n in found):
        return found
    free = max(n.id for n in found)
    out = []
    for note in found:
        if not note.id:
            free += 1
            note = msgspec.structs.replace(note, id=free)  # noqa: PLW2901
        out.append(note)
    return tuple(out)
