"""What the shelf keeps between two starts: favourites, and what was used last."""

import json
from pathlib import Path

from cloudrift.audio.files import write_atomically
from cloudrift.ground.errors import CloudriftError

FILE = "shelf.json"
LAST = 12


class Kept:
    """Names of sounds in a small file; one that can't be read counts as empty."""

    def __init__(self, folder: Path) -> None:
        self._file = folder / FILE
        self.favourites: list[str] = []
        self.last: list[str] = []
        try:
            read = json.loads(self._file.read_text())
            self.favourites = [str(name) for name in read["favourites"]]
            self.last = [str(name) for name in read["last"]][:LAST]
        except (OSError, ValueError, KeyError, TypeError):
            pass  # a first start, or a file that somebody has broken: nothing of the loop is in it

    def swap_favourite(self, name: str) -> None:
        """Make a sound a favourite, or take it out again."""
        if name in self.favourites:
            self.favourites.remove(name)
        else:
            self.favourites.append(name)
        self._write()

    def used(self, name: str) -> None:
        """Put a sound first among those used last."""
        self.last = [name, *(other for other in self.last if other != name)][:LAST]
        self._write()

    def _write(self) -> None:
        body = json.dumps({"favourites": self.favourites, "last": self.last}, indent=1)
        try:
            self._file.parent.mkdir(parents=True, exist_ok=True)
            write_atomically(self._file, lambda file: file.write(body.encode()))
        except (OSError, CloudriftError):
            pass  # a full disk must not stand between a composer and a sound
