"""Files: written whole or not at all; sound files read."""

import contextlib
import glob
import io
import os
import secrets
import stat
import time
from collections import deque
from collections.abc import Callable
from pathlib import Path

import numpy as np
import soundfile
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo
from cloudrift.ground.errors import CloudriftError, WriteError

LOWEST_RATE, HIGHEST_RATE = 8000, 192_000  # frames a second
MOST_SAMPLES = 48 << 20  # of all channels: nine minutes of stereo at 44.1 kHz
BLOCK = 1 << 18
PART = ".part"
PRIVATE = 0o600  # what nobody has saved is for nobody else to read
OLD_S = 60.0  # what is being written for longer has been given up


def _new_file_mode() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return 0o666 & ~mask


NEW_FILE_MODE = _new_file_mode()  # looked up once: to read the mask is to change it for a moment


def write_atomically(
    path: Path,
    write: Callable[[io.BufferedIOBase], object],
    *,
    new_mode: int = NEW_FILE_MODE,
    follow_link: bool = True,
    durable: bool = True,
) -> None:
    """Write a file so that at any moment the old one or the new one is there, whole.

    The bytes go to a file without a name on the same disk, are forced to it, and then take the
    name: a program that is killed leaves nothing half written behind. Where the disk knows no
    such files, one with a name of its own stands in. What a link points to is written, not the
    link, unless ``follow_link`` is off: then the link itself is replaced, as is right in a folder
    that others may put links into. A file keeps whose it is and who may read it, a new one has
    ``new_mode``. What is not ``durable`` may be lost with the power, and is not waited for.

    Raises WriteError that names the file and what the disk said, or that it is not a plain file.
    """
    try:
        path = path.resolve() if follow_link and path.is_symlink() else path
        old = path.stat() if path.exists() and not path.is_symlink() else None
        if old and not stat.S_ISREG(old.st_mode):
            raise WriteError(f"{path} is not a plain file; choose another name")
        mode = old.st_mode & 0o777 if old else new_mode
        with _Part(path) as part, part.open() as file:
            write(file)
            file.flush()
            if durable:
                os.fsync(file.fileno())
            if old and (old.st_uid, old.st_gid) != (os.geteuid(), os.getegid()):
                with contextlib.suppress(OSError):  # only who may do so
                    os.fchown(file.fileno(), old.st_uid, old.st_gid)
            os.fchmod(file.fileno(), mode)
            part.take_place(file.fileno(), path)
    except OSError as error:
        said = error.strerror or str(error)
        raise WriteError(
            f"could not write {path}: {said}; choose another folder or free some space; "
            "what was there is unchanged"
        ) from error
    if durable:
        with contextlib.suppress(OSError):  # it is there; only a loss of power could undo it
            sync(path.parent)
    remove_old_parts(path.parent, _short(path.name))


_parts: "set[_Part]" = set()  # being written now


class _Part:
    """What is being written for a path; what has a name and was not used is removed at the end."""

    def __init__(self, path: Path) -> None:
        self._folder = path.parent
        self.name = path.with_name(f".{_short(path.name)}.{secrets.token_hex(4)}{PART}")

    def __enter__(self) -> "_Part":
        _parts.add(self)
        return self

    def __exit__(self, *_: object) -> None:
        self.remove()

    def open(self) -> io.BufferedWriter:
        """Open it to be written, without a name where the disk knows that."""
        try:
            handle = os.open(self._folder, os.O_TMPFILE | os.O_WRONLY, 0o600)
        except OSError:  # or for a reason that holds for the next line too
            handle = os.open(self.name, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600)
        return os.fdopen(handle, "wb")

    def take_place(self, handle: int, path: Path) -> None:
        """Let it be the file of a name, in place of what was there.

        What has no name can't replace what has one: for a moment it has its own.
        """
        folder = os.open(self._folder, os.O_PATH)
        try:
            if not self.name.exists():
                # With a folder given, the link in /proc is followed.
                os.link(
                    f"/proc/self/fd/{handle}", self.name.name, src_dir_fd=folder, dst_dir_fd=folder
                )
            os.replace(self.name.name, path.name, src_dir_fd=folder, dst_dir_fd=folder)
        finally:
            os.close(folder)

    def remove(self) -> None:
        """Remove it, if it is there."""
        _parts.discard(self)
        with contextlib.suppress(OSError):
            self.name.unlink()


def _short(name: str) -> str:
    """Leave room for what is put before and after a name of a file: it has 255 bytes at most."""
    return os.fsdecode(os.fsencode(name)[:200])


def forget_parts() -> None:
    """Remove what is being written at this moment: the program ends in the middle of it."""
    for part in list(_parts):
        part.remove()


def remove_old_parts(folder: Path, name: str = "*", older_than_s: float = OLD_S) -> None:
    """Remove what programs that were killed left in a folder, of one file or of all."""
    name = name if name == "*" else glob.escape(name)
    for part in folder.glob(f".{name}.{'[0-9a-f]' * 8}{PART}"):
        with contextlib.suppress(OSError):
            if time.time() - part.stat().st_mtime > older_than_s:
                part.unlink()


def sync(path: Path) -> None:
    """Wait until a file, or what is in a folder, is on the disk; raise OSError where it fails."""
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def keep_private(path: Path) -> None:
    """Take a file or folder of ours from the eyes of others, where the disk knows such a thing."""
    with contextlib.suppress(OSError):
        mode = path.stat().st_mode
        if mode & 0o077:
            path.chmod(mode & 0o700)


def make_folder(folder: Path, then: str = "", *, private: bool = False) -> None:
    """Make a folder with all above it; ``then`` says what to do where that cannot be done.

    What is ``private`` is for nobody else to look into.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
        if private:
            keep_private(folder)
    except OSError as error:
        raise WriteError(f"could not make the folder {folder}: {error.strerror}{then}") from error


def read_audio(path: Path, most_s: float = 0.0) -> tuple[Stereo, int]:
    """Read a WAV, FLAC, OGG, MP3 or AIFF file as (2, frames) and its rate.

    Only the first ``most_s`` seconds, if that is said. Of more than two channels the first two are
    taken. Raises CloudriftError for what cannot be read, is too large, or holds what is no number.
    """
    try:
        with soundfile.SoundFile(path) as file:
            rate = int(file.samplerate)
            if not LOWEST_RATE <= rate <= HIGHEST_RATE:
                raise CloudriftError(
                    f"could not read {path} as audio: its sample rate is {rate} Hz, not "
                    f"{LOWEST_RATE} to {HIGHEST_RATE} Hz"
                )
            most = MOST_SAMPLES // file.channels
            wanted = min(most + 1, int(most_s * rate)) if most_s else most + 1
            # Counted as it is read: what a header says of its length may be untrue.
            parts: deque[NDArray[np.float32]] = deque()
            got = 0
            while got < wanted:
                part = file.read(min(BLOCK, wanted - got), dtype="float32", always_2d=True)
                if not len(part):
                    break
                if not np.isfinite(part).all():
                    raise CloudriftError(
                        f"{path} contains values that are not numbers; export it again"
                    )
                parts.append(part[:, :2])
                got += len(part)
    except (OSError, RuntimeError) as error:
        raise CloudriftError(f"could not read {path} as audio: {error}") from error
    if got > most:
        raise CloudriftError(
            f"{path} is too long to import ({most / rate / 60:.0f} min); export a part of it and "
            "import that"
        )
    audio = np.empty((2, got), np.float32)
    at = 0
    while parts:  # let go of as they are laid out: never twice as much as there is
        part = parts.popleft()
        audio[:, at : at + len(part)] = part.T
        at += len(part)
    return audio, rate
