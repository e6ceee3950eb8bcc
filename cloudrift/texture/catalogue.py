"""All kinds of treatment by name."""

from cloudrift.ground.errors import CloudriftError, did_you_mean
from cloudrift.texture.backward import BACKWARD
from cloudrift.texture.cuts import CUTS
from cloudrift.texture.hall import HALL
from cloudrift.texture.kind import Kind
from cloudrift.texture.shift import SHIFT
from cloudrift.texture.weathering import WEATHERING

KINDS: dict[str, Kind] = {k.name: k for k in (CUTS, HALL, WEATHERING, BACKWARD, SHIFT)}


def find_kind(name: str) -> Kind:
    """Return a kind of treatment; raise CloudriftError with the nearest name."""
    if name not in KINDS:
        raise CloudriftError(f"no treatment is called {name!r}{did_you_mean(name, KINDS)}")
    return KINDS[name]
