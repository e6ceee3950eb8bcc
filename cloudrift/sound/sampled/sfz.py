"""SFZ files: a text that names samples beside it, with opcodes for where and how each is played.

Opcodes are those of the format as it is published, as far as they decide what is heard of a note.
"""

import re
from collections import Counter
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.clips import LONGEST_S
from cloudrift.audio.files import read_audio
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.reading import read_file
from cloudrift.sound.own_import import loop_points
from cloudrift.sound.sampled.zones import Sampled, Shape, Zone, named

MOST_INCLUDED, MOST_LETTERS, MOST_REGIONS = 16, 4 << 20, 4096
FALLS_S = 1 / 0.6  # decay and release are counted to -60 dB here: see zones.FALLS_TO
_TOKEN = re.compile(r"<(\w+)>|([\w$]+)=(.*?)(?=\s+[\w$]+=|\s*<\w+>|$)")
_DEFINE = re.compile(r"#define\s+(\$\w+)\s+(\S+)")
_INCLUDE = re.compile(r'#include\s+"([^"]+)"')
_KEY = re.compile(r"([a-gA-G])([#b♯♭]?)(-?\d+)$")
_STEPS = {"c": 0, "d": 2, "e": 4, "f": 5, "g": 7, "a": 9, "b": 11}
LEVELS = ("global", "master", "group", "region")
SAME = {
    "loopmode": "loop_mode",
    "loopstart": "loop_start",
    "loopend": "loop_end",
    "pitch": "tune",
    "gain": "volume",
}
UNDERSTOOD = frozenset({
    "sample", "key", "lokey", "hikey", "lovel", "hivel", "pitch_keycenter", "tune", "transpose",
    "volume", "group_volume", "master_volume", "global_volume", "loop_mode", "loop_start",
    "loop_end", "offset", "end", "ampeg_attack", "ampeg_decay", "ampeg_sustain", "ampeg_release",
    "seq_length", "seq_position", "lorand", "hirand", "trigger", "default_path", "note_offset",
    "octave_offset", "region_label", "group_label", "global_label", "master_label", "sw_label",
})  # fmt: skip

Opcodes = dict[str, str]


def read_sfz(path: Path) -> Sampled:
    """Return what a file describes. Raises CloudriftError that names what is wrong in it."""
    left_out: Counter[str] = Counter()
    zones: list[Zone] = []
    samples: dict[str, Callable[[], tuple[Stereo, int]]] = {}
    for region, control in _regions(path, left_out):
        if region.get("trigger", "attack") not in ("attack", "first"):
            left_out[f"what sounds on {region['trigger']}"] += 1
            continue
        name = control.get("default_path", "") + region.get("sample", "")
        if not region.get("sample") or name.startswith("*"):
            left_out["regions without a sample file"] += 1
            continue
        file = _file_of(path, name)
        start = max(0, int(_number(region, "offset", 0)))
        end = int(_number(region, "end", -1))
        if end == 0:  # the format's way to switch a region off
            continue
        sample = file.name if not start and end < 0 else f"{file.name} {start} to {end}"
        samples[sample] = partial(_sound, file, start, end + 1 if end > 0 else None)
        zones.append(_zone(region, control, file, sample, start))
    if not zones:
        raise CloudriftError(f"{path.name} has no sample that plays")
    return Sampled(name=path.stem, zones=tuple(zones), samples=samples, left_out=named(left_out))


# --- the text -------------------------------------------------------------------------------------


def _text(path: Path, folder: Path, depth: int = 0) -> str:
    """Return a file's text with what it includes, without comments."""
    if depth > MOST_INCLUDED:
        raise CloudriftError(f"{path.name} includes itself, or too many files in each other")
    body = read_file(path, "SFZ file", MOST_LETTERS).decode("utf-8-sig", "replace")
    text = re.sub(r"/\*.*?\*/", " ", body, flags=re.DOTALL)
    text = re.sub(r"//[^\n]*", "", text)
    parts, at = [], 0
    for found in _INCLUDE.finditer(text):
        parts.append(text[at : found.start()])
        inner = _inside(folder, found[1])
        parts.append(_text(inner, folder, depth + 1))
        if sum(map(len, parts)) > MOST_LETTERS:
            raise CloudriftError(f"{path.name} is too long with its includes")
        at = found.end()
    return "".join((*parts, text[at:]))


def _regions(path: Path, left_out: Counter[str]) -> Iterator[tuple[Opcodes, Opcodes]]:
    """Yield each region's opcodes over those of its groups, and the control ones beside."""
    at: dict[str, Opcodes] = {level: {} for level in LEVELS}
    control: Opcodes = {}
    header, count = "", 0
    for token in _tokens(path):
        if token[1]:
            if header == "region":
                yield _joined(at), dict(control)
                count += 1
            header = token[1].lower()
            for level in LEVELS[LEVELS.index(header) :] if header in LEVELS else ():
                at[level] = {}
            if header not in (*LEVELS, "control"):
                left_out[f"<{header}>"] += 1
            if count > MOST_REGIONS:
                raise CloudriftError(f"{path.name} has more than {MOST_REGIONS} regions")
            continue
        name = SAME.get(token[2].lower(), token[2].lower())
        target = control if header == "control" else at.get(header, {})
        target[name] = token[3].strip()
        if name not in UNDERSTOOD and (header in LEVELS or header == "control"):
            left_out[name] += 1
    if header == "region":
        yield _joined(at), dict(control)


def _tokens(path: Path) -> Iterator[re.Match[str]]:
    """Yield headers and opcodes of a file, its own names put in."""
    text = _text(path, path.parent)
    defined = dict(_DEFINE.findall(text))
    text = _DEFINE.sub("", text)
    for name in sorted(defined, key=len, reverse=True):
        text = text.replace(name, defined[name])
        if len(text) > MOST_LETTERS:
            raise CloudriftError(f"{path.name} is too long with its definitions")
    for line in text.splitlines():
        yield from _TOKEN.finditer(line)


def _joined(at: dict[str, Opcodes]) -> Opcodes:
    out: Opcodes = {}
    for level in LEVELS:
        out |= at[level]
    return out


def _inside(folder: Path, name: str) -> Path:
    """Return a file that is named beside another, whatever its slashes and letters' size.

    It may lie one folder above, where samples are often kept, and nowhere else.
    """
    wanted = Path(name.replace("\\", "/"))
    root = folder.resolve().parent
    path = (folder / wanted).resolve()
    if wanted.is_absolute() or not path.is_relative_to(root):
        raise CloudriftError(f"{name[:80]!r} is outside of the instrument's folder")
    if path.is_file():
        return path
    for part in path.relative_to(root).parts:
        there = {one.name.lower(): one for one in root.iterdir()} if root.is_dir() else {}
        root = there.get(part.lower(), root / part)
    if not root.is_file():
        raise CloudriftError(f"{name[:80]!r} is missing; put it beside the instrument's file")
    return root


def _file_of(path: Path, name: str) -> Path:
    return _inside(path.parent, name)


# --- values ---------------------------------------------------------------------------------------


def _number(opcodes: Opcodes, name: str, usual: float) -> float:
    text = opcodes.get(name)
    if text is None:
        return usual
    try:
        value = float(text)
    except ValueError:
        raise CloudriftError(f"{name}={text[:40]} is not a number") from None
    if not -1e9 < value < 1e9:
        raise CloudriftError(f"{name}={text[:40]} is not a possible number")
    return value


def _pitch(opcodes: Opcodes, name: str, usual: float) -> float:
    text = opcodes.get(name)
    if text is None:
        return usual
    found = _KEY.match(text)
    if not found:
        return _number(opcodes, name, usual)
    sign = {"#": 1, "♯": 1, "b": -1, "♭": -1}.get(found[2], 0)
    return 12.0 * (int(found[3]) + 1) + _STEPS[found[1].lower()] + sign


def _range(low: float, high: float) -> tuple[int, int]:
    first, last = (int(min(max(value, 0), 127)) for value in (low, high))
    return min(first, last), max(first, last)


def _zone(region: Opcodes, control: Opcodes, file: Path, sample: str, start: int) -> Zone:
    moved = _number(control, "note_offset", 0) + 12 * _number(control, "octave_offset", 0)
    key = _pitch(region, "key", -1)
    low = _pitch(region, "lokey", key if key >= 0 else 0)
    high = _pitch(region, "hikey", key if key >= 0 else 127)
    center = region.get("pitch_keycenter", "")
    root = _pitch(region, "pitch_keycenter", key if key >= 0 else 60) if center != "sample" else 60
    tuned = _number(region, "transpose", 0) + _number(region, "tune", 0) / 100
    turn = 0
    if _number(region, "seq_length", 1) > 1:
        turn = max(1, int(_number(region, "seq_position", 1)))
    elif "lorand" in region or "hirand" in region:
        turn = 1 + int(1000 * _number(region, "lorand", 0))
    volume = sum(
        _number(region, name, 0)
        for name in ("volume", "group_volume", "master_volume", "global_volume")
    )
    return Zone(
        sample=sample,
        root=root + moved - tuned,
        keys=_range(low + moved, high + moved),
        velocities=_range(_number(region, "lovel", 0), _number(region, "hivel", 127)),
        loop=_loop(region, file, start),
        gain_db=volume,
        turn=turn,
        shape=Shape(
            attack_s=_number(region, "ampeg_attack", 0),
            decay_s=_number(region, "ampeg_decay", 0) * FALLS_S,
            sustain=min(max(_number(region, "ampeg_sustain", 100) / 100, 0.0), 1.0),
            release_s=_number(region, "ampeg_release", 0.001) * FALLS_S,
        ),
    )


def _loop(region: Opcodes, file: Path, start: int) -> tuple[int, int] | None:
    """Where a region goes round: as it says, else as its sample's file does."""
    mode = region.get("loop_mode", "")
    if mode in ("no_loop", "one_shot"):
        return None
    first, end = loop_points(file)
    if not mode and "loop_start" not in region and not end:
        return None
    first = int(_number(region, "loop_start", first))
    end = int(_number(region, "loop_end", end - 1)) + 1
    return (first - start, end - start) if 0 <= first - start < end - start else None


def _sound(file: Path, start: int, end: int | None) -> tuple[Stereo, int]:
    audio, rate = read_audio(file, LONGEST_S)
    return audio[:, start:end], rate
