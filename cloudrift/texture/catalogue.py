"""All kinds of treatment by name."""

from cloudrift.ground.errors import CloudriftError, did_you_mean
from cloudrift.texture import drive, dynamics, hall, level, motion, shadow, tone, windows
from cloudrift.texture.backward import BACKWARD
from cloudrift.texture.cuts import CUTS
from cloudrift.texture.echo import ECHO
from cloudrift.texture.kind import Kind
from cloudrift.texture.resonance import RESONANCE
from cloudrift.texture.resonances import CLEANER, FORMANT, TAMER
from cloudrift.texture.shift import SHIFT
from cloudrift.texture.smear import SMEAR
from cloudrift.texture.spring import SPRING
from cloudrift.texture.weathering import WEATHERING

FAMILIES = ("Tone", "Drive", "Space", "Motion", "Time", "Weathering", "Level")
KINDS: dict[str, Kind] = {
    k.name: k
    for k in (
        CUTS, *tone.KINDS, RESONANCE, TAMER, *drive.KINDS, *dynamics.KINDS, *hall.KINDS, SPRING,
        ECHO, SMEAR, *motion.KINDS, BACKWARD, SHIFT, FORMANT, *windows.KINDS, *shadow.KINDS,
        WEATHERING, *level.KINDS, CLEANER,
    )
}  # fmt: skip


def find_kind(name: str) -> Kind:
    """Return a kind of treatment; raise CloudriftError with the nearest name."""
    if name not in KINDS:
        raise CloudriftError(f"no treatment is called {name!r}{did_you_mean(name, KINDS)}")
    return KINDS[name]
