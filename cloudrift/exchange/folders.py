"""Folders of one's own as an exchange: listened to once, and found by what was heard.

What is known stands in one SQLite file in the cache: it can be thrown away and made again. Only
files that are new or have changed are listened to, by processes that give way to all others.
"""

import contextlib
import dataclasses
import functools
import heapq
import os
import re
import sqlite3
import threading
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from multiprocessing import get_context
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
from platformdirs import user_cache_path

from cloudrift.audio.files import PRIVATE, keep_private, make_folder
from cloudrift.audio.stretch_child import stand_behind
from cloudrift.exchange.service import (
    MOST_FOUND,
    ExchangeError,
    Fits,
    Found,
    Moved,
    Offer,
    Wanted,
    far_off,
)
from cloudrift.exchange.words import alike
from cloudrift.ground.cancel import Cancelled, never
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.paths import path_of, path_text, shown
from cloudrift.ground.search import tokens
from cloudrift.loop.model.recorded import RecordingKind
from cloudrift.theory.key import Key, parse_key

SUFFIXES = frozenset({".wav", ".flac", ".ogg", ".mp3", ".aif", ".aiff"})
PROCESSES, AT_ONCE = 2, 16
MOST_FILES = 200_000
VERSION = 2  # of what is written down: another one begins again
LIKE = ("brightness", "loudness", "seconds", "tempo")
_TABLES = (
    "CREATE TABLE files (path TEXT PRIMARY KEY, folder TEXT NOT NULL, size INTEGER NOT NULL, "
    "changed INTEGER NOT NULL, name TEXT NOT NULL, kind TEXT NOT NULL, seconds REAL NOT NULL, "
    "tempo REAL NOT NULL, key TEXT NOT NULL, loudness REAL NOT NULL, brightness REAL NOT NULL, "
    "licence TEXT NOT NULL, maker TEXT NOT NULL, problem TEXT NOT NULL)",
    "CREATE INDEX of_folder ON files (folder)",
    "CREATE VIRTUAL TABLE words USING fts5 (text)",
)


class Listed(NamedTuple):
    """What is written down of a file; ``problem`` says why it could not be listened to."""

    name: str = ""
    kind: str = "phrase"
    seconds: float = 0.0
    tempo: float = 0.0
    key: str = ""
    loudness: float = 0.0
    brightness: float = 0.0  # Hz: the middle of its spectrum
    licence: str = ""
    maker: str = ""
    problem: str = ""


class Counted(NamedTuple):
    """How an indexing went: files there, listened to now, those that could not be; lost folders."""

    there: int
    heard: int
    failed: int
    missing: tuple[str, ...]


def listen_for_list(path: str) -> Listed:
    """Listen to one file; in a process of its own. A file that can't be read is listed as such."""
    from cloudrift.notes.listening import read_and_listen  # noqa: PLC0415 - for that process

    try:
        audio, rate, heard = read_and_listen(Path(path))
    except CloudriftError as error:
        return Listed(name=Path(path).stem, problem=str(error))
    power = np.abs(np.fft.rfft(audio.mean(axis=0)[: 1 << 17])) ** 2
    hz = np.fft.rfftfreq(min(audio.shape[1], 1 << 17), 1 / rate)
    return Listed(
        name=heard.labels.title or Path(path).stem,
        kind=heard.kind,
        seconds=heard.length_s,
        tempo=round(heard.tempo, 3),
        key=heard.key.plain if heard.key else "",
        loudness=round(heard.lufs, 2),
        licence=heard.labels.licence,
        maker=heard.labels.maker,
        brightness=round(float((hz * power).sum() / max(float(power.sum()), 1e-12)), 1),
    )


class OwnFolders:
    """Folders that are indexed, and searched as an exchange is. Safe for threads."""

    def __init__(self, folders: Callable[[], Iterable[Path]], file: Path | None = None) -> None:
        """``folders`` says which they are now; ``file`` is where what is known is kept."""
        self._folders = folders
        self._file = file or user_cache_path("cloudrift") / "recordings.sqlite"
        self._lock = threading.Lock()  # one indexing at a time

    @contextlib.contextmanager
    def _open(self) -> Iterator[sqlite3.Connection]:
        make_folder(self._file.parent)
        try:
            self._file.touch(PRIVATE)  # which files somebody has is nobody else's matter
            keep_private(self._file)
            base = sqlite3.connect(self._file, timeout=10)
        except (sqlite3.Error, OSError) as error:
            raise ExchangeError(f"could not open {self._file}: {error}") from error
        try:
            if _version(base) != VERSION:
                _begin_anew(base)
            yield base
            base.commit()
        except CloudriftError:
            raise
        # What is damaged may be read, and be no number.
        except (sqlite3.DatabaseError, ValueError, TypeError, OverflowError) as error:
            base.close()
            raise ExchangeError(
                f"{self._file} can't be read ({error}); delete it, it will be rebuilt"
            ) from error
        finally:
            base.close()

    # --- indexing -----------------------------------------------------------------------------

    def index(
        self, cancelled: Callable[[], bool] = never, moved: Moved = lambda _s, _w: None
    ) -> Counted:
        """Listen to what is new or has changed, forget what is gone; what is done stays done.

        Raises Cancelled when told to stop. A folder that is not there now is kept as it was known.
        """
        with self._lock:
            return self._index(cancelled, moved)

    def _index(self, cancelled: Callable[[], bool], moved: Moved) -> Counted:
        folders = list(self._folders())
        missing = tuple(shown(str(folder)) for folder in folders if not folder.is_dir())
        there: dict[str, tuple[str, int, int]] = {}
        for folder in folders:
            for path, seen in _audio_in(folder, cancelled):
                there[path] = (path_text(folder), seen.st_size, seen.st_mtime_ns)
        with self._open() as base:
            known = {
                path: (size, changed, folder)
                for path, size, changed, folder in base.execute(
                    "SELECT path, size, changed, folder FROM files"
                )
            }
            here = {path_text(folder) for folder in folders if folder.is_dir()}
            wanted = {path_text(folder) for folder in folders}
            gone = [
                path
                for path, (_, _, folder) in known.items()
                if folder not in wanted or (folder in here and path not in there)
            ]
            for path in gone:
                _forget(base, path)
        todo = [
            path
            for path, (_, size, changed) in there.items()
            if known.get(path, (0, 0, ""))[:2] != (size, changed)
        ]
        failed = self._listen(todo, there, cancelled, moved) if todo else 0
        return Counted(len(there), len(todo), failed, missing)

    def _listen(
        self,
        todo: list[str],
        there: dict[str, tuple[str, int, int]],
        cancelled: Callable[[], bool],
        moved: Moved,
    ) -> int:
        waiting = iter(todo)
        running: dict[Future[Listed], str] = {}
        done = failed = 0
        pool = ProcessPoolExecutor(PROCESSES, get_context("spawn"), stand_behind, (os.getpid(),))
        try:
            while done < len(todo):
                for path in waiting:
                    running[pool.submit(listen_for_list, str(path_of(path)))] = path
                    if len(running) >= AT_ONCE:
                        break
                ready, _ = wait(running, timeout=0.25, return_when=FIRST_COMPLETED)
                if cancelled():
                    raise Cancelled
                with self._open() as base:
                    for future in ready:
                        path = running.pop(future)
                        listed = future.result()
                        failed += bool(listed.problem)
                        _write(base, path, there[path], listed)
                done += len(ready)
                moved(done / len(todo), f"analysing your folders: {done} of {len(todo)} files")
        except (OSError, RuntimeError) as error:
            raise ExchangeError(
                f"not all of your folders could be analysed ({error}); try again, finished files "
                "are kept"
            ) from error
        finally:
            pool.shutdown(wait=False, cancel_futures=True)
        return failed

    # --- looking ------------------------------------------------------------------------------

    def search(self, wanted: Wanted, cancelled: Callable[[], bool]) -> list[Found]:
        """Return what is found, the nearest first."""
        with self._open() as base:
            words = " AND ".join(
                f"({' OR '.join(f'{chr(34)}{one}{chr(34)}*' for one in alike(word))})"
                for word in tokens(wanted.words)
            )
            if words:
                rows = base.execute(
                    f"SELECT {_COLUMNS} FROM files JOIN words ON words.rowid = files.rowid "
                    "WHERE words.text MATCH ? AND problem = ''",
                    (words,),
                ).fetchall()
            else:
                rows = base.execute(f"SELECT {_COLUMNS} FROM files WHERE problem = ''").fetchall()
            if cancelled():
                raise Cancelled
            return _nearest(rows, wanted)

    def like(self, offer_id: str, most: int = 50) -> list[Found]:
        """Return what sounds most like a recording: as bright, as loud, as long, as fast."""
        with self._open() as base:
            rows = base.execute(f"SELECT {_COLUMNS} FROM files WHERE problem = ''").fetchall()
            marks = base.execute(
                f"SELECT path, kind, {', '.join(LIKE)} FROM files WHERE problem = ''"
            ).fetchall()
            at = next((i for i, row in enumerate(marks) if row[0] == offer_id), None)
            if at is None:
                raise ExchangeError("that file is no longer in the list; search again")
            return [Found(_offer(*rows[i]), 0, 1.0) for i in _most_like(marks, at)[:most]]

    def fetch(self, offer_id: str, cancelled: Callable[[], bool], moved: Moved) -> Path:
        """Return the file itself."""
        del cancelled, moved
        path = path_of(offer_id)
        if not path.exists():
            raise ExchangeError(f"{shown(path.name)} is gone; search again, the list is rebuilt")
        return path

    def problems(self) -> list[tuple[str, str]]:
        """Return the files that could not be listened to, and why."""
        with self._open() as base:
            return base.execute("SELECT path, problem FROM files WHERE problem != ''").fetchall()


_COLUMNS = "files.path, name, kind, seconds, tempo, key, licence, maker"


def _nearest(rows: list[Any], wanted: Wanted) -> list[Found]:
    """What of some rows (``_COLUMNS``) fits, the nearest first."""
    # Of thousands of rows, only those that are shown become offers.
    fits = Fits(dataclasses.replace(wanted, words=""))
    near = []
    for row in rows:
        _path, name, kind, _seconds, tempo, key, licence, _maker = row
        takes = fits.takes(kind, licence, _key(key), tempo)
        if takes is not None:
            near.append((far_off(kind, *takes), name, takes, row))
    best = heapq.nsmallest(MOST_FOUND, near, key=lambda one: one[:2])
    return [Found(_offer(*row), *takes) for _far, _name, takes, row in best]


def _most_like(marks: list[Any], at: int) -> list[int]:
    """The places of all other rows (path, kind, ``LIKE``), by how far they are from one."""
    values = np.array([row[2:] for row in marks], float)
    if not np.isfinite(values).all():
        raise ValueError("a measure is not a number")
    brightness, loudness, seconds, tempo = values.T
    values = np.stack(
        [np.log1p(brightness), loudness / 20, np.log1p(seconds), np.log1p(tempo)], axis=1
    )
    spread = np.maximum(values.std(axis=0), 1e-6)
    far = (np.abs(values - values[at]) / spread).sum(axis=1)
    far += np.array([2.0 * (row[1] != marks[at][1]) for row in marks])
    return [int(i) for i in np.argsort(far, kind="stable") if i != at]


@functools.lru_cache(maxsize=256)
def _key(text: str) -> Key | None:
    return parse_key(text) if text else None


def _offer(
    path: str,
    name: str,
    kind: RecordingKind,
    seconds: float,
    tempo: float,
    key: str,
    licence: str,
    maker: str,
) -> Offer:
    return Offer(
        id=path,
        name=shown(name),
        maker=maker,
        licence=licence,
        kind=kind,
        words=(),
        key=_key(key),
        tempo=tempo,
        bars=0,
        seconds=seconds,
    )


def _audio_in(folder: Path, cancelled: Callable[[], bool]) -> Iterator[tuple[str, os.stat_result]]:
    """The audio files in a folder and all below it; links out of it are not followed."""
    count = 0
    for at, below, names in os.walk(folder):
        below[:] = sorted(name for name in below if not name.startswith("."))
        if cancelled():
            raise Cancelled
        for name in sorted(names):
            path = Path(at) / name
            if path.suffix.lower() not in SUFFIXES or name.startswith("."):
                continue
            with contextlib.suppress(OSError):
                yield path_text(path), path.stat()
                count += 1
                if count >= MOST_FILES:
                    return


def _version(base: sqlite3.Connection) -> int:
    (version,) = base.execute("PRAGMA user_version").fetchone()
    return int(version)


def _begin_anew(base: sqlite3.Connection) -> None:
    """Make empty tables, all or none, unless another thread has made them meanwhile."""
    base.execute("BEGIN IMMEDIATE")  # who searches and who indexes both open a list that is new
    if _version(base) != VERSION:
        for table in ("files", "words"):
            base.execute(f"DROP TABLE IF EXISTS {table}")
        for made in _TABLES:
            base.execute(made)
        base.execute(f"PRAGMA user_version = {VERSION}")
    base.commit()


def _forget(base: sqlite3.Connection, path: str) -> None:
    row = base.execute("DELETE FROM files WHERE path = ? RETURNING rowid", (path,)).fetchone()
    if row is not None:
        base.execute("DELETE FROM words WHERE rowid = ?", row)


def _write(base: sqlite3.Connection, path: str, seen: tuple[str, int, int], one: Listed) -> None:
    _forget(base, path)
    marks = ", ".join("?" * 14)
    made = base.execute(f"INSERT INTO files VALUES ({marks})", (path, *seen, *one))
    text = re.sub(r"[\W_]+", " ", f"{path} {one.name} {one.kind} {one.maker}")
    base.execute("INSERT INTO words (rowid, text) VALUES (?, ?)", (made.lastrowid, text))
