"""What a composer has chosen for the program itself, and what it remembers for them."""

import contextlib
import os
from pathlib import Path
from typing import Any

import msgspec
from platformdirs import user_config_path

from cloudrift.audio.files import make_folder, write_atomically
from cloudrift.devices.speaker import BUFFER_MS, BUFFERS_MS
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.paths import path_of, path_text
from cloudrift.ground.reading import read_file, read_json

FILE = "settings.json"
THEMES = ("", "Daybreak", "Nightfall")
SIZES = (90, 100, 110, 125, 150)  # per cent
MOST_RECENT = 10


class Wishes(msgspec.Struct, frozen=True, kw_only=True):
    """The settings as they are in the file. Empty words mean: as the system has it.

    ``theme`` is one of THEMES; ``size_percent`` is of text and controls; ``buffer_ms`` is one
    period of the speaker; ``files`` is where file dialogs begin, ``delivery`` where was delivered
    last; ``recent`` are the loop files opened or saved last, the newest first; ``recordings`` are
    folders that are listened to; ``microphone`` is what is recorded from, ``late_ms`` how late it
    brings what the speaker was given, for each way in and out; ``parts``, ``sound_format``,
    ``bits``, ``target_lufs`` and ``names`` are what was written last, and how.
    """

    theme: str = ""
    size_percent: int = 100
    speaker: str = ""
    buffer_ms: int = BUFFER_MS
    keyboard: str = ""
    files: str = ""
    delivery: str = ""
    recent: tuple[str, ...] = ()
    recordings: tuple[str, ...] = ()
    microphone: str = ""
    late_ms: dict[str, float] = {}
    parts: tuple[str, ...] = ()
    sound_format: str = ""
    bits: int = 0
    target_lufs: float | None = None
    names: str = ""

    def __post_init__(self) -> None:
        if self.theme not in THEMES or self.size_percent not in SIZES:
            raise ValueError("no such theme or size")
        if self.buffer_ms not in BUFFERS_MS:
            raise ValueError("no such buffer")


class Preferences:
    """Keeps the wishes in ``$XDG_CONFIG_HOME/cloudrift/settings.json``.

    A file that is missing or that somebody has broken counts as empty.
    """

    def __init__(self, folder: Path | None = None) -> None:
        self.file = (folder or user_config_path("cloudrift")) / FILE
        try:
            self.now = read_json(read_file(self.file, "settings"), FILE, Wishes)
        except CloudriftError:
            self.now = Wishes()

    def change(self, **what: Any) -> None:
        """Change some of the wishes and keep them.

        Raises CloudriftError if they could not be kept; they hold until the program ends.
        """
        self.now = msgspec.structs.replace(self.now, **what)
        body = msgspec.json.format(msgspec.json.encode(self.now), indent=1)
        make_folder(self.file.parent)
        write_atomically(self.file, lambda file: file.write(body))

    def remember(self, **what: Any) -> None:
        """Change what is only remembered: where it can't be kept, work goes on."""
        with contextlib.suppress(CloudriftError):
            self.change(**what)

    def opened(self, path: Path) -> None:
        """Put a loop file first among the recent ones."""
        path = path.resolve()
        text = path_text(path)
        others = (one for one in self.now.recent if one != text)
        self.remember(recent=(text, *others)[:MOST_RECENT])

    @property
    def recent(self) -> list[Path]:
        """The loop files opened or saved last that are still there."""
        # Not the path's own method, which raises for names that no disk takes.
        return [path for one in self.now.recent if os.path.isfile(path := path_of(one))]

    @property
    def folder(self) -> Path:
        """Where file dialogs begin."""
        chosen = path_of(self.now.files) if self.now.files else Path.home()
        return chosen if os.path.isdir(chosen) else Path.home()

    @property
    def recording_folders(self) -> list[Path]:
        """The folders that are listened to, whether they are there now or not."""
        return [path_of(one) for one in self.now.recordings]

    @property
    def delivery(self) -> Path:
        """Where to deliver, unless another folder is chosen."""
        return path_of(self.now.delivery) if self.now.delivery else self.folder / "Loops"
