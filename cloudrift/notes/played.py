"""Playing in: keys that go down and up while a loop turns become notes, on a grid if wished."""

from dataclasses import dataclass, field

from cloudrift.notes.note import Note

SHORTEST_TICKS = 60


@dataclass
class Played:
    """Collects keys over the turns of a loop of that many ticks; later turns add to it."""

    loop_ticks: int
    _down: dict[int, tuple[int, int]] = field(default_factory=dict)  # pitch -> tick, velocity
    _done: list[tuple[int, int, int, int]] = field(default_factory=list)

    def down(self, tick: int, pitch: int, velocity: int) -> None:
        """A key went down at a tick of the loop."""
        if pitch in self._down:
            self.up(tick, pitch)
        self._down[pitch] = tick % self.loop_ticks, velocity

    def up(self, tick: int, pitch: int) -> None:
        """A key went up; one held over the seam ends with the loop."""
        if pitch not in self._down:
            return
        start, velocity = self._down.pop(pitch)
        end = tick % self.loop_ticks
        if end <= start:
            end = self.loop_ticks
        self._done.append((start, end, pitch, velocity))

    @property
    def count(self) -> int:
        """How many keys have been played."""
        return len(self._done) + len(self._down)

    def close(self, tick: int) -> None:
        """Let every key go that is still down."""
        for pitch in list(self._down):
            self.up(tick, pitch)

    def notes(self, grid_ticks: int = 0) -> tuple[Note, ...]:
        """Return the notes whose keys went up, on a grid of that many ticks (0: as played).

        Starts and ends go to the nearest place of the grid; a key played just before the seam
        belongs to the start of the next turn.
        """
        out: dict[tuple[int, int], Note] = {}
        for start, end, pitch, velocity in self._done:
            first, last = start, end
            if grid_ticks:
                first = round(start / grid_ticks) * grid_ticks
                last = max(first + grid_ticks, round(end / grid_ticks) * grid_ticks)
            if first >= self.loop_ticks:
                first, last = 0, min(last - first, self.loop_ticks) or grid_ticks
            last = min(last, self.loop_ticks)
            length = max(SHORTEST_TICKS, last - first)
            out[(first, pitch)] = Note(
                start_tick=first, length_ticks=length, pitch=pitch, velocity=velocity
            )
        return tuple(sorted(out.values(), key=lambda n: (n.start_tick, n.pitch)))
