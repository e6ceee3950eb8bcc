"""Files as strangers send them: a few good ones of each kind, and ways to spoil them.

All is drawn from the ``random.Random`` that is handed in, so a number gives a file again.
"""

import copy
import io
import json
import random
import struct
import zipfile
from collections.abc import Callable
from functools import cache
from importlib import resources
from typing import Any

import mido
import msgspec
import numpy as np
import soundfile

from cloudrift.audio.clips import ClipStore
from cloudrift.ground.settings import Settings
from cloudrift.loop.edits.arranging.arranging import add_section
from cloudrift.loop.edits.flip import cutting, flipping, flips, ordering
from cloudrift.loop.edits.flip.prints import with_print
from cloudrift.loop.edits.layers import line_edits, recordings
from cloudrift.loop.files.storage import SCHEMA
from cloudrift.loop.model.credits import Credits, Person
from cloudrift.loop.model.demo_file import suggest_demo
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.flip import Flipped
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.recorded import Facts, FromRecording
from cloudrift.notes.note import Note
from cloudrift.sound.own import OwnSound, Recording
from cloudrift.style import house_cards, sketch
from cloudrift.texture.catalogue import KINDS
from cloudrift.texture.line_file import write_line
from cloudrift.texture.treatment import Treatment
from tools import sampled_files

RATE = 22_050
WORDS = (
    "", " ", "x", "x" * 100_000, "<b>x</b><img src=/dev/zero>", "a\nb\r\n\t",
    "\u202e\u0000\ufffd",
    "../../etc/passwd", "-", "Ä" * 300, "🌧" * 200, "%s%n{0}", "nan", "1e999", "F# minor", "hall",
)  # fmt: skip
NUMBERS = (
    -1, 0, 1, 2, 7, 0.5, -0.5, 1e-9, 127, 128, 255, 256, 1024, 44_100, 1 << 15, 1 << 31, 1 << 32,
    (1 << 63) - 1, 1 << 63, 1 << 64, 1 << 68, -(1 << 63), 1e18, 1e308, -1e308, 5e-324, 10**400,
    float("nan"), float("inf"), -float("inf"),
)  # fmt: skip


def deep(levels: int) -> list[Any]:
    """A list in a list in a list."""
    out: list[Any] = []
    for _ in range(levels):
        out = [out]
    return out


def strange(rng: random.Random, value: Any) -> Any:
    """Something in a value's place: of another kind, too large, too much, or a little off."""
    number = isinstance(value, (int, float)) and not isinstance(value, bool)
    way = rng.randrange(9)
    if number and way < 5 and abs(value) < 1e300:
        near = (-value, value + 1, value - 1, value * 10, value * 1e6, value / 3, float(value))
        return rng.choice((*near, rng.uniform(-100, 100), rng.randrange(-5, 300)))
    if isinstance(value, list) and way < 5:
        return rng.choice((value * 2, value * 400, value[::-1], value[1:], [value], []))
    if way == 5:
        return rng.choice(WORDS)
    if way == 6:
        return rng.choice(([], {}, None, True, False, [None], {"x": 1}, deep(rng.choice((3, 400)))))
    return rng.choice(NUMBERS)


def _places(value: Any) -> list[tuple[Any, Any]]:
    """Every place in a document: what holds it, and the name or number it has there."""
    found = []
    open_ = [value]
    while open_:
        one = open_.pop()
        inside = one.items() if isinstance(one, dict) else enumerate(one)
        for name, part in inside:
            found.append((one, name))
            if isinstance(part, (dict, list)):
                open_.append(part)
    return found


def spoilt_document(rng: random.Random, document: Any) -> Any:
    """A document with one to four places changed, left out, doubled or added."""
    document = copy.deepcopy(document)
    for _ in range(rng.choice((1, 1, 1, 2, 4))):
        places = _places(document)
        if not places:
            break
        holder, name = rng.choice(places)
        way = rng.randrange(10)
        if way == 0:
            del holder[name]
        elif way == 1 and isinstance(holder, dict):
            holder[rng.choice(("x", "id", "variation", *WORDS[:6]))] = rng.choice(
                (1, "x", None, [])
            )
        elif way == 2 and isinstance(holder, list):
            holder.insert(name, copy.deepcopy(rng.choice(holder)))
        elif way == 3:
            other, its = rng.choice(places)
            if not (isinstance(other[its], (dict, list)) or isinstance(holder[name], (dict, list))):
                holder[name], other[its] = other[its], holder[name]
        else:
            holder[name] = strange(rng, holder[name])
    return document


def spoilt_bytes(rng: random.Random, data: bytes) -> bytes:
    """Bytes flipped, cut, doubled, moved, or put in the place of others."""
    body = bytearray(data)
    for _ in range(rng.choice((1, 1, 2, 8, 40))):
        if not body:
            break
        at = rng.randrange(len(body))
        # Heads decide more than bodies.
        at = min(at, rng.randrange(64)) if rng.random() < 0.4 else at
        size = min(len(body) - at, rng.choice((1, 2, 4, 16, 200)))
        way = rng.randrange(7)
        if way == 0:
            body[at] ^= 1 << rng.randrange(8)
        elif way == 1:
            body[at : at + size] = rng.randbytes(size)
        elif way == 2:
            del body[at : at + size]
        elif way == 3:
            body[at:at] = body[at : at + size] * rng.choice((1, 3, 50))
        elif way == 4:
            body[at : at + 4] = struct.pack(
                rng.choice("<>") + "I", rng.choice((0, 1, 255, 65_535, 1 << 31, 0xFFFFFFFF))
            )
        elif way == 5:
            body = body[:at]
        else:
            body[at : at + size] = b"\xff" * size
    return bytes(body)


def packed(rng: random.Random, members: dict[str, bytes]) -> bytes:
    """Members as a zip, now and then a strange one."""
    out = io.BytesIO()
    method = rng.choice([zipfile.ZIP_DEFLATED] * 12 + [zipfile.ZIP_STORED, zipfile.ZIP_LZMA,
                                                       zipfile.ZIP_BZIP2])  # fmt: skip
    with zipfile.ZipFile(out, "w", method) as archive:
        for name, body in members.items():
            archive.writestr(zipfile.ZipInfo(name), body, method)
        if rng.random() < 0.03:
            archive.writestr(rng.choice(("../x", "numpy.py", "clips/x.flac", "x" * 5000)), b"x")
        if rng.random() < 0.01:
            archive.writestr("origin.txt", b"\0" * (40 << 20))
    data = out.getvalue()
    if rng.random() < 0.03:  # encrypted, or so it says
        at = data.find(b"PK\1\2")
        data = data[: at + 8] + b"\1" + data[at + 9 :]
    if rng.random() < 0.03:  # of another size than it says
        at = data.find(b"PK\1\2") + 24
        data = data[:at] + struct.pack("<I", rng.choice((0, 1, 0xFFFFFFF0))) + data[at + 4 :]
    return spoilt_bytes(rng, data) if rng.random() < 0.15 else data


# --- good ones ------------------------------------------------------------------------------------


def sung(seconds: float = 0.5, pitch: float = 220.0, rate: int = RATE) -> np.ndarray:
    """A plucked note, (2, frames)."""
    t = np.arange(int(seconds * rate)) / rate
    wave = np.exp(-4 * t) * sum(np.sin(2 * np.pi * pitch * k * t) / k for k in (1, 2, 3))
    return np.stack([wave, wave * 0.8]).astype(np.float32) * 0.3


@cache
def clips() -> dict[str, bytes]:
    """Two recordings as they are filed, by name."""
    store = ClipStore()
    names = [store.record(sung(pitch=p), RATE) for p in (220.0, 440.0)]
    return {name: store.file(name).read_bytes() for name in names}


@cache
def own_sound() -> OwnSound:
    """An own sound of two recordings."""
    return OwnSound(name="Jetty", licence="own", recordings=tuple(
        Recording(clip=clip, root=root, name="a.wav")
        for clip, root in zip(clips(), (57.0, 69.0), strict=True)
    ))  # fmt: skip


def _with_line(loop: Loop, owner: str | None, kinds: list[str]) -> Loop:
    for kind in kinds:
        loop = line_edits.add_treatment(loop, owner, kind)
    return loop


@cache
def loops() -> tuple[dict[str, Any], ...]:
    """Short loops as documents: each card, each treatment, own notes, groups, an own sound."""
    found = []
    for number, card in enumerate(house_cards().values()):
        loop = sketch(card, tempo=160.0, variation=number + 1, bars=2)
        found.append(msgspec.structs.replace(loop, layers=loop.layers[:2], line=loop.line[:1]))
    base = msgspec.structs.replace(found[0], layers=found[0].layers[:1], line=(), bars=1, chords=())
    kinds = list(KINDS)
    for i in range(0, len(kinds), 3):
        found.append(_with_line(base, base.layers[0].id, kinds[i : i + 3]))
    for i in range(0, len(kinds), 5):
        found.append(_with_line(base, None, kinds[i : i + 5]))
    notes = tuple(
        Note(start_tick=240 * i, length_ticks=200, pitch=50 + i, velocity=90, id=i + 1,
             offset_ms=float(i), glide_ms=5.0) for i in range(12)
    )  # fmt: skip
    layer = base.layers[0].with_notes(notes)
    found.append(msgspec.structs.replace(base, layers=(layer,)))
    own = own_sound()
    layer = layer.with_source(
        sound=msgspec.structs.replace(layer.played.sound, name=own.name, own=own, settings=())
    )
    found.append(msgspec.structs.replace(base, layers=(layer,)))
    return tuple(json.loads(msgspec.json.encode(loop)) for loop in found)


def loop_file(rng: random.Random) -> bytes:
    """A loop file."""
    raw = rng.choice(loops())
    schema = rng.choice((8, 8, 8, 7, 5, 1))
    document: dict[str, Any] = {"format": "cloudrift loop", "schema": schema, "loop": raw}
    if rng.random() < 0.2:  # of a newer program, which has more in it
        layers = [{**layer, "more": rng.choice(({"a": 1}, [], None))} for layer in raw["layers"]]
        newer = {"schema": 9, "needs": rng.choice((7, 7, 7, 9)), "sections": [{"id": "s1"}]}
        document |= newer | {"loop": {**raw, "layers": layers, "more": [{"id": 4}]}}
    if rng.random() < 0.9:
        document = spoilt_document(rng, document)
    members = {"loop.json": json.dumps(document).encode()}
    if rng.random() < 0.05:
        members["loop.json"] = spoilt_bytes(rng, members["loop.json"])
    if rng.random() < 0.5 or "clip" in str(raw)[:4000]:
        members |= {f"clips/{name}.flac": body for name, body in clips().items()}
    return packed(rng, members)


@cache
def flipped() -> dict[str, Any]:
    """A document with a recording, a flip of a print, and that print's loop."""
    base = msgspec.convert(loops()[0], Loop)
    clip = next(iter(clips()))
    base = msgspec.structs.replace(base, layers=base.layers[:1], line=())
    facts = Facts(name="Print 1", kind="loop", length_s=0.5, tempo=base.tempo, key=base.key)
    document = with_print(Document(loop=base), base, clip, facts, (), 1.0)
    loop = flips.use(document.loop, document.loop.layers[-1].id)

    def laid_out(flip: Flipped) -> Flipped:
        turned = ordering.backward(cutting.cut(flip, (0, 960, 1920)))
        return flipping.slow(flipping.stutter(turned, 0, 3), 1)

    loop = flips.with_flip(loop, loop.layers[-1].id, laid_out)
    loop = recordings.add_recording(loop, FromRecording(clip=clip, facts=facts, fit="tempo"))
    document = add_section(add_section(document.with_loop(loop), bars=4), bars=2)
    people = (Person(name="Ada Wren", share=60.0), Person(name="Tern", did=("mixed",), share=40.0))
    document = msgspec.structs.replace(
        document, credits=Credits(people=people), demo=suggest_demo(document.loop, 1)
    )
    return dict(json.loads(msgspec.json.encode(document)))


def flip_file(rng: random.Random) -> bytes:
    """A loop file with recordings, flips and prints."""
    document = {"format": "cloudrift loop", "schema": SCHEMA, **flipped()}
    document.pop("newer")
    document = spoilt_document(rng, document) if rng.random() < 0.95 else document
    members = {"loop.json": json.dumps(document).encode()}
    members |= {f"clips/{name}.flac": body for name, body in clips().items()}
    return packed(rng, members)


def recovered(rng: random.Random) -> bytes:
    """What a crash left: a loop file with a note of where it is from."""
    members = {"loop.json": json.dumps({"format": "cloudrift loop", "schema": 7,
                                        "loop": spoilt_document(rng, loops()[0])}).encode(),
               "origin.txt": rng.choice(WORDS).encode() or b"/x"}  # fmt: skip
    return packed(rng, members)


def own_file(rng: random.Random) -> bytes:
    """An own sound's file."""
    own = own_sound()
    document = spoilt_document(rng, json.loads(msgspec.json.encode(own)))
    members = {"sound.json": json.dumps(document).encode()}
    for name, body in clips().items():
        members[f"clips/{name}.flac"] = spoilt_bytes(rng, body) if rng.random() < 0.1 else body
    return packed(rng, members)


@cache
def _toml(folder: str) -> tuple[bytes, ...]:
    package, _, inside = folder.rpartition(".")
    found = sorted((resources.files(package) / inside).iterdir(), key=lambda f: f.name)
    return tuple(file.read_bytes() for file in found if file.name.endswith(".toml"))


@cache
def lines() -> tuple[bytes, ...]:
    """Line files, each with a treatment and its settings written out."""
    found = []
    for kind in KINDS.values():
        settings: Settings = tuple((f.name, f.default) for f in kind.spec)
        one = Treatment(id="t1", kind=kind.name, version=kind.version, settings=settings)
        found.append(write_line((one,)).encode())
    return tuple(found)


def spoilt_toml(rng: random.Random, data: bytes) -> bytes:
    """TOML with values, names or lines changed."""
    rows = data.decode().split("\n")
    for _ in range(rng.choice((1, 1, 2, 4))):
        at = rng.randrange(len(rows))
        name, equals, value = rows[at].partition("=")
        way = rng.randrange(8)
        if way == 0:
            del rows[at]
            rows = rows or [""]
        elif way == 1:
            rows.insert(at, rows[rng.randrange(len(rows))])
        elif way == 2:
            rows[at] = rng.choice(("[[x]]", "[", "a.b.c=1", "x = [" + "[" * 3000, "﻿", "=", "'''"))
        elif equals and way == 3:
            rows[at] = f"{name}= {'9' * 5000}"
        elif equals:
            number: Any = value.strip()
            try:
                number = json.loads(number)
            except (ValueError, RecursionError):
                number = number.strip('"')
            new = strange(rng, number)
            rows[at] = f"{name}= " + _in_toml(new)
    text = "\n".join(rows).encode(errors="surrogatepass")
    return spoilt_bytes(rng, text) if rng.random() < 0.1 else text


def _in_toml(value: Any) -> str:
    if value is None:
        return "none"
    if isinstance(value, float):
        return repr(value)
    if isinstance(value, dict):
        return "{" + ", ".join(f"{k} = {_in_toml(v)}" for k, v in value.items()) + "}"
    if isinstance(value, list):
        return "[" + ", ".join(map(_in_toml, value)) + "]"
    return json.dumps(value)


def card_file(rng: random.Random) -> bytes:
    """A style card."""
    return spoilt_toml(rng, rng.choice(_toml("cloudrift.style.cards")))


def finish_file(rng: random.Random) -> bytes:
    """A finish."""
    return spoilt_toml(rng, rng.choice(_toml("cloudrift.texture.finishes")))


def cover_file(rng: random.Random) -> bytes:
    """A kit's cover."""
    plain = b'name = "Dome Show"\nmaker = "Tern & Tide Audio"\nabout = """Slow.\nWide."""\n'
    return spoilt_toml(rng, plain + b'order = ["a.cloudrift", "b.cloudrift"]\n')


def line_file(rng: random.Random) -> bytes:
    """A line of treatments."""
    return spoilt_toml(rng, rng.choice(lines()))


_META: tuple[Callable[[random.Random], Any], ...] = (
    lambda r: mido.MetaMessage("set_tempo", tempo=r.choice((0, 1, 500_000, (1 << 24) - 1))),
    lambda r: mido.MetaMessage("time_signature", numerator=r.choice((1, 3, 4, 17, 255)),
                               denominator=1 << r.randrange(8)),
    lambda r: mido.MetaMessage("key_signature", key=r.choice(("F#m", "C", "Cb", "G#m"))),
    lambda r: mido.MetaMessage("track_name", name=r.choice(("", "x" * 9000, "<b>", "felt pad"))),
    lambda r: mido.Message("pitchwheel", pitch=r.randrange(-8192, 8191)),
    lambda r: mido.Message("control_change", control=64, value=r.randrange(128)),
    lambda r: mido.Message("program_change", program=r.randrange(128), channel=r.randrange(16)),
    lambda r: mido.Message("sysex", data=bytes(r.choice((1, 300)))),
)  # fmt: skip


def midi_file(rng: random.Random) -> bytes:
    """A MIDI file: chords and a tune, with odd times, doubled and hanging notes."""
    song = mido.MidiFile(
        type=rng.choice((0, 1, 1, 1)), ticks_per_beat=rng.choice((1, 96, 480, 960))
    )
    for _ in range(1 if song.type == 0 else rng.choice((1, 2, 4))):
        track = mido.MidiTrack()
        song.tracks.append(track)
        channel = rng.choice((0, 1, 9))
        for _ in range(rng.choice((0, 3, 30, 300))):
            pause = rng.choice((0, 0, 1, 96, 480, 480, 1920, 1 << rng.randrange(28)))
            if rng.random() < 0.15:
                message = rng.choice(_META)(rng)
                message.time = pause
            else:
                message = mido.Message(rng.choice(("note_on", "note_off")), time=pause,
                                       note=rng.randrange(128), velocity=rng.randrange(128),
                                       channel=channel)  # fmt: skip
            track.append(message)
    body = io.BytesIO()
    song.save(file=body)
    data = body.getvalue()
    if rng.random() < 0.1:  # frames a second
        data = (
            data[:12]
            + bytes((rng.choice((0xE8, 0xE7, 0xE2, 0x80)), rng.choice((0, 1, 80))))
            + data[14:]
        )
    return spoilt_bytes(rng, data) if rng.random() < 0.4 else data


@cache
def _tune() -> np.ndarray:
    return np.concatenate([sung(0.4, f) for f in (220, 277, 330, 220, 247, 330)], axis=1)


_SAMPLES: tuple[Callable[[random.Random, np.ndarray], np.ndarray], ...] = (
    lambda _r, a: a, lambda _r, a: a, lambda _r, a: a,
    lambda _r, a: np.where(np.arange(a.shape[1]) == 99, np.nan, a),
    lambda r, a: a * np.float32(r.choice((1e-30, 1e6, 3e38, np.inf))),
    lambda _r, a: np.zeros_like(a), lambda _r, a: np.ones_like(a), lambda _r, a: a[:, :1],
    lambda _r, a: a[:, :0], lambda r, a: a[:, : r.randrange(2000)],
    lambda r, a: np.random.default_rng(r.randrange(99)).normal(0, 1, a.shape),
    lambda r, a: np.repeat(a[:1], r.choice((1, 3, 8)), axis=0),
)  # fmt: skip


def audio_file(rng: random.Random) -> bytes:
    """A recording: any format, rate, number of channels and content."""
    audio = np.asarray(rng.choice(_SAMPLES)(rng, _tune()), np.float32)
    rate = rng.choice((RATE, RATE, 44_100, 48_000, 8000, 192_000, 1, 4000, 384_000))
    kind, subtype = rng.choice((("WAV", "PCM_16"), ("WAV", "FLOAT"), ("WAV", "DOUBLE"),
                                ("FLAC", "PCM_24"), ("AIFF", "PCM_16"), ("OGG", "VORBIS"),
                                ("W64", "PCM_16"), ("AU", "PCM_16")))  # fmt: skip
    if kind == "OGG":  # the library that writes it dies of anything else
        audio, rate = _tune(), RATE
    body = io.BytesIO()
    try:
        soundfile.write(body, audio.T, rate, subtype=subtype, format=kind)
    except (RuntimeError, ValueError, AssertionError):
        body = io.BytesIO()
        soundfile.write(body, _tune().T, RATE, format="WAV")
    data = body.getvalue()
    if rng.random() < 0.1:  # a loop of its own
        places = [rng.choice((0, 5, 1 << 31, 0xFFFFFFFF)) for _ in range(15)]
        data += b"smpl" + struct.pack("<I", 60) + struct.pack("<15I", *places)
    return spoilt_bytes(rng, data) if rng.random() < 0.5 else data


_ZONES = ("keys", "velocities", "modes", "root", "coarse", "fine", "attenuation", "attack", "decay",
          "sustain", "release", "filter", "pan", "loop start")  # fmt: skip


def sf2_file(rng: random.Random) -> bytes:
    """A sampled instrument: zones of anything, samples anywhere, then spoilt by bytes."""

    def zone(last: str) -> dict[str, int]:
        some = {name: rng.choice((0, 1, 3, -1, 60, 127, 12_000, -32_768, 32_767, 0x3C10))
                for name in rng.sample(_ZONES, rng.randrange(6))}  # fmt: skip
        return {**some, last: 0 if rng.random() < 0.9 else rng.randrange(9)}

    sample = sampled_files.tone(440, 0.2)
    samples = [("One", sample, rng.choice((RATE, RATE, 8000, 0, 1 << 22)), rng.choice((69, 255)),
                rng.choice((0, -50)), rng.choice((None, (100, 900), (900, 100))),
                rng.choice((1, 2, 4, 0x8001)), rng.randrange(3)) for _ in range(2)]  # fmt: skip
    body = sampled_files.sf2(
        samples, [("Inst", [zone("sample") for _ in range(rng.randrange(1, 4))])],
        [("Bell", [zone("instrument") for _ in range(rng.randrange(1, 3))])],
        fine=rng.random() < 0.3, modulators=rng.randrange(3),
    )  # fmt: skip
    return spoilt_bytes(rng, body) if rng.random() < 0.4 else body


_OPCODES = ("sample=one.wav", "key=60", "lokey=c4", "hikey=127", "lovel=1", "hivel=63", "tune=-50",
            "volume=3", "pitch_keycenter=a3", "loop_mode=loop_continuous", "loop_start=10",
            "loop_end=99999999999", "offset=100", "end=4000", "seq_length=3", "seq_position=2",
            "trigger=release", "ampeg_release=0.5", "default_path=./", "cutoff=800",
            '#include "a.sfz"', "#define $X $X$X$X", "sample=../../x.wav", "key=$X",
            "note_offset=9", "<region>", "<region>", "<region>", "<group>", "<global>", "<control>",
            "<effect>",
            "lorand=0.5", "ampeg_sustain=1e99", "volume=nan", "/*", "*/", "//")  # fmt: skip


def sfz_file(rng: random.Random) -> bytes:
    """The text of a sampled instrument: opcodes in any order."""
    some = (rng.choice(_OPCODES) for _ in range(rng.randrange(1, 60)))
    text = "<region> sample=one.wav " + "".join(one + rng.choice(" \n") for one in some)
    body = text.encode()
    return spoilt_bytes(rng, body) if rng.random() < 0.3 else body


def wishes_file(rng: random.Random) -> bytes:
    """The program's own settings."""
    good = {"theme": "Daybreak", "size_percent": 110, "buffer_ms": 40, "recent": ["/a.cloudrift"],
            "files": "/home", "keyboard": "x"}  # fmt: skip
    data = json.dumps(spoilt_document(rng, good)).encode()
    return spoilt_bytes(rng, data) if rng.random() < 0.2 else data


ROWS = (
    "F#m D A E", "i VI III VII", "Fmaj7 | Em7 A7 | Dm9 - | Gsus4 G", "ii7 V7 Imaj9 bVII/IV",
    "C#m7b5:2 F#7alt:1/2", "4/4 Am x2 (Dm E)", "N.C. Bbadd9/D",
)  # fmt: skip


def written(rng: random.Random) -> bytes:
    """A row of chords, a key, a metre, as typed or pasted."""
    text = rng.choice(ROWS)
    for _ in range(rng.choice((1, 2, 6))):
        at = rng.randrange(len(text) + 1)
        put = rng.choice(
            (*WORDS, *"#b♯♭/()[]|:x%-", "13", "sus", "dim", "°", "9" * 5000, "C" * 500)
        )
        text = text[:at] + put + text[at + rng.choice((0, 1, 4)) :]
    return text.encode()


# --- large ones -----------------------------------------------------------------------------------


def _large_loop(rng: random.Random) -> bytes:
    base = next(raw for raw in loops() if "notes" in raw["layers"][0]["source"])
    layer = base["layers"][0]
    note = json.dumps(layer["source"]["notes"][0]).encode()
    text = json.dumps({"format": "cloudrift loop", "schema": rng.choice((7, 5)), "loop": base})
    body = text.encode()
    own = json.dumps(layer["source"]["notes"]).encode()
    many = rng.choice((5000, 60_000, 150_000))
    body = rng.choice((
        lambda: body.replace(own, b"[" + b",".join([note] * many) + b"]"),
        lambda: body.replace(b'"chords": []', b'"chords": [' + b"{}," * (many * 10) + b"{}]"),
        lambda: body.replace(own, b"[" + b"1," * (many * 20) + b"1]"),
        lambda: body.replace(b'"title": "', b'"title": "' + b"x" * (many * 100)),
        lambda: body.replace(own, b"[" * many + b"]" * many),
        lambda: body.replace(b'"layers": [', b'"layers": [' + (json.dumps(layer).encode() + b",")
                             * (many // 100)),
    ))()  # fmt: skip
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as archive:
        archive.writestr("loop.json", body)
    return out.getvalue()


def _large_toml(rng: random.Random) -> bytes:
    many = rng.choice((2000, 20_000, 100_000))
    return rng.choice((
        lambda: b".".join([b"a"] * many) + b" = 1",
        lambda: b"[" + b".".join([b"a"] * many) + b"]",
        lambda: b"\n".join(b"[a%d]" % i for i in range(many)),
        lambda: b"a = [" + b"1," * many + b"]",
        lambda: b"a = [" + b"1.5," * many + b"]",
        lambda: b"a = " + b"{a = " * many + b"1" + b"}" * many,
        lambda: b'name = "' + b"x" * many * 30 + b'"',
        lambda: b"a = " + b"9" * many * 10,
    ))()  # fmt: skip


def _large_midi(rng: random.Random) -> bytes:
    many = rng.choice((5000, 20_000))
    event = rng.choice((b"\x01\x3c\x40\x01\x3c\x00", b"\x00\x3c\x40\x00\x40\x40", b"\x01\x3c\x40"))
    body = b"\x00\x90\x3c\x40" + event * many + b"\x00\xff\x2f\x00"
    division = rng.choice((1, 96, 480))
    head = b"MThd\0\0\0\6\0\0\0\1" + division.to_bytes(2)
    return head + b"MTrk" + len(body).to_bytes(4) + body


def _large_audio(rng: random.Random) -> bytes:
    seconds = rng.choice((30, 120, 500))
    rate = rng.choice((RATE, 44_100))
    noise = np.random.default_rng(rng.randrange(9)).normal(0, 0.1, (rate, 2)).astype(np.float32)
    body = io.BytesIO()
    soundfile.write(body, np.tile(noise, (seconds, 1)), rate, format=rng.choice(("WAV", "FLAC")))
    return body.getvalue()


LARGE = {
    "loop": _large_loop, "recovery": _large_loop, "style card": _large_toml,
    "finish": _large_toml, "line": _large_toml, "MIDI": _large_midi, "audio": _large_audio,
}  # fmt: skip
LARGE_SHARE = 0.004


MAKERS: dict[str, tuple[str, Callable[[random.Random], bytes]]] = {
    "loop": (".cloudrift", loop_file),
    "recovery": (".cloudrift", recovered),
    "flip": (".cloudrift", flip_file),
    "own sound": (".cloudsound", own_file),
    "style card": (".toml", card_file),
    "finish": (".toml", finish_file),
    "line": (".toml", line_file),
    "cover": (".toml", cover_file),
    "MIDI": (".mid", midi_file),
    "audio": (".wav", audio_file),
    "SF2": (".sf2", sf2_file),
    "SFZ": (".sfz", sfz_file),
    "settings": (".json", wishes_file),
    "written": (".txt", written),
}


def hostile(reader: str, number: int, seed: int = 1) -> bytes:
    """Return the file with a number for a reader; the same numbers give the same file."""
    rng = random.Random(f"{seed}/{reader}/{number}")
    # Asked of another variation, so that the others stay what they were.
    large = random.Random(f"{seed}/{reader}/{number}/large").random() < LARGE_SHARE
    make = LARGE.get(reader, MAKERS[reader][1]) if large else MAKERS[reader][1]
    return make(rng)
