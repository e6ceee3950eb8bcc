"""A kit that has been begun: what of it is there already, and which number each loop has."""

import dataclasses
import hashlib
import itertools
import json
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import msgspec

from cloudrift import __version__
from cloudrift.audio.files import write_atomically
from cloudrift.deliver.kit import Kit, LoopSummary
from cloudrift.deliver.order import Order
from cloudrift.deliver.parcels import parcels
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.files.storage import load_document
from cloudrift.loop.model.demo_file import suggest_demo
from cloudrift.loop.model.document import Document

DONE = "kit.json"  # what is there already, to go on with


@dataclass(frozen=True, kw_only=True)
class KitOrder:
    """How a kit is written: each loop by ``order``, in these ``formats``; demo files, a zip."""

    order: Order
    formats: tuple[str, ...] = ("wav",)
    demo: bool = False
    zipped: bool = False

    @property
    def mark(self) -> str:
        """What tells two of them apart."""
        text = repr((__version__, self.order, self.formats, self.demo))
        return hashlib.sha256(text.encode()).hexdigest()[:24]


class Made(msgspec.Struct, frozen=True, kw_only=True):
    """A loop of a kit as it was written: of which content, what it is like, its files.

    ``number`` is part of its names, where another loop has the same.
    """

    file: str
    number: int = 1
    content: str
    looked: LoopSummary
    files: tuple[tuple[str, int], ...] = ()  # from the kit's folder, and their bytes
    preview: str = ""


def content_of(path: Path) -> str:
    """Return what tells whether a loop file is still the one that was written."""
    return hashlib.sha256(path.read_bytes()).hexdigest()[:24]


def done_before(out: Path, how: KitOrder) -> tuple[dict[str, Made], set[str]]:
    """What was finished before in a folder, and all that was ever written there; raise where it is
    another's.
    """
    path = out / DONE
    if not path.exists():
        strange = [one.name for one in out.iterdir() if not one.name.startswith(".")]
        if strange:
            raise CloudriftError(
                f"{out} contains something else ({strange[0]}); choose an empty folder"
            )
        return {}, set()
    try:
        raw = json.loads(path.read_bytes())
        made = msgspec.convert(raw["loops"], list[Made])
        listed = {name for name in msgspec.convert(raw["written"], list[str]) if _is_inside(name)}
    except (ValueError, KeyError, TypeError, OSError) as error:
        raise CloudriftError(
            f"{path} does not say what is in the folder; choose an empty one"
        ) from error
    listed |= {name for one in made for name, _size in one.files if _is_inside(name)}
    same = raw.get("order") == how.mark
    return ({one.file: one for one in made} if same else {}), listed


def _is_inside(name: str) -> bool:
    """Whether a name leads to something in the folder it is said of."""
    path = Path(name)
    return not path.is_absolute() and ".." not in path.parts


def is_there(out: Path, path: Path, had: Made) -> bool:
    """Whether a loop is as it was, and all that was written of it is there."""
    if had.looked.problem or content_of(path) != had.content:
        return False
    names = [*had.files, (had.preview, 0)]
    return all(
        (out / name).is_file() and size in (0, (out / name).stat().st_size) for name, size in names
    )


def remember(out: Path, how: KitOrder, found: dict[str, Made], written: Sequence[str]) -> None:
    """Write down what of a kit is there already."""
    rows = [msgspec.to_builtins(found[name]) for name in sorted(found)]
    body = json.dumps(
        {"format": "cloudrift kit", "order": how.mark, "loops": rows, "written": list(written)},
        indent=1,
    )
    write_atomically(out / DONE, lambda file: file.write(body.encode()), follow_link=False)


def numbers_of(kit: Kit, how: KitOrder) -> dict[str, int]:
    """The number of each loop, so that no two have files of one name."""
    claimed: set[str] = set()
    numbers = {}
    for path in kit.files:
        numbers[path.name] = 1
        try:
            document = with_demo(load_document(path), how)
        except CloudriftError:
            continue  # it is told of when it is made
        for number in itertools.count(1):
            names = {one.name for order in orders_of(how)
                     for one in parcels(document, order, number)}  # fmt: skip
            if not names & claimed:
                break
        numbers[path.name] = number
        claimed |= names
    return numbers


def with_demo(document: Document, how: KitOrder) -> Document:
    """Return a document with an order for its demo file, where one is wanted and none is there."""
    if not how.demo or document.demo.parts or not document.loop.heard():
        return document
    return msgspec.structs.replace(document, demo=suggest_demo(document.loop, 1))


def orders_of(how: KitOrder) -> list[Order]:
    """Return an order for each format; what is no sound is in the first alone."""
    silent = ("midi", "heard midi", "layer midi", "rights")
    parts = tuple(dict.fromkeys((*how.order.parts, *(("demo",) if how.demo else ()))))
    out = []
    for at, name in enumerate(how.formats):
        kept = tuple(one for one in parts if one != "sounds" and (at == 0 or one not in silent))
        bits = min(how.order.bits, 24) if name == "flac" else how.order.bits
        if kept:
            out.append(dataclasses.replace(how.order, parts=kept, format_name=name, bits=bits))
    return out
