"""One frame for all that is read from files: limits, and every failure a sentence with its place.

Files come from strangers. What they say of themselves (sizes, counts) is not believed; what a
reader raises never reaches a composer as it is.
"""

import re
import stat
import tomllib
import zipfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from importlib import resources
from pathlib import Path
from typing import IO, Any, TypeVar, cast

import msgspec

from cloudrift.ground.cancel import Cancelled
from cloudrift.ground.earlier_names import todays_names
from cloudrift.ground.errors import CloudriftError, in_a_sentence

MOST_TEXT = 256 << 10  # bytes of a file of words: the longest of ours has a tenth
MOST_PARTS = 500_000  # lists and maps in JSON: a loop with all the notes it can have has 150 000
MOST_VALUES = 4_000_000
# Names with that many dots are nested as deeply, and take the parser more than any name is worth.
# (Looked for at the beginnings of names alone, and without going back: in one go.)
_DOTTED = re.compile(r"""(?<![\w"'-])(?:[\w"'-]++[ \t]*+\.[ \t]*+){12}""")
MOST_MEMBERS = 2200  # of an archive: as many clips as all layers can have
METHODS = (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED)
ENCRYPTED = 0x1
_Read = TypeVar("_Read")


@contextmanager
def reading(where: str, what: str) -> Iterator[None]:
    """Turn whatever goes wrong inside into a CloudriftError: ``where`` is no ``what``, and why."""
    try:
        yield
    except (CloudriftError, Cancelled):
        raise
    except FileNotFoundError as error:
        raise CloudriftError(f"there is no file {where}") from error
    except OSError as error:
        raise CloudriftError(f"could not read {where}: {error.strerror or error}") from error
    except RecursionError as error:
        raise CloudriftError(f"{where} is not a {what}: it is nested too deeply") from error
    except MemoryError as error:
        raise CloudriftError(
            f"{where} is not a {what}: it needs more memory than there is"
        ) from error
    except Exception as error:
        said = in_a_sentence(str(error), 160) or type(error).__name__
        raise CloudriftError(f"{where} is not a {what} ({said}); it was not changed") from error


def read_file(path: Path, what: str, most: int = MOST_TEXT) -> bytes:
    """Return a file's bytes; raise CloudriftError where it is no plain file or larger than said."""
    with reading(str(path), what):
        if not stat.S_ISREG(path.stat().st_mode):
            raise CloudriftError(f"{path} is not a {what}: it is not a plain file")
        with path.open("rb") as file:
            data = file.read(most + 1)
    if len(data) > most:
        raise CloudriftError(
            f"{path} is larger than any {what} ({most >> 10} KiB); it was not read"
        )
    return data


def read_words(path: Path, what: str) -> str:
    """Return the words of a text file, UTF-8."""
    data = read_file(path, what)
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise CloudriftError(
            f"{path} is not in UTF-8 (byte {error.start}); save it in UTF-8 and try again"
        ) from error


def read_folder(
    folder: Path, suffix: str, read: Callable[[Path], _Read]
) -> tuple[list[_Read], list[str]]:
    """Read the files of a kind in a composer's own folder, in order of their names.

    Return also, in words, which of them could not be read.
    """
    found, wrong = [], []
    for path in sorted(folder.glob(f"*{suffix}")):
        try:
            found.append(read(path))
        except CloudriftError as error:
            wrong.append(str(error))
    return found, wrong


def shipped(package: str, folder: str, read: Callable[[str, str], _Read]) -> list[_Read]:
    """Read the TOML files of a folder that a package ships, in order of their names.

    ``read`` takes a file's text and its name.
    """
    files = [file for file in (resources.files(package) / folder).iterdir()
             if file.name.endswith(".toml")]  # fmt: skip
    return [
        read(file.read_text("utf-8"), file.name) for file in sorted(files, key=lambda f: f.name)
    ]


def read_toml(text: str, where: str, kind: type[_Read]) -> _Read:
    """Read TOML as a type; raise CloudriftError that names the file and the place."""
    with reading(where, "TOML"):
        if _DOTTED.search(text):
            raise CloudriftError(f"{where} cannot be read as TOML: a name has too many dots")
        try:
            raw: dict[str, Any] = tomllib.loads(text)
            return msgspec.convert(todays_names(in_bounds(raw, where)), kind)
        except tomllib.TOMLDecodeError as error:
            raise CloudriftError(f"{where} is not TOML: {error}") from error
        except msgspec.ValidationError as error:
            raise CloudriftError(f"{where}: {str(error).replace('`$.', '`')}") from error


def read_json(data: bytes, where: str, kind: type[_Read]) -> _Read:
    """Read JSON as a type; raise CloudriftError that names the file and the place."""
    check_parts(data, where)
    with reading(where, "JSON"):
        try:
            return msgspec.convert(in_bounds(msgspec.json.decode(data), where), kind)
        except msgspec.DecodeError as error:
            raise CloudriftError(f"{where}: {str(error).replace('`$.', '`')}") from error


def check_parts(data: bytes, where: str) -> None:
    """Raise CloudriftError where JSON would become more parts in memory than any document has."""
    if data.count(b"{") + data.count(b"[") > MOST_PARTS or data.count(b",") > MOST_VALUES:
        raise CloudriftError(f"{where} has more parts than any document; it was not opened")


def in_bounds(raw: _Read, where: str) -> _Read:
    """Return what was read from a file as it is; raise CloudriftError for endless numbers.

    Whole numbers have 64 bits everywhere else: in keys, in arrays, in messages.
    """
    try:
        msgspec.msgpack.encode(raw)
    except OverflowError as error:
        raise CloudriftError(f"{where} contains an integer of more than 64 bits") from error
    return raw


def read_archive(
    path: Path,
    what: str,
    known: Callable[[str], bool],
    most: dict[str, int],
    in_all: int,
    *,
    only: str = "",
    large: Callable[[IO[bytes]], object] | None = None,
) -> dict[str, bytes]:
    """Return the members of a zip by name, inflated, in limits that are counted, not believed.

    Parameters
    ----------
    known : says which names may be in it; another one is refused.
    most : how many bytes a member may have, for those with a limit of their own.
    in_all : how many bytes all of them may have.
    only : the one member to read, if no other is wanted; all are looked at.
    large : takes what has no limit of its own, each as a stream; then that is not returned.
    """
    where = str(path)
    found: dict[str, bytes] = {}
    with reading(where, what):
        if not stat.S_ISREG(path.stat().st_mode):
            raise CloudriftError(f"{where} is not a {what}: it is not a plain file")
        try:
            with zipfile.ZipFile(path) as archive:
                infos = archive.infolist()
                if len(infos) > MOST_MEMBERS:
                    raise CloudriftError(f"{where} has more parts than any {what}")
                left = in_all
                for info in infos:
                    _check_member(info, where, what, known, found)
                    if only not in ("", info.filename):
                        continue
                    limit = min(left, most.get(info.filename, left))
                    said = f"{where}: {_short(info.filename)} is larger than any {what}"
                    with archive.open(info) as member:
                        counted = _Counted(member, limit, f"{said}; it was not opened")
                        if large is None or info.filename in most:
                            found[info.filename] = counted.read()
                        else:
                            found[info.filename] = b""
                            large(cast(IO[bytes], counted))
                    left -= counted.size
        except (zipfile.BadZipFile, EOFError, NotImplementedError, zipfile.LargeZipFile) as error:
            raise CloudriftError(
                f"{where} is not a complete {what} (truncated, or another kind of file); open "
                "another copy; the file was not changed"
            ) from error
    return found


class _Counted:
    """A stream that is read no farther than a number of bytes: then it is an error."""

    def __init__(self, stream: IO[bytes], most: int, words: str) -> None:
        self._stream, self._most, self._words = stream, most, words
        self.size = 0

    def read(self, size: int = -1) -> bytes:
        """Return that many bytes, or all; fewer only at the end."""
        left = self._most + 1 - self.size
        data = self._stream.read(left if size < 0 else min(size, left))
        self.size += len(data)
        if self.size > self._most:
            raise CloudriftError(self._words)
        return data


def _check_member(
    info: zipfile.ZipInfo,
    where: str,
    what: str,
    known: Callable[[str], bool],
    found: dict[str, bytes],
) -> None:
    name = _short(info.filename)
    if not known(info.filename) or info.filename in found:
        raise CloudriftError(f"{where} contains {name}, which is not part of a {what}")
    if info.flag_bits & ENCRYPTED:
        raise CloudriftError(f"{where}: {name} is encrypted; a {what} never is")
    if info.compress_type not in METHODS:
        raise CloudriftError(f"{where}: {name} uses a compression that a {what} never uses")


def _short(name: str) -> str:
    return in_a_sentence(name, 60)
