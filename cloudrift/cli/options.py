"""Options that commands share: numbers that are numbers, and files that are written."""

import functools
import math
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

import click

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import either

Command = Callable[..., None]
# Said here too: what knows them takes half a second to load.
LOOP = ".cloudrift"
SOUND = (".wav", ".flac", ".ogg", ".mp3")


class Number(click.FloatRange):
    """A number in a range; what is no number (``nan``) or has no end (``inf``) is refused."""

    def convert(
        self, value: Any, param: click.Parameter | None, ctx: click.Context | None
    ) -> float:
        """Return the number; fail with the range in words."""
        made = click.FLOAT.convert(value, param, ctx)
        if not math.isfinite(made):
            self.fail(f"{value} is not a number that can be used here", param, ctx)
        return float(super().convert(value, param, ctx))


RECORDED_TEMPO = Number(20, 480)  # BPM that a recording may have


def variation_option(what: str) -> Callable[[Command], Command]:
    """Give a command ``--variation``; the same number gives the same ``what``."""
    return click.option(
        "--variation",
        type=int,
        default=1,
        show_default=True,
        help=f"Variation number: the same number gives the same {what}.",
    )


def output_option(
    *endings: str, what: str = "", required: bool = True
) -> Callable[[Command], Command]:
    """Give a command ``-o`` and ``--replace``; it gets ``output``, a path that may be written.

    ``endings`` are those of the files it can write; a path without one gets the first. What is
    there already is refused before any work is done, unless it is to be replaced.
    """

    def decorate(command: Command) -> Command:
        @functools.wraps(command)
        def run(*args: Any, output: Path | None, replace: bool, **given: Any) -> None:
            path = None if output is None else checked_output(output, endings, replace=replace)
            command(*args, output=path, **given)

        for option in (
            click.option("--replace", is_flag=True, help="Overwrite a file of that name."),
            click.option(
                "-o", "--output", required=required, type=click.Path(path_type=Path), help=what
            ),
        ):
            run = option(run)
        return run

    return decorate


def checked_output(path: Path, endings: tuple[str, ...], *, replace: bool = False) -> Path:
    """Return where to write; raise CloudriftError for an ending that says another kind of file, and
    for what is there and is not to be replaced.
    """
    named = path.suffix.lower()
    if named not in endings:
        # A title may have a dot in it; what ends as sound does is meant as sound.
        if named and (endings != (LOOP,) or named in SOUND):
            raise CloudriftError(
                f"{path}: the ending says what is written, and this can be {either(endings)}"
            )
        path = path.with_name(path.name + endings[0])
    if path.is_symlink():
        raise CloudriftError(f"{path} is a link; name the file itself")
    if os.path.lexists(path) and not replace:
        raise CloudriftError(
            f"{path} already exists; choose another name, or say --replace to overwrite it"
        )
    return path
