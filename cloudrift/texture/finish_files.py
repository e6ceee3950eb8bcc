"""Finishes as files: those of the house, and a composer's own, one TOML file each."""

import functools
from functools import partial
from pathlib import Path

from msgspec.structs import replace
from platformdirs import user_data_path

from cloudrift.audio.files import make_folder, write_atomically
from cloudrift.ground.reading import read_folder, read_words, shipped
from cloudrift.texture.finish import Finish, read_finish, write_finish

SUFFIX = ".toml"


def own_folder() -> Path:
    """Return where own finishes are kept (``$XDG_DATA_HOME/cloudrift/finishes``)."""
    return user_data_path("cloudrift") / "finishes"


@functools.cache
def house_finishes() -> tuple[Finish, ...]:
    """Return the finishes that come with the program, by name."""
    made = shipped("cloudrift.texture", "finishes", partial(read_finish, house=True))
    return tuple(sorted(made, key=lambda finish: finish.name))


def own_finishes(folder: Path | None = None) -> tuple[list[Finish], list[str]]:
    """Return a composer's own finishes by name, and in words which files could not be read."""
    found, wrong = read_folder(
        folder or own_folder(),
        SUFFIX,
        lambda path: read_finish(read_words(path, "finish"), str(path)),
    )
    return sorted(found, key=lambda finish: finish.name), wrong


def save_finish(finish: Finish, folder: Path | None = None) -> Finish:
    """Write a finish into the folder and return it as it is called there.

    Where its name is taken, by an own finish or one of the house, it gets a number: nothing is
    overwritten.
    """
    folder = folder or own_folder()
    house = {one.slug for one in house_finishes()}
    name, number = finish.name, 1
    while finish.slug in house or (folder / f"{finish.slug}{SUFFIX}").exists():
        number += 1
        finish = replace(finish, name=f"{name} {number}")
    make_folder(folder)
    path = folder / f"{finish.slug}{SUFFIX}"
    body = write_finish(finish).encode()
    write_atomically(path, lambda file: file.write(body))
    return finish


def forget_finish(finish: Finish, folder: Path | None = None) -> None:
    """Remove an own finish's file."""
    ((folder or own_folder()) / f"{finish.slug}{SUFFIX}").unlink(missing_ok=True)
