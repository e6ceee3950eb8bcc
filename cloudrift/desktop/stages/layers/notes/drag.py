"""What a hand on the note grid is doing."""

from dataclasses import dataclass, field

from PyQt6.QtCore import QPointF

from cloudrift.notes.note import Note


@dataclass
class Drag:
    """What is held, where it was taken hold of, and how far it has gone already."""

    kind: str  # move, start, end, pick, loud, strip
    at: QPointF
    note: Note | None = None
    moved: bool = False
    pace: float = 1.0  # written ticks for each that is heard where it was taken hold of
    done: tuple[int, int] = (0, 0)  # ticks and semitones (or steps) already gone
    before: frozenset[int] = frozenset()
    plays: bool = True
    drawn: bool = False
    path: list[QPointF] = field(default_factory=list)

    @property
    def merge(self) -> str:
        """What joins all edits of this drag into one step."""
        return f"drag notes {self.kind}"
