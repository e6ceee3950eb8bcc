"""Recovery: what was not saved yet, kept in the state folder until it is.

Each running program keeps one file under a name of its own, and holds a lock beside the folder as
long as it runs; a file whose lock nobody holds was left by a crash and is offered. The recordings
that it names lie beside it, in the folder that is the program's store: what is kept again and again
is only the loop.
"""

import contextlib
import fcntl
import os
import shutil
import uuid
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import TextIO

from platformdirs import user_state_path

from cloudrift.audio.clips import ClipStore
from cloudrift.audio.files import PRIVATE, make_folder, remove_old_parts, sync, write_atomically
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.paths import path_of, path_text
from cloudrift.loop.files.storage import (
    ORIGIN,
    SUFFIX,
    clips_of,
    load_document,
    read_note,
    save_apart,
)
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.loop import Loop

RUNNING = "running"  # the folder of locks, beside that of unsaved work


def state_folder() -> Path:
    """Return the folder for unsaved work (``$XDG_STATE_HOME/cloudrift/unsaved``)."""
    return user_state_path("cloudrift") / "unsaved"


@dataclass(frozen=True)
class Unsaved:
    """Work left by a crash: the document, where it had been opened from, and its file."""

    document: Document
    origin: Path | None
    file: Path


class Shelter:
    """Where one running program keeps what is not saved: a file, its recordings, and a lock."""

    def __init__(self, folder: Path | None = None) -> None:
        self.folder = folder or state_folder()
        name = uuid.uuid4().hex  # a process number would come again
        self.file = self.folder / f"{name}{SUFFIX}"
        self._lock_file = _locks(self.folder) / name
        self._lock: TextIO | None = None
        self._safe: set[str] = set()  # clips that are on the disk for sure

    @cached_property
    def clips(self) -> ClipStore:
        """The program's store of recordings, at the place where a crash leaves them."""
        try:
            self._hold()  # without it another program would take them for left behind
        except (OSError, CloudriftError):
            return ClipStore()
        return ClipStore(_clips_beside(self.file))

    def keep(self, what: Loop | Document, origin: Path | None, clips: ClipStore) -> Path:
        """Write the unsaved document, with recordings that lie in a store; return its file."""
        document = Document.of(what)
        make_folder(self.folder, private=True)
        self._hold()
        for name in sorted(clips_of(document) - self._safe):
            self._keep_clip(clips.file(name))
            self._safe.add(name)
        notes = {ORIGIN: path_text(origin.absolute()) if origin else ""}
        save_apart(document, self.file, notes)
        return self.file

    def _keep_clip(self, file: Path) -> None:
        path = _clips_beside(self.file) / file.name
        if path == file:  # it has lain here from the first; not for sure on the disk
            sync(path)
            sync(path.parent)
            return
        make_folder(path.parent, private=True)
        with file.open("rb") as source:
            write_atomically(path, lambda out: shutil.copyfileobj(source, out), new_mode=PRIVATE)

    def forget(self) -> None:
        """Remove the file: all is saved, or thrown away on purpose."""
        with contextlib.suppress(OSError):
            self.file.unlink(missing_ok=True)  # what was saved is saved, even if this stays

    def close(self) -> None:
        """Remove all of it: nothing is to be found at the next start.

        What is to be found is left as it is; the lock goes with the program.
        """
        remove(self.file)
        self._safe.clear()
        if self._lock is not None:
            with contextlib.suppress(OSError):
                self._lock_file.unlink(missing_ok=True)
            self._lock.close()
            self._lock = None

    def _hold(self) -> None:
        """Lock what tells others that this program runs; the system lets go of it when it ends."""
        while self._lock is None:
            make_folder(self._lock_file.parent, private=True)
            handle = self._lock_file.open("w")
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            if os.fstat(handle.fileno()).st_nlink:  # else another program took it for left behind
                self._lock = handle


def _clips_beside(file: Path) -> Path:
    return file.with_suffix(".clips")


def remove(file: Path) -> None:
    """Remove what a crash left, with its recordings; what cannot be removed stays."""
    with contextlib.suppress(OSError):
        file.unlink(missing_ok=True)
    shutil.rmtree(_clips_beside(file), ignore_errors=True)


def _locks(folder: Path) -> Path:
    return folder.parent / RUNNING


def left_behind(
    clips: ClipStore,
    folder: Path | None = None,
    tell: Callable[[str], object] = lambda _words: None,
) -> list[Unsaved]:
    """Return the work of processes that are gone, newest first; its recordings go into a store.

    Files that can't be read are passed over; ``tell`` hears of each in a sentence. They stay.
    """
    found = []
    folder = folder or state_folder()
    remove_old_parts(folder)
    for beside in folder.glob("*.clips"):
        if not beside.with_suffix(SUFFIX).exists() and not _is_running(folder, beside.stem):
            remove(beside.with_suffix(SUFFIX))  # killed before its loop was kept
    for lock in _locks(folder).glob("*"):
        if not (folder / f"{lock.name}{SUFFIX}").exists():
            _remove_lock(lock)
    for path in folder.glob(f"*{SUFFIX}"):
        if _is_running(folder, path.stem):
            continue
        try:
            document = load_document(path, clips, _clips_beside(path))
        except CloudriftError as error:
            tell(str(error))
            continue
        origin = read_note(path, ORIGIN)
        found.append(Unsaved(document, path_of(origin) if origin else None, path))
    return sorted(found, key=_written, reverse=True)


def _remove_lock(lock: Path) -> None:
    """Remove what a program that was killed left, if it was: what is held stays."""
    with contextlib.suppress(OSError), lock.open() as handle:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        lock.unlink()


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
