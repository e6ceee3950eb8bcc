"""Own sounds as files: one zip each, with what describes it and its recordings."""

import io
import re
import zipfile
from collections.abc import Mapping
from pathlib import Path

import msgspec
from platformdirs import user_data_path

from cloudrift.audio.clips import add_clip, flac_of
from cloudrift.audio.files import make_folder, write_atomically
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.reading import read_archive, read_json, reading
from cloudrift.ground.words import for_a_file
from cloudrift.sound.own import OwnSound

SUFFIX, MEMBER, CLIPS = ".cloudsound", "sound.json", "clips/"
MAX_BYTES, MAX_MEMBER_BYTES = 512 << 20, 1 << 20
_CLIP = re.compile(r"clips/[0-9a-f]{24}\.flac")


def own_folder() -> Path:
    """Return where own sounds are kept (``$XDG_DATA_HOME/cloudrift/sounds``)."""
    return user_data_path("cloudrift") / "sounds"


def is_clip(name: str) -> bool:
    """Say whether a member of an archive is a clip, by its name."""
    return _CLIP.fullmatch(name) is not None


def add_clips(members: Mapping[str, bytes]) -> None:
    """Keep every clip among an archive's members."""
    for name, body in members.items():
        if is_clip(name):
            add_clip(body)


def write_clips(archive: zipfile.ZipFile, clips: set[str]) -> None:
    """Write clips into an archive as they are: FLAC does not get smaller."""
    for clip in sorted(clips):
        # A fixed date: the same document is the same file.
        info = zipfile.ZipInfo(f"{CLIPS}{clip}.flac", (1980, 1, 1, 0, 0, 0))
        archive.writestr(info, flac_of(clip), zipfile.ZIP_STORED)


def save_own(own: OwnSound, folder: Path | None = None) -> Path:
    """Write an own sound into a file of its own in the folder; nothing there is overwritten."""
    folder = folder or own_folder()
    make_folder(folder)
    body = io.BytesIO()
    with zipfile.ZipFile(body, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(zipfile.ZipInfo(MEMBER, (1980, 1, 1, 0, 0, 0)),
                         msgspec.json.format(msgspec.json.encode(own), indent=1))  # fmt: skip
        write_clips(archive, {r.clip for r in own.recordings})
    if body.tell() > MAX_BYTES:
        raise CloudriftError(
            f"{own.name} is larger than an own sound may be ({MAX_BYTES >> 20} MiB), and could "
            "not be opened again; take fewer or shorter recordings"
        )
    plain = "".join(c if c.isalnum() else "-" for c in own.name.lower())
    plain = for_a_file(plain).strip("-") or "sound"
    path, number = folder / f"{plain}{SUFFIX}", 1
    while path.exists():
        number += 1
        path = folder / f"{plain}-{number}{SUFFIX}"
    write_atomically(path, lambda file: file.write(body.getvalue()))
    return path


def load_own(path: Path) -> OwnSound:
    """Read an own sound; raise CloudriftError that names the file and what is wrong in it."""
    members = read_archive(path, "own sound", lambda name: name == MEMBER or is_clip(name),
                           {MEMBER: MAX_MEMBER_BYTES}, MAX_BYTES)  # fmt: skip
    with reading(str(path), "own sound"):
        add_clips(members)
        return read_json(members[MEMBER], str(path), OwnSound)


def own_sounds(folder: Path | None = None) -> list[OwnSound]:
    """Return the own sounds that are kept, by name; files that can't be read are passed over."""
    found = []
    for path in sorted((folder or own_folder()).glob(f"*{SUFFIX}")):
        try:
            found.append(load_own(path))
        except CloudriftError:
            continue
    return sorted(found, key=lambda own: own.name.lower())
