"""The first designs of the house sounds: loops that were made with them go on sounding the same.

Nothing here is changed any more. What newer sounds are made of is in ``sound.kit``; what only these
need is beside them.
"""

from cloudrift.sound.first import (
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

_FAMILIES = (
    keys, organ, pads, strings, plucks, leads, voice, bells, bass, brass, grain, drums, earlier,
)  # fmt: skip
SOUNDS = tuple(sound for family in _FAMILIES for sound in family.SOUNDS)
