"""All kinds of treatment by name."""

import functools

from cloudrift.ground.errors import CloudriftError, did_you_mean
from cloudrift.ground.settings import SettingsSpec
from cloudrift.texture.kind import Kind
from cloudrift.texture.kinds import (
    cleaning,
    drive,
    dynamics,
    echo,
    hall,
    level,
    motion,
    shadow,
    sweeping,
    tone,
    voices,
    windows,
)
from cloudrift.texture.kinds.backward import BACKWARD
from cloudrift.texture.kinds.cuts import CUTS
from cloudrift.texture.kinds.resonance import RESONANCE
from cloudrift.texture.kinds.resonances import CLEANER, FORMANT, TAMER
from cloudrift.texture.kinds.shift import SHIFT
from cloudrift.texture.kinds.slots import SLOTS
from cloudrift.texture.kinds.smear import SMEAR
from cloudrift.texture.kinds.spring import SPRING
from cloudrift.texture.kinds.weathering import WEATHERING

FAMILIES = ("Tone", "Drive", "Space", "Motion", "Time", "Weathering", "Level")
KINDS: dict[str, Kind] = {
    k.name: k
    for k in (
        CUTS,
        *tone.KINDS,
        RESONANCE,
        TAMER,
        *drive.KINDS,
        *dynamics.KINDS,
        *hall.KINDS,
        SPRING,
        *echo.KINDS,
        SMEAR,
        *voices.KINDS,
        *motion.KINDS,
        *sweeping.KINDS,
        BACKWARD,
        SHIFT,
        FORMANT,
        *windows.KINDS,
        SLOTS,
        *shadow.KINDS,
        WEATHERING,
        *level.KINDS,
        CLEANER,
        *cleaning.KINDS,
    )
}


def find_kind(name: str) -> Kind:
    """Return a kind of treatment; raise CloudriftError with the nearest name."""
    if name not in KINDS:
        raise CloudriftError(f"there is no treatment called {name!r}{did_you_mean(name, KINDS)}")
    return KINDS[name]


# Every design by kind and version: beside the newest, those that older loops were made with.
DESIGNS: dict[tuple[str, int], Kind] = {(k.name, k.version): k for k in KINDS.values()}


def find_design(name: str, version: int) -> Kind | None:
    """Return a kind in the design of a version; None if this program does not know it."""
    return DESIGNS.get((name, version))


@functools.lru_cache(maxsize=64)
def unknown_kind(name: str, version: int) -> Kind:
    """Return what stands for a kind, or a newer design of one, that is not known here."""
    if name in KINDS:
        what = f"made with design {version} of {name}; known here up to {KINDS[name].version}"
    else:
        near = did_you_mean(name, KINDS)  # else it lists all there are: too much for a card
        what = f"there is no treatment called {name!r} here{near if 'did you' in near else ''}"
    return Kind(
        name=name,
        label=name.capitalize(),
        family="Not known",
        about=what,
        spec=SettingsSpec(()),
        says=lambda _full: f"{what}: kept, and bypassed",
        version=version,
    )
