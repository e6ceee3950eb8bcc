"""Recovery: what was not saved yet, kept in the state folder until it is.

Each running program keeps one file under a name of its own, and holds a lock beside the folder as
long as it runs; a file whose lock nobody holds was left by a crash and is offered. The recordings
that it names lie beside it, each written once: what is kept again and again is only the loop.
"""

import contextlib
import fcntl
import shutil
import uuid
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from io import BufferedIOBase
from pathlib import Path
from typing import TextIO

from platformdirs import user_state_path

from cloudrift.audio.clips import add_clip, flac_of
from cloudrift.audio.files import make_folder, remove_old_parts, write_atomically
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.paths import path_of, path_text
from cloudrift.ground.reading import read_file
from cloudrift.loop.document import Document
from cloudrift.loop.model import Loop
from cloudrift.loop.storage import ORIGIN, SUFFIX, clips_of, load_document, read_note, save
from cloudrift.sound.own_files import MAX_BYTES

PRIVATE = 0o600  # what nobody has saved is for nobody else to read
CLIP_SUFFIX = ".flac"
RUNNING = "running"  # the folder of locks, beside that of unsaved work
_NAME = uuid.uuid4().hex  # of this program's file: a process number would come again
_held: dict[Path, TextIO] = {}


def state_folder() -> Path:
    """Return the folder for unsaved work (``$XDG_STATE_HOME/cloudrift/unsaved``)."""
    return user_state_path("cloudrift") / "unsaved"


@dataclass(frozen=True)
class Unsaved:
    """Work left by a crash: the document, where it had been opened from, and its file."""

    document: Document
    origin: Path | None
    file: Path


def keep(what: Loop | Document, origin: Path | None, folder: Path | None = None) -> Path:
    """Write this program's unsaved document and return its file."""
    folder = folder or state_folder()
    make_folder(folder)
    _hold(folder)
    path = folder / f"{_NAME}{SUFFIX}"
    notes = {ORIGIN: path_text(origin.absolute()) if origin else ""}
    _keep_clips(clips_of(Document.of(what).loop), _clips_beside(path))
    save(what, path, notes, clips=False, new_mode=PRIVATE)
    return path


def _clips_beside(file: Path) -> Path:
    return file.with_suffix(".clips")


def _keep_clips(names: set[str], folder: Path) -> None:
    for name in sorted(names):
        path = folder / f"{name}{CLIP_SUFFIX}"
        if not path.exists():
            make_folder(folder)
            write_atomically(path, partial(_write, flac_of(name)), new_mode=PRIVATE)


def _write(data: bytes, file: BufferedIOBase) -> None:
    file.write(data)


def _read_clips(folder: Path) -> None:
    for path in sorted(folder.glob(f"*{CLIP_SUFFIX}")):
        add_clip(read_file(path, "recording", MAX_BYTES))


def remove(file: Path) -> None:
    """Remove what a crash left, with its recordings; what cannot be removed stays."""
    with contextlib.suppress(OSError):
        file.unlink(missing_ok=True)
    shutil.rmtree(_clips_beside(file), ignore_errors=True)


def forget(folder: Path | None = None) -> None:
    """Remove this program's file: all is saved, or thrown away on purpose."""
    folder = folder or state_folder()
    remove(folder / f"{_NAME}{SUFFIX}")  # what was saved is saved, even if this stays
    held = _held.pop(folder, None)
    if held is not None:
        with contextlib.suppress(OSError):
            (_locks(folder) / _NAME).unlink(missing_ok=True)
        held.close()


def _locks(folder: Path) -> Path:
    return folder.parent / RUNNING


def _hold(folder: Path) -> None:
    """Lock what tells others that this program runs; the system lets go of it when it ends."""
    if folder not in _held:
        make_folder(_locks(folder))
        handle = (_locks(folder) / _NAME).open("w")
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        _held[folder] = handle


def left_behind(
    folder: Path | None = None, tell: Callable[[str], object] = lambda _words: None
) -> list[Unsaved]:
    """Return the work of processes that are gone, newest first.

    Files that can't be read are passed over; ``tell`` hears of each in a sentence. They stay.
    """
    found = []
    folder = folder or state_folder()
    remove_old_parts(folder)
    for clips in folder.glob("*.clips"):
        if not clips.with_suffix(SUFFIX).exists() and not _is_running(folder, clips.stem):
            remove(clips.with_suffix(SUFFIX))  # killed before its loop was kept
    for path in folder.glob(f"*{SUFFIX}"):
        if _is_running(folder, path.stem):
            continue
        try:
            _read_clips(_clips_beside(path))
            document = load_document(path)
        except CloudriftError as error:
            tell(str(error))
            continue
        origin = read_note(path, ORIGIN)
        found.append(Unsaved(document, path_of(origin) if origin else None, path))
    return sorted(found, key=_written, reverse=True)


def _written(unsaved: Unsaved) -> float:
    try:
        return unsaved.file.stat().st_mtime
    except OSError:  # another program has just taken it
        return 0.0


def _is_running(folder: Path, name: str) -> bool:
    """Whether the program that keeps a file under this name holds its lock."""
    try:
        with (_locks(folder) / name).open() as handle:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return True
    except OSError:
        return False  # there is none, or it cannot be told: better offered twice than not at all
    return False
