"""What a composer has chosen for the program itself, and what it remembers for them."""

import contextlib
import os
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
from filelock import FileLock, Timeout
from platformdirs import user_config_path

from cloudrift.audio.files import PRIVATE, keep_private, make_folder, write_atomically
from cloudrift.devices.speaker import BUFFER_MS, BUFFERS_MS
from cloudrift.ground.errors import CloudriftError, WriteError
from cloudrift.ground.paths import path_of, path_text
from cloudrift.ground.reading import read_file, read_json

FILE, BACKUP = "settings.json", "settings.json.bak"
LOCKED_S = 1.0  # how long another program may hold the file
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
    ``bits``, ``target_lufs`` and ``names`` are what was written last, and how; ``window_px`` and
    ``window_at`` are how large the window was last, and where; ``pane_px`` is how wide its side
    pane was, ``stage`` which stage was open; ``steps_left``: the first steps do not come any more;
    ``ruler``: the pitch ruler is shown.
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
    window_px: tuple[int, int] | None = None
    window_at: tuple[int, int] | None = None
    pane_px: int = 0
    stage: int = 0
    steps_left: bool = False
    ruler: bool = False

    def __post_init__(self) -> None:
        for name, allowed in (
            ("theme", THEMES),
            ("size_percent", SIZES),
            ("buffer_ms", BUFFERS_MS),
        ):
            if getattr(self, name) not in allowed:
                one_of = ", ".join(str(one) for one in allowed if one != "")
                raise ValueError(f"{name} is {getattr(self, name)!r}, but must be one of {one_of}")


_FIELDS = {one.name: one for one in msgspec.structs.fields(Wishes)}


def _problem_of(name: str, value: Any) -> str:
    """Say what is wrong with a value of a file; nothing where it is allowed."""
    try:
        msgspec.convert({name: value}, Wishes)
    except msgspec.ValidationError as error:
        return str(error).replace("`$.", "`")
    return ""


def _wishes_of(raw: dict[str, Any]) -> Wishes:
    return msgspec.convert({name: raw[name] for name in raw if name in _FIELDS}, Wishes)


class Preferences:
    """Keeps the wishes in ``$XDG_CONFIG_HOME/cloudrift/settings.json``, field by field.

    Several running programs share the file: each writes only what was changed in it, under a lock.
    What a newer program has put there stays. A value that is not allowed counts as its default; the
    file as it was is kept beside it (``BACKUP``), and ``wrong`` says what it was, in sentences.
    """

    def __init__(self, folder: Path | None = None) -> None:
        self.file = (folder or user_config_path("cloudrift")) / FILE
        self.wrong: tuple[str, ...] = ()
        raw, self.wrong = self._read()
        self.now = _wishes_of(raw)

    def _read(self) -> tuple[dict[str, Any], tuple[str, ...]]:
        """Return what can be used of the file, and what of it can't."""
        try:
            raw = read_json(read_file(self.file, "settings"), FILE, dict[str, Any])
        except CloudriftError as error:
            if not self.file.is_file():
                return {}, ()
            self._keep_backup()
            return {}, (
                f"The settings could not be read ({error}); defaults are used, and the "
                f"file is kept as {BACKUP}",
            )
        wrong = []
        for name in [*raw]:
            if name in _FIELDS and (problem := _problem_of(name, raw[name])):
                wrong.append(
                    f"{FILE}: {problem}; the default is used, and the file is kept as {BACKUP}"
                )
                del raw[name]
        if wrong:
            self._keep_backup()
        return raw, tuple(wrong)

    def _keep_backup(self) -> None:
        with contextlib.suppress(OSError):
            shutil.copyfile(self.file, self.file.with_name(BACKUP))
            keep_private(self.file.with_name(BACKUP))

    def change(self, **what: Any) -> None:
        """Change some of the wishes and keep them.

        Raises CloudriftError if they could not be kept; they apply until the program ends.
        """
        self._change(lambda _now: what)

    def _change(self, changes: Callable[[Wishes], dict[str, Any]]) -> None:
        """Change what is in the file now, which another program may have written meanwhile."""
        self.now = msgspec.structs.replace(self.now, **changes(self.now))
        make_folder(self.file.parent)
        try:
            with FileLock(self.file.with_suffix(".lock"), timeout=LOCKED_S, mode=PRIVATE):
                raw, _wrong = self._read()
                there = _wishes_of(raw)
                what = changes(there)
                self.now = msgspec.structs.replace(there, **what)
                raw |= {name: msgspec.to_builtins(value) for name, value in what.items()}
                body = msgspec.json.format(msgspec.json.encode(raw), indent=1)
                write_atomically(self.file, lambda file: file.write(body), new_mode=PRIVATE)
                keep_private(self.file)
        except (OSError, Timeout) as error:
            raise WriteError(
                f"the settings could not be kept in {self.file}: {error}; they hold until the "
                "program ends"
            ) from error

    def remember(self, **what: Any) -> None:
        """Change what is only remembered: where it can't be kept, work goes on."""
        with contextlib.suppress(CloudriftError):
            self.change(**what)

    def opened(self, path: Path) -> None:
        """Put a loop file first among the recent ones."""
        path = path.resolve()
        text = path_text(path)

        def first(now: Wishes) -> dict[str, Any]:
            others = (one for one in now.recent if one != text)
            return {"recent": (text, *others)[:MOST_RECENT]}

        with contextlib.suppress(CloudriftError):
            self._change(first)

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
