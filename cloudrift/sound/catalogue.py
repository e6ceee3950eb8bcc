"""All house sounds by name. Nothing is computed until a sound is played."""

from cloudrift.ground.errors import CloudriftError, did_you_mean
from cloudrift.sound.felt_upright import FELT_UPRIGHT
from cloudrift.sound.instrument import Instrument
from cloudrift.sound.muted_pluck import MUTED_PLUCK
from cloudrift.sound.round_sub import ROUND_SUB
from cloudrift.sound.warm_pad import WARM_PAD

CATALOGUE: dict[str, Instrument] = {
    sound.name: sound for sound in (FELT_UPRIGHT, WARM_PAD, MUTED_PLUCK, ROUND_SUB)
}


def find_sound(name: str) -> Instrument:
    """Return a sound by name; raise CloudriftError with the nearest name."""
    plain = " ".join(name.lower().replace("-", " ").replace("_", " ").split())
    if plain not in CATALOGUE:
        raise CloudriftError(f"no sound is called {name!r}{did_you_mean(plain, CATALOGUE)}")
    return CATALOGUE[plain]
