"""How much of a layer's notes a slow treatment lets be heard."""

from typing import NamedTuple

from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.texture.kinds.windows import SLOWED, SPEEDS


class Slowed(NamedTuple):
    """A slow treatment that a layer goes through: its window, and the share heard of each."""

    window: str
    share: float

    @property
    def says(self) -> str:
        """What of it is heard, in words."""
        return f"half speed: the first {self.share * 100:.0f} % of every {self.window} plays"


def slowed(loop: Loop, layer: Layer) -> Slowed | None:
    """Return the first slow treatment on a layer's way (its line, its group's, the loop's)."""
    group = loop.group(layer.group).line if layer.group else ()
    for treatment in (*layer.line, *group, *loop.line):
        if treatment.kind == SLOWED.name and treatment.acts:
            full = treatment.full
            return Slowed(full.word("window"), 1 / SPEEDS[full.word("speed")])
    return None
