"""Writing a kit: every loop on all cores, sheets, one-shots, a zip; stopped and gone on with."""

import functools
import hashlib
import io
import os
import zipfile
from collections.abc import Callable, Collection, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass
from multiprocessing import get_context
from pathlib import Path
from typing import Any

from cloudrift.audio.clips import ClipStore
from cloudrift.audio.files import make_folder, write_atomically
from cloudrift.audio.sound_file import write_sound
from cloudrift.audio.stretch_child import stand_behind
from cloudrift.deliver import kit_sheet, rights
from cloudrift.deliver.kit import CACHE_BYTES, Cover, Kit, LoopSummary, looked_of
from cloudrift.deliver.kit_progress import (
    KitOrder,
    Made,
    content_of,
    done_before,
    is_there,
    numbers_of,
    orders_of,
    remember,
    with_demo,
)
from cloudrift.deliver.making import Making
from cloudrift.deliver.one_shots import OneShot, one_shots
from cloudrift.deliver.order import Order
from cloudrift.deliver.parcels import keep_below_full_scale, parcels
from cloudrift.ground.cancel import Cancelled, never
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.interrupts import held_back, leave_to_parent
from cloudrift.loop.files.storage import load_document
from cloudrift.loop.model.document import Document
from cloudrift.render.engine.cache import AudioCache
from cloudrift.render.engine.engine import Engine

FOLDERS = {
    "loop": "loops", "bare": "loops", "pass": "loops", "long": "loops", "stems": "stems",
    "dry": "stems", "voice": "stems", "bass": "stems", "midi": "midi", "heard midi": "midi",
    "layer midi": "midi", "pieces": "pieces", "prints": "prints", "bed": "groove beds",
    "arrangement": "arrangements", "demo": "demo files", "rights": "rights",
}  # fmt: skip
ONE_SHOTS = "one-shots"
PREVIEWS, PREVIEW_LUFS = ".previews", -20.0  # all of one loudness, as far as peaks allow
LOOK_S = 0.1
Progress = Callable[[int, int, str], object]


@dataclass(frozen=True, kw_only=True)
class Written:
    """What came of it: files, in order, and what went wrong with which loop."""

    paths: tuple[Path, ...]
    problems: tuple[str, ...]
    looked: tuple[LoopSummary, ...]


def write_kit(
    kit: Kit,
    out: Path,
    how: KitOrder,
    *,
    progress: Progress = lambda _d, _o, _w: None,
    cancelled: Callable[[], bool] = never,
) -> Written:
    """Write a kit into a folder of its own, on all cores, and return what was written.

    Every file is whole or not there. What was finished before a stop stays, is listed in
    ``kit.json``, and is not made again; the end is the same to the last bit. A loop that cannot be
    read or written is told of, the others are written. Raises CloudriftError where the folder has
    something else in it, and Cancelled.
    """
    if out.resolve() == kit.folder.resolve():
        raise CloudriftError(f"{out} is the kit's own folder; export into another one")
    make_folder(out, "; choose another")
    before, listed = done_before(out, how)
    numbers = numbers_of(kit, how)
    found: dict[str, Made] = {}
    problems = list(kit.problems)
    todo = []
    for path in kit.files:
        had = before.get(path.name)
        if had is not None and had.number == numbers[path.name] and is_there(out, path, had):
            found[path.name] = had
        else:
            todo.append(path)
    steps = len(kit.files) + 2
    progress(len(found), steps, "")

    def came(path: Path, made: Made) -> None:
        found[path.name] = made
        if made.looked.problem:
            problems.append(made.looked.problem)
        remember(out, how, found, sorted(listed))
        progress(len(found), steps, path.name)

    _beside(todo, out, how, numbers, came, cancelled)
    made = [found[path.name] for path in kit.files]
    paths = [out / name for one in made for name, _size in one.files]
    documents = _documents(kit, [one.file for one in made if not one.looked.problem])
    if how.order.asks("sounds"):
        progress(len(kit.files), steps, "one-shots")
        paths += _write_sounds(documents, out, how, cancelled)
    if documents:  # else the sheets would be of nothing
        progress(len(kit.files) + 1, steps, "sheets")
        paths += _write_sheets(kit, documents, made, out)
    names = {str(path.relative_to(out)) for path in paths} | {one.preview for one in made}
    for name in listed - names:  # of loops that are gone, or were written otherwise
        (out / name).unlink(missing_ok=True)
    remember(out, how, found, sorted(names))
    if how.zipped and paths:
        if cancelled():
            raise Cancelled
        paths.append(_write_zip(out, kit.name, paths))
    progress(steps, steps, "")
    return Written(
        paths=tuple(paths), problems=tuple(problems), looked=tuple(one.looked for one in made)
    )


# --- beside each other ----------------------------------------------------------------------------

_stop: Any = None  # of a process: whether what it does is still wanted


def _begin(parent: int, stop: Any) -> None:
    global _stop  # noqa: PLW0603 - what a process is told at its beginning
    leave_to_parent()
    stand_behind(parent)
    _stop = stop


def _beside(
    todo: Sequence[Path],
    out: Path,
    how: KitOrder,
    numbers: dict[str, int],
    came: Callable[[Path, Made], object],
    cancelled: Callable[[], bool],
) -> None:
    if not todo:
        return
    context = get_context("spawn")
    stop = context.Event()
    workers = min(len(todo), os.cpu_count() or 1)
    pool = ProcessPoolExecutor(workers, context, _begin, (os.getpid(), stop))
    try:
        with held_back():
            running: dict[Future[Made], Path] = {
                pool.submit(_make, path, out, how, numbers[path.name]): path for path in todo
            }
        while running:
            ready, _rest = wait(running, timeout=LOOK_S, return_when=FIRST_COMPLETED)
            for future in ready:
                path = running.pop(future)
                came(path, future.result())
            if cancelled():
                raise Cancelled
    except BrokenProcessPool as error:
        raise CloudriftError(
            "a process that wrote the kit was ended from outside (is there enough memory?); what "
            "was finished stays, export again to resume"
        ) from error
    finally:
        stop.set()
        pool.shutdown(wait=True, cancel_futures=True)


def _make(path: Path, out: Path, how: KitOrder, number: int) -> Made:
    """Write one loop of a kit, in a process of its own."""
    stopped = _stop.is_set if _stop is not None else never
    content = content_of(path)
    clips = ClipStore()
    engine = Engine(cache=AudioCache(CACHE_BYTES), clips=clips)
    try:
        document = with_demo(load_document(path, clips), how)
        if not document.loop.heard():
            raise CloudriftError("nothing plays in it; turn a layer on in Layers")
        files = _deliver(document, out, how, number, engine, stopped)
        looked = looked_of(path, document, engine, stopped)  # after that: what is written is as if
        preview = _preview(document, out, path, engine, stopped)  # nothing else had been made
        sizes = tuple((name, (out / name).stat().st_size) for name in files)
        return Made(
            file=path.name,
            content=content,
            looked=looked,
            files=sizes,
            preview=preview,
            number=number,
        )
    except CloudriftError as error:
        told = str(error) if path.name in str(error) else f"{path.name}: {error}"
        looked = LoopSummary(file=path.name, title=path.stem, problem=told)
        return Made(file=path.name, content=content, looked=looked)
    finally:
        engine.close()


def _deliver(
    document: Document,
    out: Path,
    how: KitOrder,
    number: int,
    engine: Engine,
    stopped: Callable[[], bool],
) -> list[str]:
    done: list[str] = []
    for order in orders_of(how):
        making = Making(document, order, engine, stopped)
        todo = parcels(document, order, number)
        keep_below_full_scale(making, todo, lambda done_before, _name: None)
        for parcel in todo:
            if stopped():
                raise Cancelled
            name = f"{FOLDERS[parcel.part]}/{parcel.name}"
            if name in done:  # what is no sound is the same in every format
                continue
            try:
                make_folder(out / FOLDERS[parcel.part])
                parcel.write(out / name, making)
            except CloudriftError:
                for one in done:  # some files of a loop are no delivery of it
                    (out / one).unlink(missing_ok=True)
                raise
            done.append(name)
    return done


def _preview(
    document: Document, out: Path, path: Path, engine: Engine, stopped: Callable[[], bool]
) -> str:
    """Write a loop as a small Ogg file for the page, beside what is there to go on with."""
    making = Making(document, Order(format_name="ogg", target_lufs=PREVIEW_LUFS), engine, stopped)
    audio = making.finished(making.treated()).audio
    make_folder(out / PREVIEWS)
    name = f"{hashlib.sha256(path.name.encode()).hexdigest()[:16]}.ogg"
    write_sound(out / PREVIEWS / name, audio, document.loop.rate, format_name="ogg")
    return f"{PREVIEWS}/{name}"


# --- going on -------------------------------------------------------------------------------------


# --- sheets ---------------------------------------------------------------------------------------


def _documents(kit: Kit, written: Collection[str]) -> dict[str, Document]:
    """The loops that were written, by file."""
    out = {}
    for path in kit.files:
        if path.name not in written:
            continue
        try:
            out[path.name] = load_document(path)
        except CloudriftError:
            continue
    return out


def _write_sounds(
    documents: dict[str, Document], out: Path, how: KitOrder, cancelled: Callable[[], bool]
) -> list[Path]:
    """Each sound that any loop uses, once."""
    found: dict[Any, tuple[OneShot, Document]] = {}
    for document in documents.values():
        for one in one_shots(document):
            found.setdefault((one.use, one.pitch), (one, document))
    folder = out / ONE_SHOTS
    make_folder(folder)
    paths: list[Path] = []
    engine = Engine(cache=AudioCache(CACHE_BYTES))
    try:
        for one, document in found.values():
            if cancelled():
                raise Cancelled
            if one.use.own is not None and not one.use.own.house:
                continue  # its recordings are in its own loop's folder
            audio = one.render(engine, document.loop.rate)
            for order in orders_of(how):
                name = one.file_name
                count = 2
                while (path := folder / f"{name}.{order.format_name}") in paths:
                    name, count = f"{one.file_name}-{count}", count + 1
                write_sound(
                    path, audio, document.loop.rate, format_name=order.format_name, bits=order.bits
                )
                paths.append(path)
    finally:
        engine.close()
    return paths


def _write_sheets(
    kit: Kit, documents: dict[str, Document], made: Sequence[Made], out: Path
) -> list[Path]:
    sheets = {name: rights.rights_of(document) for name, document in documents.items()}
    sheet = rights.rights_of_kit(kit.name, list(sheets.values()))
    looked = [one.looked for one in made]
    licences = {name: one.licence_words for name, one in sheets.items()}
    previews = {one.file: (out / one.preview).read_bytes() for one in made if one.preview}
    files = {
        one.file: [name for name, _size in one.files if name.startswith("loops/")] for one in made
    }
    texts = {
        "kit.txt": kit_sheet.as_text(kit.name, kit.cover, looked, sheet),
        "kit.csv": kit_sheet.as_csv(looked, licences),
        "kit.html": kit_sheet.as_html(kit.name, kit.cover, looked, sheet, previews, files),
        "rights.txt": rights.as_text(sheet),
        "rights.csv": rights.as_csv(sheet),
        "rights.html": rights.as_html(sheet),
        "rights.json": rights.as_json(sheet),
    }
    for name, text in texts.items():
        write_atomically(out / name, functools.partial(_put, text.encode()), follow_link=False)
    return [out / name for name in texts]


def _put(body: bytes, file: io.BufferedIOBase) -> None:
    file.write(body)


def _write_zip(out: Path, name: str, paths: Sequence[Path]) -> Path:
    """All of it in one file beside its folder; sound is packed already."""
    target = out.with_name(f"{out.name}.zip")

    def write(file: io.BufferedIOBase) -> None:
        with zipfile.ZipFile(file, "w") as archive:
            for path in paths:
                info = zipfile.ZipInfo(f"{name}/{path.relative_to(out)}", (1980, 1, 1, 0, 0, 0))
                small = path.suffix in (".txt", ".csv", ".html", ".json", ".mid")
                info.compress_type = zipfile.ZIP_DEFLATED if small else zipfile.ZIP_STORED
                archive.writestr(info, path.read_bytes())

    write_atomically(target, write, follow_link=False)
    return target


__all__ = ["Cover", "KitOrder", "Made", "Written", "write_kit"]
