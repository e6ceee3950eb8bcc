"""Recovery: what was not saved yet, kept in the state folder until it is.

Each running program keeps one file, named by its process number; a file whose process is gone was
left by a crash and is offered.
"""

import os
from dataclasses import dataclass
from pathlib import Path

from platformdirs import user_state_path

from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.model import Loop
from cloudrift.loop.storage import ORIGIN, SUFFIX, load, read_note, save


def state_folder() -> Path:
    """Return the folder for unsaved work (``$XDG_STATE_HOME/cloudrift/unsaved``)."""
    return user_state_path("cloudrift") / "unsaved"


@dataclass(frozen=True)
class Unsaved:
    """Work left by a crash: the loop, where it had been opened from, and its file."""

    loop: Loop
    origin: Path | None
    file: Path


def keep(loop: Loop, origin: Path | None, folder: Path | None = None) -> Path:
    """Write this process's unsaved loop and return its file."""
    folder = folder or state_folder()
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / f"{os.getpid()}{SUFFIX}"
    save(loop, path, {ORIGIN: str(origin or "")})
    return path


def forget(folder: Path | None = None) -> None:
    """Remove this process's file: all is saved, or thrown away on purpose."""
    ((folder or state_folder()) / f"{os.getpid()}{SUFFIX}").unlink(missing_ok=True)


def left_behind(folder: Path | None = None) -> list[Unsaved]:
    """Return the work of processes that are gone, newest first; broken files are passed over."""
    found = []
    for path in (folder or state_folder()).glob(f"*{SUFFIX}"):
        if path.stem.isdigit() and _is_running(int(path.stem)):
            continue
        try:
            loop = load(path)
        except CloudriftError:
            continue
        origin = read_note(path, ORIGIN)
        found.append(Unsaved(loop, Path(origin) if origin else None, path))
    return sorted(found, key=lambda u: u.file.stat().st_mtime, reverse=True)


def _is_running(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True
