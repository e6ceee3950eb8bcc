"""The command that renders loop files, several beside each other."""

import multiprocessing
import os
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from pathlib import Path
from typing import Any

import click

from cloudrift.cli.options import Number
from cloudrift.cli.terminal import say
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.interrupts import held_back, leave_to_parent


@click.command()
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("-o", "--output", type=click.Path(path_type=Path), required=True, help="Folder.")
@click.option("--stems", is_flag=True, help="Also a stem of every layer, and their sum.")
@click.option("--midi", is_flag=True, help="Also the notes as MIDI.")
@click.option("--bed", is_flag=True, help="Also the groove bed.")
@click.option(
    "--part", "parts", multiple=True, metavar="PART", help="Also this part; 'list' lists them."
)
@click.option("--preset", help="A preset of parts: Loop alone, Loop and stems, …")
@click.option(
    "--format", "format_name", default="wav", show_default=True, help="wav, flac, ogg or mp3."
)
@click.option("--bits", type=click.Choice(["16", "24", "32"]), default="24", show_default=True)
@click.option(
    "--rate", type=click.Choice(["44100", "48000", "96000"]), help="The loop's own if not given."
)
@click.option("--once", is_flag=True, help="One pass with its tail, instead of the loop.")
@click.option(
    "--target", type=Number(), metavar="LUFS", help="Target loudness of the loop, e.g. -14."
)
@click.option("--lower", is_flag=True, help="Turn all files of a loop down where one would clip.")
@click.option("--no-dither", is_flag=True, help="Integers without dither.")
@click.option("--names", "pattern", help="Pattern of names: {title}_{tempo}_{key}_{part}.")
@click.option(
    "--all",
    "all_",
    is_flag=True,
    help="The whole arrangement; with --stems also the loop and the groove bed separately.",
)
@click.option(
    "--replace",
    is_flag=True,
    help="Overwrite files of the same names; otherwise new ones are numbered.",
)
def render(
    files: tuple[Path, ...],
    output: Path,
    stems: bool,
    midi: bool,
    bed: bool,
    parts: tuple[str, ...],
    preset: str | None,
    format_name: str,
    bits: str,
    rate: str | None,
    once: bool,
    target: float | None,
    lower: bool,
    no_dither: bool,
    pattern: str | None,
    all_: bool,
    replace: bool,
) -> None:
    """Render loop files to audio, stems, MIDI and sheets in a folder."""
    from cloudrift.deliver import PARTS, Order  # noqa: PLC0415
    from cloudrift.deliver.names import PATTERN  # noqa: PLC0415
    from cloudrift.deliver.order import find_preset  # noqa: PLC0415

    if "list" in parts:
        for one in PARTS.values():
            say(f"{one.name}: {one.label}: {one.about}")
        return
    if all_:
        for file in files:
            for path in _render_all(
                file, output, stems=stems, bits=int(bits), rate=int(rate or 0), lower=lower
            ):
                say(str(path))
        return
    flags = (("stems", stems), ("midi", midi), ("bed", bed))
    wanted = find_preset(preset) if preset else ("loop",)
    wanted = (*wanted, *(name for name, on in flags if on), *parts)
    order = Order(
        parts=tuple(dict.fromkeys(wanted)),
        format_name=format_name,
        bits=int(bits),
        rate=int(rate or 0),
        once=once,
        dither=not no_dither,
        lower=lower,
        target_lufs=target,
        pattern=pattern or PATTERN,
    )
    numbers = [1] * len(files) if replace else _numbers(files, output, order)
    if len(files) == 1:
        for path in _render_with_bar(files[0], output, order, numbers[0]):
            say(str(path))
    else:
        _render_beside(files, output, order, numbers)


def _render_beside(files: Sequence[Path], output: Path, order: Any, numbers: Sequence[int]) -> None:
    """Render several files on all cores, and print what was written as it comes."""
    # Started again rather than forked: a fork would copy locks that rendering threads hold.
    context = multiprocessing.get_context("spawn")
    workers = min(len(files), os.cpu_count() or 1)
    pool = ProcessPoolExecutor(workers, context, initializer=leave_to_parent)
    count = len(files)
    try:
        with held_back():  # what starts now never hears of it
            rendered = pool.map(_render_quietly, files, [output] * count, [order] * count, numbers)
        for paths in rendered:
            for path in paths:
                say(str(path))
    except BrokenProcessPool as error:
        raise CloudriftError(
            "a rendering process was ended from outside (is there enough memory?); the files "
            "listed "
            "are complete; render the rest again"
        ) from error
    except KeyboardInterrupt:
        for process in multiprocessing.active_children():
            process.terminate()
        raise
    finally:
        pool.shutdown(cancel_futures=True)


def _numbers(files: Sequence[Path], folder: Path, order: Any) -> list[int]:
    """The number of each delivery, so that none overwrites what is there or another of them."""
    from cloudrift.deliver import free_number, parcels  # noqa: PLC0415
    from cloudrift.loop.files.storage import load_document  # noqa: PLC0415

    claimed: set[str] = set()
    numbers = []
    for file in files:
        document = load_document(file)
        numbers.append(free_number(document, order, folder, claimed))
        claimed |= {parcel.name for parcel in parcels(document, order, numbers[-1])}
    return numbers


def _render_all(
    file: Path, folder: Path, *, stems: bool, bits: int, rate: int, lower: bool
) -> list[Path]:
    from rich.console import Console  # noqa: PLC0415
    from rich.progress import Progress  # noqa: PLC0415

    from cloudrift.audio.clips import ClipStore  # noqa: PLC0415
    from cloudrift.deliver.arranged import deliver_all  # noqa: PLC0415
    from cloudrift.loop.files.storage import load_document  # noqa: PLC0415

    clips = ClipStore()
    document = load_document(file, clips)
    with Progress(console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task("rendering", total=None)
        return deliver_all(
            document,
            folder,
            stems=stems,
            bits=bits,
            rate=rate,
            lower=lower,
            clips=clips,
            progress=lambda done, of, name: bar.update(
                task, completed=done, total=of, description=name
            ),
        )


def _render_with_bar(file: Path, folder: Path, order: Any, number: int) -> list[Path]:
    from rich.console import Console  # noqa: PLC0415
    from rich.progress import Progress  # noqa: PLC0415

    from cloudrift.audio.clips import ClipStore  # noqa: PLC0415
    from cloudrift.deliver import deliver  # noqa: PLC0415
    from cloudrift.loop.files.storage import load_document  # noqa: PLC0415

    clips = ClipStore()
    document = load_document(file, clips)
    with Progress(console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task("rendering", total=None)
        return deliver(
            document,
            folder,
            order,
            clips=clips,
            number=number,
            progress=lambda done, of, name: bar.update(
                task, completed=done, total=of, description=name or "done"
            ),
        )


def _render_quietly(file: Path, folder: Path, order: Any, number: int) -> list[Path]:
    from cloudrift.audio.clips import ClipStore  # noqa: PLC0415
    from cloudrift.deliver import deliver  # noqa: PLC0415
    from cloudrift.loop.files.storage import load_document  # noqa: PLC0415

    clips = ClipStore()
    return deliver(load_document(file, clips), folder, order, clips=clips, number=number)
