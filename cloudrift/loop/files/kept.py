"""Loops that are kept to be used again: templates to begin from, and rows of chords.

Each is a loop file in a folder of its own; a row is a loop with nothing but chords.
"""

from dataclasses import dataclass
from pathlib import Path

from msgspec.structs import replace
from platformdirs import user_data_path

from cloudrift.audio.clips import ClipStore
from cloudrift.audio.files import make_folder
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.reading import read_folder
from cloudrift.ground.words import for_a_file, free_name, plural
from cloudrift.loop.edits.chords.metre import metre_text, set_metre
from cloudrift.loop.edits.chords.progression import put_chords
from cloudrift.loop.edits.loop_edits import set_bars, set_key
from cloudrift.loop.files.storage import SUFFIX, load, save
from cloudrift.loop.model.loop import Loop


@dataclass(frozen=True)
class Kept:
    """A loop that is kept, and its file. It is called as the loop is."""

    loop: Loop
    file: Path

    @property
    def name(self) -> str:
        """What it is called."""
        return self.loop.title

    @property
    def about(self) -> str:
        """What it is, in a line."""
        loop = self.loop
        return ", ".join(
            (
                loop.key.text,
                f"{loop.tempo:g} BPM",
                plural(loop.bars, "bar"),
                metre_text(loop.metre),
                plural(len(loop.chords), "chord"),
                plural(len(loop.layers), "layer"),
            )
        )


def template_folder() -> Path:
    """Return where templates are kept (``$XDG_DATA_HOME/cloudrift/templates``)."""
    return user_data_path("cloudrift") / "templates"


def row_folder() -> Path:
    """Return where rows of chords are kept (``$XDG_DATA_HOME/cloudrift/rows``)."""
    return user_data_path("cloudrift") / "rows"


def kept_in(folder: Path) -> tuple[list[Kept], list[str]]:
    """Return what is kept in a folder, by name, and in words which files could not be read.

    Recordings are not looked at; whoever takes one reads its file.
    """
    found, wrong = read_folder(folder, SUFFIX, lambda path: Kept(load(path), path))
    return sorted(found, key=lambda one: one.name.casefold()), wrong


def keep(loop: Loop, name: str, folder: Path, clips: ClipStore | None = None) -> Kept:
    """Keep a loop under a name, with its recordings out of a store, and return it.

    Where the name is taken, it gets a number.
    """
    name = name.strip()
    if not name:
        raise CloudriftError("it needs a name; type at least one letter")
    make_folder(folder)
    plain = for_a_file(name.replace("/", "-").lstrip(".")) or "loop"
    stem = free_name(plain, (path.stem for path in folder.glob(f"*{SUFFIX}")))
    name += stem[len(plain) :]  # the number that the file got, if any
    one = Kept(replace(loop, title=name, kit=""), folder / f"{stem}{SUFFIX}")
    save(one.loop, one.file, clips)
    return one


def forget(one: Kept) -> None:
    """Remove what is kept."""
    one.file.unlink(missing_ok=True)


# --- rows ---------------------------------------------------------------------------------------


def row_of(loop: Loop) -> Loop:
    """Return a loop's chords, with their rhythm and touch, and nothing else of it."""
    if not loop.chords:
        raise CloudriftError("there are no chords to save; add some first")
    return replace(loop, layers=(), groups=(), line=(), line_blend=1.0, style="")


def take_row(loop: Loop, row: Loop) -> Loop:
    """Put a kept row in the place of a loop's chords, in the loop's key and metre.

    One that is shorter than the loop comes again until it is full; a longer one makes it longer.
    """
    row = set_metre(set_key(row, loop.key), loop.metre)
    bars = max(row.bars, loop.bars)
    return put_chords(loop, set_bars(row, bars).chords, bars=bars)
