"""Finishes: saved lines with a name and a purpose, laid again in another key and tempo."""

import msgspec
import tomlkit
from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import file_slug, named
from cloudrift.texture.line_file import WrittenTreatment, line_of, read_toml, write_treatments
from cloudrift.texture.treatment import Line, Treatment
from cloudrift.theory.key import Key, parse_key

# What a finish is for; the first that fits a layer's role says where it is offered first.
USES = ("keys", "pads", "plucks", "leads", "voices", "bass", "whole loop")


class Finish(msgspec.Struct, frozen=True, kw_only=True):
    """A line with a name, what it is for, and the key and tempo (BPM) that it was made in."""

    name: str
    purpose: str
    tags: tuple[str, ...]
    line: Line
    tempo: float = 120.0
    key: Key = Key()
    house: bool = False

    def __post_init__(self) -> None:
        named(self, "a finish")
        if not self.line:
            raise CloudriftError(f"the finish {self.name!r} has no treatments; add one first")

    @property
    def slug(self) -> str:
        """Its name for file names."""
        return file_slug(self.name, "finish")

    def laid_in(self, key: Key, tempo: float) -> Line:
        """Return its line for another key and tempo.

        Times that belong to the beat grow as it does, frequencies that belong to the key move with
        it, the shorter way; all else stays.
        """
        steps = (key.pc - self.key.pc + 5) % 12 - 5
        factors = {"tempo": self.tempo / tempo, "key": 2 ** (steps / 12)}
        return tuple(_moved(treatment, factors) for treatment in self.line)


def _moved(treatment: Treatment, factors: dict[str, float]) -> Treatment:
    full = treatment.full
    for field in treatment.of.spec:
        if field.follows and factors[field.follows] != 1:
            value = field.clipped(full.number(field.name) * factors[field.follows])
            if full.number(field.name) != field.default:  # a default is what is usual anywhere
                treatment = treatment.set(field.name, value)
            if ride := treatment.ride_of(field.name):
                points = tuple(
                    replace(p, value=field.clipped(p.value * factors[field.follows]))
                    for p in ride.points
                )
                treatment = treatment.with_ride(field.name, points, ride.every_ticks)
    return treatment


class _Written(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    name: str
    treatments: tuple[WrittenTreatment, ...]
    purpose: str = ""
    tags: tuple[str, ...] = ()
    tempo: float = 120.0
    key: str = "C minor"


def read_finish(text: str, where: str, *, house: bool = False) -> Finish:
    """Read a finish; raise CloudriftError that names the place of what is wrong."""
    written = read_toml(text, where, _Written)
    try:
        return Finish(
            name=written.name,
            purpose=written.purpose,
            tags=written.tags,
            tempo=written.tempo,
            key=parse_key(written.key),
            line=line_of(written.treatments, where),
            house=house,
        )
    except CloudriftError as error:
        said = str(error)
        raise CloudriftError(said if where in said else f"{where}: {said}") from error


def write_finish(finish: Finish) -> str:
    """Return a finish as TOML."""
    document = tomlkit.document()
    document["name"] = finish.name
    document["purpose"] = finish.purpose
    document["tags"] = list(finish.tags)
    document["tempo"] = finish.tempo
    document["key"] = finish.key.plain
    write_treatments(finish.line, document)
    return tomlkit.dumps(document)
