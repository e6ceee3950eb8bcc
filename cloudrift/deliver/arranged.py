"""Writing an arrangement: all of it, and the loop and the groove bed apart."""

from collections.abc import Callable
from pathlib import Path

from msgspec.structs import replace

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.clips import ClipStore
from cloudrift.audio.files import make_folder, write_wav
from cloudrift.deliver.names import stem_of
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.wanted import Cancelled, never
from cloudrift.loop.document import Document
from cloudrift.render.cache import AudioCache
from cloudrift.render.engine import Engine
from cloudrift.render.timeline import whole

CACHE_BYTES = 320 << 20  # of what is made once for a file, little is needed twice
Progress = Callable[[int, int, str], object]


def without_loop(document: Document) -> Document:
    """Return a document in which no layer plays in any section: the groove bed alone."""
    return _with_all(document, bed=None, layers=False)


def without_bed(document: Document) -> Document:
    """Return a document in which the groove bed plays in no section."""
    return _with_all(document, bed=False, layers=None)


def _with_all(document: Document, *, bed: bool | None, layers: bool | None) -> Document:
    sections = []
    for section in document.arrangement.sections:
        made = section if bed is None else replace(section, bed=bed)
        if layers is not None:
            for layer in document.loop.layers:
                made = made.with_part(replace(made.part(layer.id), on=layers))
            made = replace(made, seam=replace(made.seam, riser_bars=0.0, crash_db=-60.0,
                                              tag_db=-60.0))  # fmt: skip
        sections.append(made)
    arrangement = replace(document.arrangement, sections=tuple(sections), line=())
    return replace(document, arrangement=arrangement)


def deliver_all(
    document: Document, folder: Path, *, stems: bool = False, bits: int = 24, rate: int = 0,
    clips: ClipStore | None = None, progress: Progress | None = None,
    cancelled: Callable[[], bool] = never,
) -> list[Path]:  # fmt: skip
    """Write the arrangement into a folder (made if need be) and return the paths.

    ``stems``: also the loop and the groove bed apart, each with its own seams, before the line of
    all of it. Everything is computed anew; files are written whole. Raises CloudriftError and
    Cancelled.
    """
    if not document.arrangement.sections:
        raise CloudriftError("there is no arrangement yet; draw a form with cloudrift arrange")
    loop = document.loop
    if rate and rate != loop.rate:
        document = document.with_loop(replace(loop, rate=rate))
    make_folder(folder, "; choose another")
    name = stem_of(loop.title, loop.sounding_tempo, loop.sounding_key)
    todo = [(f"{name}_arranged.wav", document, "arranged")]
    if stems:
        todo.append((f"{name}_arranged_loop.wav", without_bed(document), "the loop, arranged"))
        if loop.bed is not None:
            todo.append((f"{name}_arranged_bed.wav", without_loop(document),
                         "the groove bed, arranged"))  # fmt: skip
    done = []
    for number, (file, what, words) in enumerate(todo):
        if cancelled():
            raise Cancelled
        engine = Engine(cache=AudioCache(CACHE_BYTES), clips=clips)
        try:
            count = len(todo) * len(what.arrangement.sections)
            first = number * len(what.arrangement.sections)
            audio, _pieces = whole(
                engine, what, cancelled,
                lambda one, _of: progress and progress(first + one, count, file),  # noqa: B023
            )  # fmt: skip
        finally:
            engine.close()
        _write(folder / file, audio, what, bits, words)
        done.append(folder / file)
    return done


def _write(path: Path, audio: Stereo, document: Document, bits: int, words: str) -> None:
    loop = document.loop
    sections = ", ".join(f"{one.name} ({one.bars})" for one in document.arrangement.sections)
    write_wav(
        path, audio, loop.rate, bits=bits, title=f"{loop.title}: {words}", loop=False,
        comment=f"key {loop.sounding_key.plain}, tempo {loop.sounding_tempo:.2f} BPM; {sections}",
        tempo=loop.sounding_tempo, beats=document.arrangement.bars * loop.metre[0],
        root_pitch=60 + loop.sounding_key.pc, metre=loop.metre,
    )  # fmt: skip
