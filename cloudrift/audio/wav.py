"""The chunks of a WAV file beside its sound.

RIFF MCI (1991) for the form, ``LIST``, ``cue `` and ``smpl``; EBU Tech 3285 version 2 for ``bext``;
iXML 2.10 for ``iXML``; ID3v2.4 in an ``id3 `` chunk, which carries tempo and key as numbers.
"""

import io
import struct
from xml.sax.saxutils import escape

from mutagen.id3 import ID3, TALB, TBPM, TCOP, TIT2, TKEY, TPE1, TSSE, TXXX

from cloudrift.audio.about import PROGRAM, About

DESCRIPTION, ORIGINATOR = 256, 32  # bytes that bext has for them
UNMEASURED = 0x7FFF  # bext: a loudness that is not known
CODING = {16: "A=PCM", 24: "A=PCM", 32: "A=IEEE"}


def with_chunks(wav: bytes, about: About, *, frames: int, rate: int, bits: int) -> bytes:
    """Return a WAV file (``fmt ``, ``data``) with what is to be said of it in further chunks."""
    chunks = _chunk(b"bext", _broadcast(about, rate, bits))
    if about.loop:
        chunks += _chunk(b"smpl", _sampler(about, frames, rate))
    if about.cues:
        chunks += _chunk(b"cue ", _cues(about)) + _chunk(b"LIST", _labels(about))
    chunks += _chunk(b"LIST", _info(about))
    chunks += _chunk(b"iXML", _ixml(about).encode())
    chunks += _chunk(b"id3 ", id3_of(about))
    raw = wav + b"\0" * (len(wav) % 2) + chunks
    return raw[:4] + struct.pack("<I", len(raw) - 8) + raw[8:]


def _chunk(name: bytes, body: bytes) -> bytes:
    return name + struct.pack("<I", len(body)) + body + b"\0" * (len(body) % 2)


def _fixed(text: str, size: int) -> bytes:
    """Text in a field of a size, cut at whole letters."""
    return text.encode()[:size].decode(errors="ignore").encode().ljust(size, b"\0")


def _broadcast(about: About, rate: int, bits: int) -> bytes:
    """Version 2: with loudness; without a date, so that the same sound is the same file."""
    words = "; ".join(x for x in (about.title, about.comment, about.licence) if x)
    loud = [_hundredths(one) for one in (about.lufs, None, about.peak_db, None, None)]
    coding = f"{CODING[bits]},F={rate},W={bits},M=stereo,T={PROGRAM}\r\n"
    return (
        _fixed(words, DESCRIPTION)
        + _fixed(about.maker or PROGRAM, ORIGINATOR)
        + bytes(32 + 10 + 8)
        + struct.pack("<QH", 0, 2)
        + bytes(64)
        + struct.pack("<5h", *loud)
        + bytes(180)
        + coding.encode()
    )


def _hundredths(value: float | None) -> int:
    return UNMEASURED if value is None else round(100 * max(min(value, 99.99), -99.99))


def _sampler(about: About, frames: int, rate: int) -> bytes:
    """One forward loop over the whole file."""
    head = (0, 0, round(1e9 / rate), about.root_pitch, 0, 0, 0, 1, 0)
    return struct.pack("<9I", *head) + struct.pack("<6I", 0, 0, 0, frames - 1, 0, 0)


def _cues(about: About) -> bytes:
    points = (
        struct.pack("<2I4s3I", number, cue.frame, b"data", 0, 0, cue.frame)
        for number, cue in enumerate(about.cues, 1)
    )
    return struct.pack("<I", len(about.cues)) + b"".join(points)


def _labels(about: About) -> bytes:
    """What begins at each cue: an associated data list."""
    rows = (
        _chunk(b"labl", struct.pack("<I", number) + cue.label.encode() + b"\0")
        for number, cue in enumerate(about.cues, 1)
    )
    return b"adtl" + b"".join(rows)


def _info(about: About) -> bytes:
    out = b"INFO"
    for name, text in (
        (b"INAM", about.title),
        (b"IART", about.maker),
        (b"IPRD", about.album),
        (b"ICMT", about.comment),
        (b"ICOP", about.licence),
        (b"ISFT", PROGRAM),
    ):
        if text:
            out += _chunk(name, text.encode() + b"\0")
    return out


def _ixml(about: About) -> str:
    """Project, scene and note, the two tracks; what has no field of its own stands in the note."""
    tags = about.tags
    note = "; ".join(
        f"{name.capitalize()} {tags[name]}" for name in ("KEY", "BPM", "LICENSE") if name in tags
    )
    fields = {
        "IXML_VERSION": "2.10",
        "PROJECT": about.album,
        "SCENE": about.title,
        "NOTE": "; ".join(x for x in (note, about.comment) if x),
    }
    lines = [f"  <{name}>{_plain(text)}</{name}>" for name, text in fields.items() if text]
    tracks = "".join(
        f"    <TRACK><CHANNEL_INDEX>{number}</CHANNEL_INDEX><INTERLEAVE_INDEX>{number}"
        f"</INTERLEAVE_INDEX><NAME>{name}</NAME></TRACK>\n"
        for number, name in enumerate(("Left", "Right"), 1)
    )
    return (
        '<?xml version="1.0" encoding="UTF-8"?>\n<BWFXML>\n'
        + "\n".join(lines)
        + f"\n  <TRACK_LIST>\n    <TRACK_COUNT>2</TRACK_COUNT>\n{tracks}  </TRACK_LIST>\n"
        "</BWFXML>\n"
    )


def _plain(text: str) -> str:
    """Text as XML may hold it: without control characters."""
    return escape("".join(one for one in text if one.isprintable()))


def id3_of(about: About) -> bytes:
    """Return an ID3v2.4 tag."""
    tag = ID3()
    for frame, text in (
        (TIT2, about.title),
        (TPE1, about.maker),
        (TALB, about.album),
        (TCOP, about.licence),
        (TKEY, about.key[:3]),
        (TBPM, about.tags.get("BPM", "")),
        (TSSE, PROGRAM),
    ):
        if text:
            tag.add(frame(encoding=3, text=text))
    for name, text in (("LICENSE", about.licence), ("COMMENT", about.comment)):
        if text:
            tag.add(TXXX(encoding=3, desc=name, text=text))
    out = io.BytesIO()
    tag.save(out, padding=lambda _info: 0)
    return out.getvalue()
