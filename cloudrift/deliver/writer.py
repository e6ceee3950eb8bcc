"""Writing an order: every file whole or not at all."""

from collections.abc import Callable, Collection, Iterable
from pathlib import Path

from cloudrift.audio.clips import ClipStore
from cloudrift.audio.files import make_folder, write_atomically
from cloudrift.deliver.making import Making
from cloudrift.deliver.midi_parcels import midi_of
from cloudrift.deliver.order import Order
from cloudrift.deliver.parcels import free_number, keep_below_full_scale, parcels
from cloudrift.ground.cancel import Cancelled, never
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.layer import Layer
from cloudrift.loop.model.loop import Loop
from cloudrift.render.engine.engine import Engine

Progress = Callable[[int, int, str], None]  # done, of, file name


def deliver(
    what: Loop | Document,
    folder: Path,
    order: Order,
    *,
    clips: ClipStore | None = None,
    number: int = 0,
    only: Collection[str] | None = None,
    progress: Progress | None = None,
    cancelled: Callable[[], bool] = never,
) -> list[Path]:
    """Write all files of an order into a folder (made if need be) and return their paths.

    Where a file of one of the names is there, all names get a number: nothing that was delivered
    is lost, and one delivery stays one set. A ``number`` that is given is taken instead; 1 is none,
    and overwrites. ``only`` names those files of it that are wanted.
    ``clips`` has the recordings that the loop names.
    Each file is written whole or not at all; a cancelled delivery leaves the files that were
    finished. Everything is computed again: a file depends on its loop to the last bit, not on the
    edits that led there. Raises CloudriftError that names the file at fault, FullScaleError before
    anything is written where a file would clip and the order does not lower all, and Cancelled.
    """
    document = Document.of(what)
    if not document.loop.heard():
        raise CloudriftError("no layer plays, so there is nothing to export; turn one on in Layers")
    make_folder(folder, "; choose another")
    todo = [
        one
        for one in parcels(document, order, number or free_number(document, order, folder))
        if only is None or one.name in only
    ]
    if not todo:
        raise CloudriftError("this loop has none of the selected parts; choose others to export")
    done = []
    engine = Engine(clips=clips)
    try:
        making = Making(document, order, engine, cancelled)
        count = 2 * len(todo)

        def moved(at: int, name: str) -> None:
            if progress:
                progress(at, count, name)

        keep_below_full_scale(making, todo, moved)
        for i, parcel in enumerate(todo, len(todo)):
            if cancelled():
                raise Cancelled
            moved(i, parcel.name)
            parcel.write(folder / parcel.name, making)
            done.append(folder / parcel.name)
    finally:
        engine.close()
    moved(count, "")
    return done


def write_midi(path: Path, loop: Loop, layers: Iterable[Layer]) -> None:
    """Write layers' notes as played, a track a layer."""
    data = midi_of(loop, list(layers))
    write_atomically(path, lambda file: file.write(data), follow_link=False)
