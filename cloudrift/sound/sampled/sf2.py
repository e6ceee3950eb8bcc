"""SoundFont 2.04 files: presets of instruments of zones, all samples in one RIFF file.

Written from the published specification. Whatever the file says is checked against its size: it
comes from a stranger.
"""

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo
from cloudrift.ground.errors import CloudriftError
from cloudrift.sound.sampled.zones import Sampled, Shape, Zone, named

MOST_TABLE_BYTES = 32 << 20
PRESET = np.dtype(
    [("name", "S20"), ("number", "<u2"), ("bank", "<u2"), ("bag", "<u2"), ("rest", "V12")]
)
BAG = np.dtype([("generators", "<u2"), ("modulators", "<u2")])
GENERATOR = np.dtype([("what", "<u2"), ("amount", "<i2")])
INSTRUMENT = np.dtype([("name", "S20"), ("bag", "<u2")])
SAMPLE = np.dtype([
    ("name", "S20"), ("start", "<u4"), ("end", "<u4"), ("loop_start", "<u4"), ("loop_end", "<u4"),
    ("rate", "<u4"), ("root", "u1"), ("correction", "i1"), ("link", "<u2"), ("kind", "<u2"),
])  # fmt: skip
TABLES = {b"phdr": PRESET, b"pbag": BAG, b"pgen": GENERATOR, b"inst": INSTRUMENT, b"ibag": BAG,
          b"igen": GENERATOR, b"shdr": SAMPLE}  # fmt: skip

# Generators, by the numbers of the specification.
LOOP_START, LOOP_END, LOOP_START_FAR, LOOP_END_FAR = 2, 3, 45, 50
ATTACK, HOLD, DECAY, SUSTAIN, RELEASE = 34, 35, 36, 37, 38
OF_INSTRUMENT, KEYS, VELOCITIES, ATTENUATION, COARSE, FINE = 41, 43, 44, 48, 51, 52
OF_SAMPLE, MODES, ROOT = 53, 54, 58
RANGES = frozenset({KEYS, VELOCITIES})
FAR = 32768
UNDERSTOOD = frozenset({
    LOOP_START, LOOP_END, LOOP_START_FAR, LOOP_END_FAR, ATTACK, DECAY, SUSTAIN, RELEASE,
    OF_INSTRUMENT, KEYS, VELOCITIES, ATTENUATION, COARSE, FINE, OF_SAMPLE, MODES, ROOT,
})  # fmt: skip
OTHERS = {
    0: "sample offsets", 1: "sample offsets", 4: "sample offsets", 12: "sample offsets",
    8: "filter", 9: "filter", 15: "chorus", 16: "reverb", 17: "pan of zones", HOLD: "hold",
    39: "envelopes by key", 40: "envelopes by key", 46: "fixed keys", 47: "fixed velocities",
    56: "pitch by key", 57: "choke groups",
}  # fmt: skip
LOW_TIME, HIGH_TIME = -12000, 8000  # timecents
ROM, RIGHT, LEFT, NO_ROOT, LAST_ROOT = 0x8000, 2, 4, 60, 127
FULL = 32768.0

Generators = dict[int, int]
Samples = dict[str, Callable[[], tuple[Stereo, int]]]


@dataclass(frozen=True)
class _Found:
    """A zone of a preset as it was found: what holds for it, and its sample."""

    generators: Generators
    header: Any
    number: int

    @property
    def side(self) -> int:
        """Left, right, or neither."""
        return int(self.header["kind"]) & ~ROM


@dataclass(frozen=True)
class _File:
    """The tables of a file, and where its samples lie."""

    path: Path
    tables: dict[bytes, NDArray[Any]]
    at: int  # of the 16 bits
    frames: int
    fine_at: int | None  # of the 8 bits below them
    modulators: bool


def presets_in(path: Path) -> list[str]:
    """Return the names of the presets in a file, in the order of the file."""
    return [_words(row["name"]) for row in _open(path).tables[b"phdr"][:-1]]


def read_sf2(path: Path, preset: int = 0) -> Sampled:
    """Return one preset of a file. Raises CloudriftError that says what is wrong with it."""
    file = _open(path)
    rows = file.tables[b"phdr"]
    if not 0 <= preset < len(rows) - 1:
        raise CloudriftError(f"{path.name} has {len(rows) - 1} presets, none with number {preset}")
    left_out: Counter[str] = Counter()
    if file.modulators:
        left_out["modulators"] += 1
    found: list[_Found] = []
    first, end = int(rows["bag"][preset]), int(rows["bag"][preset + 1])
    for above in _zones(file, b"p", first, end, OF_INSTRUMENT):
        instruments = file.tables[b"inst"]
        number = above[OF_INSTRUMENT]
        if not 0 <= number < len(instruments) - 1:
            raise CloudriftError(f"{path.name} refers to a missing instrument")
        first, end = int(instruments["bag"][number]), int(instruments["bag"][number + 1])
        for own in _zones(file, b"i", first, end, OF_SAMPLE):
            both = _added(above, own)
            number = own[OF_SAMPLE] & 0xFFFF
            if number >= len(file.tables[b"shdr"]) - 1:
                raise CloudriftError(f"{path.name} refers to a missing sample")
            for what in {*above, *own} - UNDERSTOOD:
                left_out[OTHERS.get(what, "vibrato, filter envelopes and the like")] += 1
            if both is not None:
                found.append(_Found(both, file.tables[b"shdr"][number], number))
    zones, samples = _with_sides(file, found)
    return Sampled(
        name=_words(rows["name"][preset]) or path.stem,
        zones=tuple(zones),
        samples=samples,
        left_out=named(left_out),
    )


# --- the file -------------------------------------------------------------------------------------


def _open(path: Path) -> _File:
    size = path.stat().st_size
    found: dict[bytes, tuple[int, int]] = {}
    with path.open("rb") as file:
        head = file.read(12)
        if head[:4] != b"RIFF" or head[8:12] != b"sfbk":
            raise CloudriftError(f"{path.name} is not an SF2 file")
        for name, at, length in _chunks(file, 12, size):
            if name == b"LIST":
                file.seek(at)
                if file.read(4) in (b"sdta", b"pdta"):
                    found |= {n: (a, b) for n, a, b in _chunks(file, at + 4, at + length)}
        tables = {}
        for name, kind in TABLES.items():
            at, length = found.get(name, (0, 0))
            count = length // kind.itemsize
            if count < 1 or length > MOST_TABLE_BYTES:
                raise CloudriftError(
                    f"{path.name} is damaged: its table {name.decode()} is missing, or too large"
                )
            file.seek(at)
            tables[name] = np.frombuffer(file.read(count * kind.itemsize), kind)
    if b"smpl" not in found:
        raise CloudriftError(f"{path.name} has no samples in it")
    at, length = found[b"smpl"]
    fine = found.get(b"sm24")
    frames = length // 2
    modulators = any(found.get(name, (0, 0))[1] > 10 for name in (b"pmod", b"imod"))
    return _File(
        path, tables, at, frames, fine[0] if fine and fine[1] >= frames else None, modulators
    )


def _chunks(file: Any, at: int, end: int) -> list[tuple[bytes, int, int]]:
    """Return the chunks between two places: name, where its body is, how long that is."""
    found = []
    while at + 8 <= end:
        file.seek(at)
        head = file.read(8)
        length = min(int.from_bytes(head[4:], "little"), end - at - 8)
        found.append((head[:4], at + 8, length))
        at += 8 + length + length % 2
    return found


def _words(raw: bytes) -> str:
    text = bytes(raw).split(b"\0")[0].decode("latin-1")
    return " ".join("".join(c if c.isprintable() else " " for c in text).split())


def _zones(file: _File, kind: bytes, first: int, end: int, of: int) -> list[Generators]:
    """Return the generators of each zone, over those of the zone for all, if that comes first."""
    bags, generators = file.tables[kind + b"bag"], file.tables[kind + b"gen"]
    if not 0 <= first <= end < len(bags):
        raise CloudriftError(f"{file.path.name} is damaged: a zone is outside of its table")
    common: Generators = {}
    out: list[Generators] = []
    for i, (start, then) in enumerate(pairwise(bags["generators"][first : end + 1].tolist())):
        if not start <= then <= len(generators):
            raise CloudriftError(f"{file.path.name} is damaged: a zone is outside of its table")
        own = dict(
            zip(
                generators["what"][start:then].tolist(),
                generators["amount"][start:then].tolist(),
                strict=True,
            )
        )
        if of in own:
            out.append(common | own)
        elif i == 0:
            common = own
    return out


def _added(above: Generators, own: Generators) -> Generators | None:
    """Return what holds for a sample: ranges of both meet, all else of the preset is added.

    None where both have no key or no velocity in common.
    """
    out = dict(own)
    for what, amount in above.items():
        if what in RANGES and what in own:
            (a, b), (c, d) = _range(amount), _range(own[what])
            if max(a, c) > min(b, d):
                return None
            out[what] = max(a, c) | min(b, d) << 8
        elif what in RANGES:
            out[what] = amount
        elif what not in (OF_INSTRUMENT, MODES, ROOT, OF_SAMPLE):
            usual = LOW_TIME if what in (ATTACK, DECAY, RELEASE) else 0
            out[what] = own.get(what, usual) + amount
    return out


def _range(amount: int) -> tuple[int, int]:
    low, high = amount & 0xFF, amount >> 8 & 0xFF
    return min(low, high, 127), min(max(low, high), 127)


# --- zones ----------------------------------------------------------------------------------------


def _with_sides(file: _File, found: list[_Found]) -> tuple[list[Zone], Samples]:
    """Put the left and right samples of a zone together; return zones, and what reads samples."""
    zones: list[Zone] = []
    numbers_of: dict[str, tuple[int, ...]] = {}
    taken: set[int] = set()
    for i, one in enumerate(found):
        if i in taken:
            continue
        numbers: tuple[int, ...] = (one.number,)
        other = next(
            (j for j in range(i + 1, len(found)) if j not in taken and _are_sides(one, found[j])),
            None,
        )
        if other is not None:
            taken.add(other)
            both = (one.number, found[other].number)
            numbers = both if one.side == LEFT else both[::-1]
        name = _words(one.header["name"]) or f"sample {one.number}"
        if numbers_of.setdefault(name, numbers) != numbers:
            name = f"{name} ({one.number})"
            numbers_of[name] = numbers
        zones.append(_zone(one.generators, one.header, name))
    samples: Samples = {name: partial(_sound, file, n) for name, n in numbers_of.items()}
    return zones, samples


def _are_sides(one: _Found, other: _Found) -> bool:
    """Whether both are the two sides of one sample, played in the same place."""
    linked = int(one.header["link"]) == other.number
    opposite = {one.side, other.side} == {LEFT, RIGHT}
    return linked and opposite and _where(one.generators) == _where(other.generators)


def _where(generators: Generators) -> tuple[tuple[int, int], ...]:
    return tuple(_range(generators.get(what, 127 << 8)) for what in (KEYS, VELOCITIES))


def _zone(generators: Generators, header: Any, name: str) -> Zone:
    get = generators.get
    own = int(header["root"]) if int(header["root"]) <= LAST_ROOT else NO_ROOT
    root = get(ROOT, -1)
    root = root if 0 <= root <= LAST_ROOT else own
    tuned = get(COARSE, 0) + (get(FINE, 0) + int(header["correction"])) / 100
    start = int(header["loop_start"]) - int(header["start"])
    end = int(header["loop_end"]) - int(header["start"])
    start += get(LOOP_START, 0) + FAR * get(LOOP_START_FAR, 0)
    end += get(LOOP_END, 0) + FAR * get(LOOP_END_FAR, 0)
    keys, velocities = _where(generators)
    return Zone(
        sample=name,
        root=root - tuned,
        keys=keys,
        velocities=velocities,
        loop=(start, end) if get(MODES, 0) & 1 and 0 <= start < end else None,
        gain_db=-get(ATTENUATION, 0) / 10,
        shape=Shape(
            attack_s=_seconds(get(ATTACK, LOW_TIME)),
            decay_s=_seconds(get(DECAY, LOW_TIME)),
            sustain=10 ** (-min(max(get(SUSTAIN, 0), 0), 1440) / 200),
            release_s=_seconds(get(RELEASE, LOW_TIME)),
        ),
    )


def _seconds(timecents: int) -> float:
    return 2.0 ** (min(max(timecents, LOW_TIME), HIGH_TIME) / 1200)


def _sound(file: _File, numbers: tuple[int, ...]) -> tuple[Stereo, int]:
    """Read one sample, or the left and the right of a pair."""
    headers = [file.tables[b"shdr"][number] for number in numbers]
    sides = []
    for header in headers:
        start, end = int(header["start"]), int(header["end"])
        if int(header["kind"]) & ROM:
            raise CloudriftError(
                f"{_words(header['name'])} is in the memory of a device, not in the file"
            )
        if not 0 <= start < end <= file.frames:
            raise CloudriftError(f"{_words(header['name'])} is outside of {file.path.name}")
        sides.append(_wave(file, start, end))
    rate = int(headers[0]["rate"])
    count = min(len(side) for side in sides)
    return np.stack([sides[0][:count], sides[-1][:count]]), rate


def _wave(file: _File, start: int, end: int) -> NDArray[np.float32]:
    with file.path.open("rb") as source:
        source.seek(file.at + 2 * start)
        wave = np.frombuffer(source.read(2 * (end - start)), "<i2").astype(np.float32)
        if file.fine_at is not None:
            source.seek(file.fine_at + start)
            fine = np.frombuffer(source.read(end - start), np.uint8)
            wave = wave[: len(fine)] + fine.astype(np.float32) / np.float32(256)
    return wave / np.float32(FULL)
