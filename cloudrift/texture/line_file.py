"""Lines as TOML: ``[[treatments]]`` with ``kind``, ``on``, ``blend``, ``draw`` and ``settings``."""

import tomllib
from typing import Any

import msgspec

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.settings import Value
from cloudrift.texture.catalogue import find_kind
from cloudrift.texture.treatment import Line, Treatment


class WrittenTreatment(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """One treatment as it is written in a file; numbers may be whole."""

    kind: str
    on: bool = True
    blend: float = 1.0
    draw: int = 1
    settings: dict[str, Value] = {}


class WrittenLine(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What a line file holds."""

    treatments: tuple[WrittenTreatment, ...]


def read_line(text: str, where: str) -> Line:
    """Read a line; raise CloudriftError that names the place of what is wrong."""
    try:
        raw: dict[str, Any] = tomllib.loads(text)
        written = msgspec.convert(raw, WrittenLine)
    except tomllib.TOMLDecodeError as error:
        raise CloudriftError(f"{where} is not TOML: {error}") from error
    except msgspec.ValidationError as error:
        raise CloudriftError(f"{where}: {str(error).replace('`$.', '`')}") from error
    line = []
    for number, one in enumerate(written.treatments, 1):
        place = f"{where}: treatment {number} ({one.kind})"
        try:
            settings = find_kind(one.kind).spec.check(one.settings, place)
            line.append(Treatment(id=f"t{number}", kind=one.kind, on=one.on, blend=one.blend,
                                  draw=one.draw, settings=settings))  # fmt: skip
        except CloudriftError as error:
            said = str(error)
            raise CloudriftError(said if place in said else f"{place}: {said}") from error
    return tuple(line)
