"""Which files are sampled instruments, what is in one, and reading it."""

from pathlib import Path

from cloudrift.ground.reading import reading
from cloudrift.sound.sampled.sf2 import presets_in, read_sf2
from cloudrift.sound.sampled.sfz import read_sfz
from cloudrift.sound.sampled.zones import Sampled

SUFFIXES = frozenset({".sf2", ".sfz"})


def is_sampled(path: Path) -> bool:
    """Say whether a file is named as a sampled instrument."""
    return path.suffix.lower() in SUFFIXES


def names_in(path: Path) -> list[str]:
    """Return the names of the instruments in a file: one of an SFZ, each preset of an SF2.

    Raises CloudriftError that says what is wrong with the file.
    """
    if path.suffix.lower() == ".sfz":
        return [path.stem]
    with reading(str(path), "sampled instrument"):
        return presets_in(path)


def read_sampled(path: Path, number: int = 0) -> Sampled:
    """Return an instrument of a file, by its number among those that are in it.

    Raises CloudriftError that says what is wrong with the file.
    """
    with reading(str(path), "sampled instrument"):
        return read_sfz(path) if path.suffix.lower() == ".sfz" else read_sf2(path, number)
