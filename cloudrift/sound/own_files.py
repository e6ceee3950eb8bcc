"""Own sounds as files: one zip each, with what describes it and its recordings."""

import zipfile
from collections.abc import Iterable
from dataclasses import dataclass
from io import BufferedIOBase
from pathlib import Path
from typing import Protocol

import msgspec
from platformdirs import user_data_path

from cloudrift.audio.clips import SUFFIX as CLIP
from cloudrift.audio.clips import ClipStore, is_clip_name
from cloudrift.audio.files import make_folder, write_atomically
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.reading import read_archive, read_folder, read_json, reading
from cloudrift.ground.words import for_a_file
from cloudrift.sound.own import OwnSound, with_todays_design

SUFFIX, MEMBER, CLIPS = ".cloudsound", "sound.json", "clips/"
MAX_BYTES, MAX_MEMBER_BYTES = 512 << 20, 1 << 20


@dataclass(frozen=True)
class Shelved:
    """An own sound, and the file that has its recordings; None where it could not be written."""

    own: OwnSound
    file: Path | None


def own_folder() -> Path:
    """Return where own sounds are kept (``$XDG_DATA_HOME/cloudrift/sounds``)."""
    return user_data_path("cloudrift") / "sounds"


def is_clip(name: str) -> bool:
    """Say whether a member of an archive is a clip, by its name."""
    named = name.startswith(CLIPS) and name.endswith(CLIP)
    return named and is_clip_name(name[len(CLIPS) : -len(CLIP)])


def write_clips(archive: zipfile.ZipFile, names: set[str], clips: ClipStore, what: str) -> None:
    """Write clips into an archive; raise CloudriftError where it could not be opened again."""
    if clips.size_bytes(names) > MAX_BYTES:
        raise CloudriftError(
            f"{what} has recordings of more than {MAX_BYTES >> 20} MiB, and could not be opened "
            "again; use fewer or shorter recordings"
        )
    clips.write_into(archive, names, CLIPS)


class Carried(Protocol):
    """Whatever names a clip."""

    @property
    def clip(self) -> str:
        """The clip's name in a store."""

    @property
    def name(self) -> str:
        """What it is called, in words."""


def check_clips(recordings: Iterable[Carried], clips: ClipStore, where: str) -> None:
    """Raise CloudriftError where a recording's clip is not in a store; ``where`` names it."""
    for one in recordings:
        if one.clip not in clips:
            raise CloudriftError(
                f"{where}: the recording {one.name or one.clip} is not in the file"
            )


def save_own(own: OwnSound, clips: ClipStore, folder: Path | None = None) -> Path:
    """Write an own sound into a file of its own in the folder; nothing there is overwritten."""
    folder = folder or own_folder()
    make_folder(folder)

    def write(body: BufferedIOBase) -> None:
        with zipfile.ZipFile(body, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr(
                zipfile.ZipInfo(MEMBER, (1980, 1, 1, 0, 0, 0)),
                msgspec.json.format(msgspec.json.encode(own), indent=1),
            )
            write_clips(archive, {r.clip for r in own.recordings}, clips, own.name)

    plain = "".join(c if c.isalnum() else "-" for c in own.name.lower())
    plain = for_a_file(plain).strip("-") or "sound"
    path, number = folder / f"{plain}{SUFFIX}", 1
    while path.exists():
        number += 1
        path = folder / f"{plain}-{number}{SUFFIX}"
    write_atomically(path, write)
    return path


def load_own(path: Path, clips: ClipStore | None = None) -> OwnSound:
    """Read an own sound, and its recordings into a store; without one they are not looked at.

    Raises CloudriftError that names the file and what is wrong in it.
    """
    members = read_archive(
        path,
        "own sound",
        lambda name: name == MEMBER or is_clip(name),
        {MEMBER: MAX_MEMBER_BYTES},
        MAX_BYTES,
        only=MEMBER if clips is None else "",
        large=None if clips is None else clips.add,
    )
    with reading(str(path), "own sound"):
        own, _louder = with_todays_design(read_json(members[MEMBER], str(path), OwnSound))
    if clips is not None:
        check_clips(own.recordings, clips, str(path))
    return own


def own_sounds(folder: Path | None = None) -> list[Shelved]:
    """Return the own sounds that are kept, by name; files that can't be read are passed over."""
    found, _wrong = read_folder(
        folder or own_folder(), SUFFIX, lambda path: Shelved(load_own(path), path)
    )
    return sorted(found, key=lambda one: one.own.name.lower())
