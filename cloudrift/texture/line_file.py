"""Lines as TOML: ``[[treatments]]``: ``kind``, ``on``, ``blend``, ``variation``, ``settings``.

Where they are needed: ``version``, ``note``, and ``[[treatments.rides]]`` with ``of`` and
``points``, each ``[tick, value]`` or ``[tick, value, bend]``.
"""

from collections.abc import Iterable
from typing import TypeVar

import msgspec
import tomlkit

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.reading import read_toml
from cloudrift.ground.settings import Value
from cloudrift.texture.catalogue import find_kind
from cloudrift.texture.ride import Ride, RidePoint
from cloudrift.texture.treatment import Line, Treatment

_Written = TypeVar("_Written")


class WrittenRide(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A ride as it is written in a file."""

    of: str
    every_ticks: int = 0
    points: tuple[tuple[float, ...], ...]


class WrittenTreatment(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """One treatment as it is written in a file; numbers may be whole."""

    kind: str
    version: int = 1
    on: bool = True
    blend: float = 1.0
    variation: int = 1
    settings: dict[str, Value] = {}
    rides: tuple[WrittenRide, ...] = ()
    note: str = ""


class WrittenLine(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What a line file holds."""

    treatments: tuple[WrittenTreatment, ...]


def parse_line(text: str, where: str) -> Line:
    """Read a line, whatever is not known here kept as it is; raise CloudriftError for the rest."""
    return line_of(read_toml(text, where, WrittenLine).treatments, where)


def write_line(line: Line) -> str:
    """Return a line as TOML."""
    document = tomlkit.document()
    write_treatments(line, document)
    return tomlkit.dumps(document)


def read_line(text: str, where: str) -> Line:
    """Read a line that is to be laid; also raise CloudriftError for what is not known here."""
    line = parse_line(text, where)
    for treatment in line:
        if not treatment.known:
            find_kind(treatment.kind)  # says the nearest name
            raise CloudriftError(f"{where}: {treatment.says}")
    return line


def line_of(written: Iterable[WrittenTreatment], where: str) -> Line:
    """Return written treatments as a line; one that is not known here is kept as it is."""
    line = []
    for number, one in enumerate(written, 1):
        place = f"{where}: treatment {number} ({one.kind})"
        try:
            rides = tuple(
                Ride(
                    of=ride.of,
                    points=tuple(_point(p, ride.of) for p in ride.points),
                    every_ticks=ride.every_ticks,
                )
                for ride in one.rides
            )
            made = Treatment(
                id=f"t{number}",
                kind=one.kind,
                version=one.version,
                on=one.on,
                blend=one.blend,
                variation=one.variation,
                settings=_sorted(one.settings),
                rides=rides,
                note=one.note,
            )
            if made.known:
                settings = made.of.spec.check(one.settings, place)
                made = msgspec.structs.replace(made, settings=settings)
            line.append(made)
        except CloudriftError as error:
            said = str(error).removeprefix(f"treatment t{number} ({one.kind}): ")
            raise CloudriftError(said if place in said else f"{place}: {said}") from error
    return tuple(line)


def _point(numbers: tuple[float, ...], of: str) -> RidePoint:
    if len(numbers) not in (2, 3) or not float(numbers[0]).is_integer():
        raise CloudriftError(
            f"the ride of {of}: a point is [tick, value] or [tick, value, bend], not {numbers}"
        )
    return RidePoint(
        tick=int(numbers[0]), value=numbers[1], bend=numbers[2] if numbers[2:] else 0.0
    )


def _sorted(settings: dict[str, Value]) -> tuple[tuple[str, Value], ...]:
    return tuple(sorted(settings.items()))


def write_treatments(line: Line, into: tomlkit.TOMLDocument) -> None:
    """Add a line to a TOML document; only what differs from nothing said is written."""
    tables = tomlkit.aot()
    for treatment in line:
        table = tomlkit.table()
        table["kind"] = treatment.kind
        usual = {"version": 1, "on": True, "blend": 1.0, "variation": 1, "note": ""}
        for name, value in usual.items():
            if getattr(treatment, name) != value:
                table[name] = getattr(treatment, name)
        if treatment.settings:
            table["settings"] = {name: _plain(value) for name, value in treatment.settings}
        if treatment.rides:
            rides = tomlkit.aot()
            for ride in treatment.rides:
                one = tomlkit.table()
                one["of"] = ride.of
                if ride.every_ticks:
                    one["every_ticks"] = ride.every_ticks
                one["points"] = [
                    [p.tick, _plain(p.value), *([p.bend] if p.bend else [])] for p in ride.points
                ]
                rides.append(one)
            table["rides"] = rides
        tables.append(table)
    into["treatments"] = tables


def _plain(value: Value) -> Value | int:
    """A whole number is written as one."""
    return int(value) if isinstance(value, float) and value.is_integer() else value
