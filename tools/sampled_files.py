"""SF2 files, written from the format's description: for tests, and to be spoilt."""

import struct
from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

Zone = dict[str, int | tuple[int, int]]
# Name, sound, rate, root, correction (cents), loop, kind (1 alone, 2 right, 4 left), other side.
Sample = tuple[str, NDArray[np.float64], int, int, int, tuple[int, int] | None, int, int]
Owners = Sequence[tuple[str, Sequence[Zone]]]

GENERATORS = {"keys": 43, "velocities": 44, "instrument": 41, "sample": 53, "modes": 54,
              "root": 58, "coarse": 51, "fine": 52, "attenuation": 48, "attack": 34, "decay": 36,
              "sustain": 37, "release": 38, "filter": 8, "pan": 17, "loop start": 2}  # fmt: skip
RATE = 22_050


def chunk(name: bytes, body: bytes) -> bytes:
    """Return a chunk."""
    return name + struct.pack("<I", len(body)) + body + b"\0" * (len(body) % 2)


def listed(name: bytes, *chunks: bytes) -> bytes:
    """Return a list of chunks."""
    return chunk(b"LIST", name + b"".join(chunks))


def zone_bytes(zones: Sequence[Zone], first_generator: int) -> tuple[bytes, bytes, int]:
    """Return bags and generators of zones: dicts by the names above."""
    bags, generators = b"", b""
    count = first_generator
    for zone in zones:
        bags += struct.pack("<HH", count, 0)
        for name, amount in zone.items():
            number = amount[0] | amount[1] << 8 if isinstance(amount, tuple) else amount
            generators += struct.pack("<HH", GENERATORS[name], number & 0xFFFF)
            count += 1
    return bags, generators, count


def tables(
    owners: Owners, head: Callable[[str, int], bytes], ends: str
) -> tuple[bytes, bytes, bytes]:
    """Return owners' rows, their bags and generators; ``head`` writes a row of (name, bag)."""
    rows, bags, generators = b"", b"", b""
    count = bag = 0
    for name, zones in owners:
        rows += head(name, bag)
        more, made, count = zone_bytes(zones, count)
        bags, generators, bag = bags + more, generators + made, bag + len(zones)
    return (rows + head(ends, bag), bags + struct.pack("<HH", count, 0),
            generators + struct.pack("<HH", 0, 0))  # fmt: skip


def sf2(
    samples: Sequence[Sample], instruments: Owners, presets: Owners, *, fine: bool = False,
    modulators: int = 0,
) -> bytes:  # fmt: skip
    """Return the bytes of a file; ``fine`` has the lower eight bits beside."""
    wave, headers = [], b""
    at = 0
    for name, audio, rate, root, correction, loop, kind, link in samples:
        start, end = at, at + len(audio)
        a, b = loop or (0, len(audio))
        headers += struct.pack("<20sIIIIIBbHH", name.encode(), start, end, start + a, start + b,
                               rate, root, correction, link, kind)  # fmt: skip
        wave += [audio, np.zeros(46)]
        at = end + 46
    headers += struct.pack("<20sIIIIIBbHH", b"EOS", 0, 0, 0, 0, 0, 0, 0, 0, 0)
    scaled = np.concatenate(wave) * 32767
    whole = np.floor(scaled).astype("<i2")
    data = [chunk(b"smpl", whole.tobytes())]
    if fine:
        data.append(chunk(b"sm24", ((scaled - whole) * 256).astype(np.uint8).tobytes()))
    inst = tables(instruments, lambda n, b: struct.pack("<20sH", n.encode(), b), "EOI")
    pres = tables(presets, lambda n, b: struct.pack("<20sHHHIII", n.encode(), 0, 0, b, 0, 0, 0),
                  "EOP")  # fmt: skip
    mods = chunk(b"pmod", b"\0" * 10 * (1 + modulators))
    body = b"sfbk" + listed(b"INFO", chunk(b"ifil", struct.pack("<HH", 2, 4))) + listed(
        b"sdta", *data) + listed(b"pdta", chunk(b"phdr", pres[0]), chunk(b"pbag", pres[1]), mods,
        chunk(b"pgen", pres[2]), chunk(b"inst", inst[0]), chunk(b"ibag", inst[1]),
        chunk(b"imod", b"\0" * 10), chunk(b"igen", inst[2]), chunk(b"shdr", headers))  # fmt: skip
    return b"RIFF" + struct.pack("<I", len(body)) + body


def tone(
    hz: float, seconds: float = 0.5, rate: int = RATE, level: float = 0.5
) -> NDArray[np.float64]:
    """Return a tone."""
    return level * np.sin(2 * np.pi * hz * np.arange(int(seconds * rate)) / rate)
