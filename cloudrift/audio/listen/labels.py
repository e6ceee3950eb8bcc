"""What is written on a recording: in its fields, and in its name.

Nothing of it is believed before it has been heard; but what is written is told apart from what is
heard, and where they disagree, both are shown.
"""

import re
import struct
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, BinaryIO

LOWEST_BPM, HIGHEST_BPM = 30.0, 300.0
PLAIN_BPM = (60, 190)  # a number alone in a name is a tempo only so far
MOST_WORDS = 200
CHUNK_BYTES = 1 << 16

_MODES = {
    "m": "minor", "min": "minor", "minor": "minor", "moll": "minor", "mi": "minor",
    "maj": "major", "major": "major", "dur": "major", "ma": "major", "M": "major",
    "dorian": "dorian", "phrygian": "phrygian", "lydian": "lydian", "mixolydian": "mixolydian",
    "locrian": "locrian", "aeolian": "aeolian", "ionian": "ionian",
}  # fmt: skip
_SIGNS = {"#": "#", "♯": "#", "sharp": "#", "s": "#", "b": "b", "♭": "b", "flat": "b", "": ""}
_TEMPO = re.compile(r"(?<![\d.,])(\d{2,3}(?:[.,]\d{1,3})?)[\s_-]*b\.?p\.?m(?![a-z])", re.I)
_TEMPO_AFTER = re.compile(r"(?<![a-z])(?:bpm|tempo)[\s_:=-]*(\d{2,3}(?:[.,]\d{1,3})?)(?!\d)", re.I)
_PLAIN = re.compile(r"(?<![\w.,])(\d{2,3})(?![\w.,]|[\s_-]*bars?)", re.I)
_BARS = re.compile(r"(?<!\d)(\d{1,2})[\s_-]*bars?(?![a-z])", re.I)
# A long word for the mode may be written in any case; of a short one, letters must look like a key.
_KEY_LONG = re.compile(
    r"(?<![a-z])([a-g])[\s_-]*(#|♯|♭|b(?=[\s_-]*(?:m|d))|sharp|flat)?[\s_-]*"
    r"(minor|min|moll|major|maj|dur|dorian|phrygian|lydian|mixolydian|locrian|aeolian|ionian)"
    r"(?![a-z])",
    re.I,
)
_KEY_SHORT = re.compile(r"(?<![A-Za-z])([A-G])(#|♯|♭|b)?(m|M)?(?![A-Za-z#♯♭\d])")


@dataclass(frozen=True)
class Labels:
    """What is written: 0, empty or None where nothing is. ``mode`` may lack where a tonic is.

    ``said_by`` tells of each field where it stands: ``its name`` or a kind of field.
    """

    tempo: float = 0.0
    tonic: str = ""
    mode: str = ""
    bars: int = 0
    title: str = ""
    maker: str = ""
    licence: str = ""
    about: str = ""
    loop: bool = False
    said_by: Mapping[str, str] = field(default_factory=dict)


def read_labels(path: Path) -> Labels:
    """Return what is written in a file and in its name; fields go before the name."""
    found = in_name(path.stem)
    for words, said in ((_of_tags(path), "a field"), (_of_riff(path), "a RIFF field")):
        found = _over(found, words, said)
    return found


def in_name(name: str) -> Labels:
    """Return what a name says of tempo, key and length, in any of the usual spellings."""
    words = re.sub(r"(?<!\d)\.|\.(?!\d)", " ", name.replace("_", " "))
    found: dict[str, Any] = {}
    tempo = _TEMPO.search(words) or _TEMPO_AFTER.search(words)
    if tempo and LOWEST_BPM <= (bpm := float(tempo[1].replace(",", "."))) <= HIGHEST_BPM:
        found["tempo"] = bpm
    key = key_in(words)
    if key:
        found["tonic"], found["mode"] = key
    bars = _BARS.search(words)
    if bars and int(bars[1]):
        found["bars"] = int(bars[1])
    if "tempo" not in found:
        plain = [int(one) for one in _PLAIN.findall(words)]
        plain = [one for one in plain if PLAIN_BPM[0] <= one <= PLAIN_BPM[1]]
        if len(plain) == 1 and (key or bars or re.search(r"loop", words, re.I)):
            found["tempo"] = float(plain[0])
    found["loop"] = bool(re.search(r"(?<![a-z])loop", words, re.I))
    said = {name: "its name" for name, value in found.items() if value}
    return Labels(**found, said_by=said)


def plain_name(name: str) -> str:
    """Return a name without what it says of tempo, key and length; itself where nothing is left."""
    words = re.sub(r"(?<!\d)\.|\.(?!\d)", " ", name.replace("_", " "))
    for pattern in (_TEMPO, _TEMPO_AFTER, _BARS, _KEY_LONG):
        words = pattern.sub(" ", words)
    words = _KEY_SHORT.sub(lambda found: " " if found[2] or found[3] else found[0], words)
    return " ".join(words.replace("()", " ").strip(" -").split()) or name


def key_in(words: str) -> tuple[str, str] | None:
    """Return the tonic and the mode that words name (the mode may be empty), or None."""
    long = _KEY_LONG.findall(words)
    if long:
        letter, sign, mode = long[-1]
        return letter.upper() + _SIGNS[sign.lower()], _MODES[mode.lower()]
    # Nothing but a letter is a word of its own; with a sign or a mode it is a key.
    short = [one for one in _KEY_SHORT.findall(words) if one[1] or one[2]]
    if short:
        letter, sign, mode = short[-1]
        return letter + _SIGNS[sign], _MODES.get(mode, "")
    return None


def _over(labels: Labels, words: Mapping[str, Any], said: str) -> Labels:
    """Lay what fields say over what was found before."""
    good = {name: value for name, value in words.items() if value}
    sources = dict(labels.said_by) | dict.fromkeys(good, said)
    return replace(labels, **good, said_by=sources) if good else labels


# --- fields ---------------------------------------------------------------------------------------

_TEMPO_TAGS = ("bpm", "tempo", "TBPM", "tmpo")
_KEY_TAGS = ("key", "initialkey", "initial_key", "TKEY")
_WORD_TAGS = {
    "title": ("title", "TIT2", "INAM"),
    "maker": ("artist", "TPE1", "IART"),
    "licence": ("license", "licence", "copyright", "TCOP", "WCOP", "ICOP"),
    "about": ("comment", "description", "ICMT"),
}


def _of_tags(path: Path) -> dict[str, Any]:
    """ID3 and Vorbis comments, of any file that has them."""
    import mutagen  # noqa: PLC0415 - for files alone

    try:
        read = mutagen.File(path)
    except Exception:
        return {}
    tags = read.tags if read is not None else None
    if not tags:
        return {}
    there: dict[str, str] = {}
    for name in tags.keys():  # noqa: SIM118 - some of them go round pairs
        try:
            value = tags[name]
            text = " ".join(map(str, value)) if isinstance(value, list) else str(value)
        except Exception:
            continue
        there[str(name).split(":")[0].lower()] = " ".join(text.split())[:MOST_WORDS]
    return _from_words(there)


def _from_words(there: Mapping[str, str]) -> dict[str, Any]:
    """What named fields say, as labels."""

    def first(names: Iterable[str]) -> str:
        return next((there[n.lower()] for n in names if there.get(n.lower())), "")

    found: dict[str, Any] = {name: first(names) for name, names in _WORD_TAGS.items()}
    number = re.search(r"\d+(?:[.,]\d+)?", first(_TEMPO_TAGS))
    if number and LOWEST_BPM <= (bpm := float(number[0].replace(",", "."))) <= HIGHEST_BPM:
        found["tempo"] = bpm
    key = key_in(first(_KEY_TAGS)) or _bare_key(first(_KEY_TAGS))
    if key:
        found["tonic"], found["mode"] = key
    return found


def _bare_key(words: str) -> tuple[str, str] | None:
    """In a field for it a letter alone is a key: major, as ID3v2.4 has it."""
    return (words, "major") if re.fullmatch(r"[A-G]", words) else None


def chunks_of(file: BinaryIO, most: int = CHUNK_BYTES) -> Iterator[tuple[bytes, bytes]]:
    """Yield the chunks of a RIFF file: name, and its first bytes."""
    if file.read(12)[:4] != b"RIFF":
        return
    while len(head := file.read(8)) == 8:
        size = int.from_bytes(head[4:], "little")
        at = file.tell()
        yield head[:4], file.read(min(size, most))
        file.seek(at + size + size % 2)


def _of_riff(path: Path) -> dict[str, Any]:
    found: dict[str, Any] = {}
    try:
        with path.open("rb") as file:
            for name, body in chunks_of(file):
                if name == b"LIST" and body[:4] == b"INFO":
                    found |= {k: v for k, v in _from_words(_info(body[4:])).items() if v}
                elif name == b"smpl" and len(body) >= 32 and struct.unpack("<I", body[28:32])[0]:
                    found["loop"] = True
    except (OSError, struct.error):
        return found
    return found


def _info(body: bytes) -> dict[str, str]:
    out, at = {}, 0
    while at + 8 <= len(body):
        size = int.from_bytes(body[at + 4 : at + 8], "little")
        text = body[at + 8 : at + 8 + size].split(b"\0")[0].decode("utf-8", "replace")
        out[body[at : at + 4].decode("latin-1").lower()] = " ".join(text.split())[:MOST_WORDS]
        at += 8 + size + size % 2
    return out
