"""The house sounds as they are now, a file a family; each lists what it adds in ``SOUNDS``."""

from cloudrift.sound.sounds import (
    bass,
    bells,
    brass,
    drums,
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
SOUNDS = tuple(sound for family in _FAMILIES for sound in family.SOUNDS)
