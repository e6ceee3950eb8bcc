"""Recorded sound that documents carry: FLAC files in a folder, named by their content.

A document holds a clip's name, its file the clip. Whoever opens a document hands a store to what
reads it, and the same store to what renders and saves it.
"""

import hashlib
import io
import os
import re
import secrets
import shutil
import tempfile
import zipfile
from collections.abc import Iterable
from pathlib import Path
from typing import IO

import numpy as np
import soundfile

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.files import HIGHEST_RATE, LOWEST_RATE, PRIVATE, make_folder
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.lru import get_or_make
from cloudrift.ground.reading import reading

LONGEST_S = 60.0
SUFFIX = ".flac"
_NAME = re.compile(r"[0-9a-f]{24}")
_HASHED_BYTES = 12
_AT_ONCE = 1 << 20  # bytes that are copied at a time


def is_clip_name(name: str) -> bool:
    """Whether a clip may be called so: no name leads out of a folder."""
    return _NAME.fullmatch(name) is not None


class ClipStore:
    """Clips in a folder of this store's own; a temporary one, gone with it, if none is given.

    The folder is made with the first clip. What is in it never changes: an equal name is equal
    sound. Safe for threads.
    """

    def __init__(self, folder: Path | None = None) -> None:
        self._folder = folder
        self._temporary: tempfile.TemporaryDirectory[str] | None = None

    def __contains__(self, name: str) -> bool:
        path = self._path(name)
        return path is not None and path.exists()

    def add(self, flac: IO[bytes]) -> str:
        """Keep a clip that is FLAC already, from where the stream stands; return its name.

        Raises CloudriftError if it can't be read, or not be kept.
        """
        try:
            part = self._ready() / f".{secrets.token_hex(8)}"
            try:
                name = _copied(flac, part)
                path = self._path(name)
                assert path is not None
                if not path.exists():
                    _check(part)
                    part.replace(path)
            finally:
                part.unlink(missing_ok=True)
        except OSError as error:
            raise CloudriftError(
                f"a recording could not be kept in {self._folder}: {error.strerror or error}; "
                "free some space there"
            ) from error
        return name

    def record(self, audio: Stereo, rate: int, *, soon: bool = False) -> str:
        """Keep audio as 24-bit FLAC and return its name.

        ``soon`` takes half the time and a little more room: for what is not to stay.
        """
        body = io.BytesIO()
        audio = np.clip(audio, -1, 1 - 2**-23)
        data = np.ascontiguousarray(audio.T)
        less = {"compression_level": 0.0} if soon else {}
        try:
            soundfile.write(body, data, rate, subtype="PCM_24", format="FLAC", **less)
        except RuntimeError as error:
            raise CloudriftError(
                f"a recording at {rate} Hz can't be kept; use one at 44100 or 48000 Hz"
            ) from error
        body.seek(0)
        name = self.add(body)
        get_or_make(("clip", name), lambda: (_as_kept(audio), rate))  # it will be read at once
        return name

    def read(self, name: str) -> tuple[Stereo, int]:
        """Return a clip as (2, frames), read-only, and its rate."""
        path = self.file(name)
        return get_or_make(("clip", name), lambda: _read(path))

    def file(self, name: str) -> Path:
        """Return a clip's file; raise CloudriftError if it is not here."""
        path = self._path(name)
        if path is None or not path.exists():
            raise CloudriftError(f"the recording {name} is missing; open the file that contains it")
        return path

    def size_bytes(self, names: Iterable[str]) -> int:
        """Return how much clips take in a file."""
        return sum(self.file(name).stat().st_size for name in names)

    def write_into(self, archive: zipfile.ZipFile, names: Iterable[str], prefix: str) -> None:
        """Write clips into an archive as they are (FLAC does not get smaller), by name."""
        for name in sorted(names):
            path = self.file(name)
            # A fixed date: the same document is the same file.
            info = zipfile.ZipInfo(f"{prefix}{name}{SUFFIX}", (1980, 1, 1, 0, 0, 0))
            info.file_size = path.stat().st_size
            with path.open("rb") as source, archive.open(info, "w") as member:
                shutil.copyfileobj(source, member, _AT_ONCE)

    def add_all(self, folder: Path) -> set[str]:
        """Keep the clips that lie in another folder, as a store has left them; return their names.

        Raises CloudriftError if one can't be read.
        """
        found = set()
        for path in sorted(folder.glob(f"*{SUFFIX}")):
            with reading(str(path), "recording"), path.open("rb") as file:
                found.add(self.add(file))
        return found

    def remove(self) -> None:
        """Remove the folder and all that is in it."""
        if self._temporary is not None:
            self._temporary.cleanup()
        elif self._folder is not None:
            shutil.rmtree(self._folder, ignore_errors=True)

    def _ready(self) -> Path:
        if self._folder is None:
            self._temporary = tempfile.TemporaryDirectory(prefix="cloudrift-clips-")
            self._folder = Path(self._temporary.name)
        make_folder(self._folder)
        return self._folder

    def _path(self, name: str) -> Path | None:
        """Where a clip lies if it is here; None for what can't be one."""
        if self._folder is None or not is_clip_name(name):
            return None
        return self._folder / f"{name}{SUFFIX}"


def _copied(source: IO[bytes], path: Path) -> str:
    """Copy a stream into a file that nobody else may read, and return the name of its content."""
    content = hashlib.blake2b(digest_size=_HASHED_BYTES)
    with os.fdopen(os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY, PRIVATE), "wb") as file:
        while block := source.read(_AT_ONCE):
            content.update(block)
            file.write(block)
    return content.hexdigest()


def _check(path: Path) -> None:
    """Raise CloudriftError where a file is not the FLAC that a clip is."""
    try:
        with soundfile.SoundFile(path) as file:
            if file.format != "FLAC" or file.channels != 2:
                raise CloudriftError("a recording is not FLAC in two channels")
            if not LOWEST_RATE <= file.samplerate <= HIGHEST_RATE:
                raise CloudriftError(
                    f"a recording has a sample rate of {file.samplerate} Hz, not {LOWEST_RATE} to "
                    f"{HIGHEST_RATE} Hz"
                )
            if not 0 < file.frames <= LONGEST_S * file.samplerate:
                raise CloudriftError(f"a recording is empty or longer than {LONGEST_S:.0f} s")
    except RuntimeError as error:
        raise CloudriftError(f"a recording in it can't be read: {error}") from error


def _as_kept(audio: Stereo) -> Stereo:
    """What is read of audio within full scale once it is recorded, to the last bit."""
    steps = np.rint(audio * np.float32(1 << 23))
    out = np.ascontiguousarray(steps * np.float32(2**-23), np.float32)
    out.flags.writeable = False
    return out


def _read(path: Path) -> tuple[Stereo, int]:
    with soundfile.SoundFile(path) as file:
        rate = int(file.samplerate)  # no more is read than was looked at
        data = file.read(int(LONGEST_S * rate), dtype="float32", always_2d=True)
    audio = np.ascontiguousarray(data.T)
    audio.flags.writeable = False
    return audio, rate
