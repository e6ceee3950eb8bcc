"""All house sounds by name. Nothing is computed until a sound is played."""

from collections.abc import Iterable
from typing import Literal

from cloudrift.ground.errors import CloudriftError, did_you_mean
from cloudrift.sound.instrument import Instrument
from cloudrift.sound.sounds import (
    bass,
    bells,
    brass,
    drums,
    earlier,
    grain,
    keys,
    leads,
    organ,
    pads,
    plucks,
    strings,
    voice,
)

_FAMILIES = (keys, organ, pads, strings, plucks, leads, voice, bells, bass, brass, grain, drums)
CATALOGUE: dict[str, Instrument] = {
    sound.name: sound for family in _FAMILIES for sound in family.SOUNDS
}
DESIGNS: dict[tuple[str, int], Instrument] = {
    (sound.name, sound.version): sound for sound in (*CATALOGUE.values(), *earlier.SOUNDS)
}


def find_sound(name: str, version: int | None = None) -> Instrument:
    """Return a sound by name, in its newest design or a given one.

    Raises CloudriftError with the nearest name, or when a design is newer than this program.
    """
    plain = " ".join(name.lower().replace("-", " ").replace("_", " ").split())
    if plain not in CATALOGUE:
        raise CloudriftError(f"no sound is called {name!r}{did_you_mean(plain, CATALOGUE)}")
    newest = CATALOGUE[plain]
    if version is None or version == newest.version:
        return newest
    if (plain, version) not in DESIGNS:
        raise CloudriftError(
            f"design {version} of {plain!r} is not known here (the newest is {newest.version}); "
            "install a newer Cloudrift to open it"
        )
    return DESIGNS[plain, version]


Reach = Literal["any", "low", "middle", "high"]
REACHES: tuple[Reach, ...] = ("any", "low", "middle", "high")
_REACH_PITCH = {"low": 36, "middle": 60, "high": 84}  # C2, C4, C6: inside the register


def look_up(
    words: str = "",
    family: str = "",
    reach: Reach = "any",
    among: Iterable[Instrument] | None = None,
) -> list[Instrument]:
    """Return the sounds that all the words fit, of a family, that reach a part of the keyboard.

    They are those of the house, or ``among`` others.
    A word fits a sound when its name, family, role, a tag or its description begins a word with
    it; those whose name it begins come first.
    """
    wanted = words.lower().split()

    def fits(sound: Instrument) -> bool:
        said = f" {sound.name} {sound.family} {sound.role} {' '.join(sound.tags)} {sound.about}"
        low, high = sound.register
        return (
            all(f" {word}" in said.lower() for word in wanted)
            and family in ("", sound.family)
            and (reach == "any" or low <= _REACH_PITCH[reach] <= high)
        )

    named = " ".join(wanted)
    return sorted(
        filter(fits, CATALOGUE.values() if among is None else among),
        key=lambda sound: not (named and f" {sound.name}".find(f" {named}") >= 0),
    )
