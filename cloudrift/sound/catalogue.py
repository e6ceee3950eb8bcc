"""All house sounds by name. Nothing is computed until a sound is played."""

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
