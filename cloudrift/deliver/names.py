"""File names that carry what the next person needs: title, tempo and key."""

import re
import string
import unicodedata
from dataclasses import dataclass

from cloudrift.ground.errors import CloudriftError, did_you_mean
from cloudrift.ground.words import for_a_file
from cloudrift.theory.key import Key

PATTERN = "{title}_{tempo}_{key}_{part}"
FIELDS = ("title", "tempo", "key", "part", "bars", "kit", "maker")
MOST_PATTERN = 120
MOST_NAME_BYTES = 200  # a name on a disk has 255, and is written under another one first
JOINS = "_-. "  # what stands between fields, and goes where one is empty


def slug(text: str) -> str:
    """Return a name for files: lower case, Latin letters without marks, single hyphens.

    Letters of any script stay as they are; what is too long for a name is cut.
    """
    plain = unicodedata.normalize("NFKD", text.replace("♯", "sharp").replace("♭", "flat"))
    plain = unicodedata.normalize("NFC", re.sub("(?<=[A-Za-z])[\u0300-\u036f]+", "", plain)).lower()
    return for_a_file(re.sub(r"[\W_]+", "-", plain)).strip("-") or "loop"


def tempo_text(tempo: float) -> str:
    """Write a tempo for a file name: ``142bpm``, ``119.41bpm``."""
    return f"{tempo:.2f}".rstrip("0").rstrip(".") + "bpm"


def stem_of(title: str, tempo: float, key: Key) -> str:
    """Return ``title_142bpm_fsharp-minor``."""
    return f"{slug(title)}_{tempo_text(tempo)}_{key.slug}"


@dataclass(frozen=True, kw_only=True)
class Naming:
    """What names are made of, in a key and tempo: written, or heard."""

    title: str
    tempo: float
    key: Key
    bars: int
    kit: str = ""
    maker: str = ""


def check_pattern(pattern: str) -> None:
    """Raise CloudriftError for a pattern that names can't be made by, with what is wrong in it."""
    try:
        fields = [
            name
            for _text, name, _spec, _way in string.Formatter().parse(pattern)
            if name is not None
        ]
    except ValueError as error:
        raise CloudriftError(f"the pattern of names {pattern[:60]!r}: {error}") from error
    for name in fields:
        if name not in FIELDS:
            raise CloudriftError(
                f"the pattern of names {pattern[:60]!r} has {{{name[:30]}}}, which is not one of "
                f"{', '.join(FIELDS)}{did_you_mean(name, FIELDS)}"
            )
    if "part" not in fields:
        raise CloudriftError(
            f"the pattern of names {pattern[:60]!r} needs {{part}}: without it all files get the "
            "same"
        )
    if "/" in pattern or "\0" in pattern or len(pattern) > MOST_PATTERN:
        raise CloudriftError(
            f"the pattern of names {pattern[:60]!r} must have no / and at most {MOST_PATTERN} "
            "characters"
        )


def named(pattern: str, naming: Naming, part: str = "") -> str:
    """Return the name of a file, without its ending.

    What is empty takes the sign before it along. ``part`` is a name for files already; where a name
    would be too long, the title is cut.
    """
    values = {
        "title": "",
        "tempo": tempo_text(naming.tempo),
        "key": naming.key.slug,
        "part": part,
        "bars": f"{naming.bars}bars",
        "kit": slug(naming.kit) if naming.kit else "",
        "maker": slug(naming.maker) if naming.maker else "",
    }
    room = max(8, MOST_NAME_BYTES - 1 - len(_filled(pattern, values).encode()))
    title = slug(naming.title).encode()[:room].decode(errors="ignore").strip("-")
    return _filled(pattern, {**values, "title": title}) or "loop"


def _filled(pattern: str, values: dict[str, str]) -> str:
    out = ""
    for text, name, _spec, _way in string.Formatter().parse(pattern):
        out += text
        if name is not None:
            out = out + values[name] if values[name] else out.rstrip(JOINS)
    return out.strip(JOINS)


def file_key(key: Key) -> str:
    """Return a key as tags in files have it: ``F#m``, ``Bb``; modes by their third."""
    return f"{key.tonic}{'m' if (key.pc + 3) % 12 in key.scale else ''}"
