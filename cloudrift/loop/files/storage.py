"""Loop files: a zip with ``loop.json`` in it, saved whole or not at all.

``loop.json`` is ``{"format": "cloudrift loop", "schema": 8, "loop": {…}}``; the loop's fields are
those of ``model.Loop``, documented in ``docs/loop-file.md``. A newer file says by ``needs`` which
schema must be known to read it: what else is in it is kept (``loop.newer``).
"""

import io
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import IO, Any

import msgspec
from msgspec.structs import replace

from cloudrift.audio.clips import ClipStore
from cloudrift.audio.files import PRIVATE, write_atomically
from cloudrift.ground.earlier_names import todays_names
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.reading import check_parts, in_bounds, read_archive, reading
from cloudrift.loop.edits.flip.prints import with_guessed_bare
from cloudrift.loop.files.early_designs import with_todays_designs
from cloudrift.loop.model.credits import Credits
from cloudrift.loop.model.demo_file import DemoFile
from cloudrift.loop.model.document import Document, Print, RecipeLoop
from cloudrift.loop.model.loop import Chord, Group, Layer, Loop
from cloudrift.loop.model.newer import Newer, put_back, taken_apart
from cloudrift.loop.model.sections import Arrangement
from cloudrift.loop.sounding.known import with_scores
from cloudrift.sound.own_files import MAX_BYTES, check_clips, is_clip, write_clips
from cloudrift.texture.treatment import Treatment
from cloudrift.theory.key import Key

FORMAT = "cloudrift loop"
SCHEMA = 16
BARE_SINCE = 13  # the schema that says whether a print is bare
SUFFIX = ".cloudrift"
MEMBER = "loop.json"
ORIGIN = "origin.txt"  # beside it, in what a crash left: where the loop is from
BESIDE: dict[str, type[Any]] = {  # of a document
    "arrangement": Arrangement,
    "credits": Credits,
    "demo": DemoFile,
}
MAX_JSON_BYTES, MAX_NOTE_BYTES = 32 << 20, 1 << 16
MOST_TO_LOOK_AT = 4 << 20  # bytes of a loop of which every fault is looked for, rather than one
MOST_PROBLEMS = 5


def _to_6(document: dict[str, Any]) -> dict[str, Any]:
    """Hearing a layer alone is a matter of listening; eight voices at the top meant one of them."""
    loop = document.get("loop")
    layers = loop.get("layers") if isinstance(loop, dict) else None
    for layer in layers if isinstance(layers, list) else ():
        if isinstance(layer, dict):
            layer.pop("solo", None)
            lens = layer.get("lens")
            if isinstance(lens, dict) and lens.get("kind") == "top" and lens.get("voices") == 8:
                lens["voices"] = 0
    return document


def _to_7(document: dict[str, Any]) -> dict[str, Any]:
    """What a layer comes from stands in one place: chords through a lens, or notes of its own."""
    loop = document.get("loop")
    layers = loop.get("layers") if isinstance(loop, dict) else None
    for layer in layers if isinstance(layers, list) else ():
        if isinstance(layer, dict):
            own = layer.pop("own", None)
            names = [name for name in ("sound", "other", "lens", "touch") if name in layer]
            source = {name: layer.pop(name) for name in names}
            kind = {"kind": "chords"} if own is None else {"kind": "notes", "notes": own}
            layer["source"] = kind | source
    return document


# From a schema to the next: how an older document becomes one of the next schema.
MIGRATIONS: dict[int, Callable[[dict[str, Any]], dict[str, Any]]] = {
    # Schema 2 gave chords a rhythm and a touch of their own; what they lack has its default.
    1: lambda document: document,
    # Schema 3 lets a layer carry an own sound; none did before.
    2: lambda document: document,
    # Schema 4 lets layers have notes of their own, a second sound and groups; none had before.
    3: lambda document: document,
    # Schema 5 gives treatments a version, rides and a note, and layers a level that rides.
    4: lambda document: document,
    # Schema 6 gives lines a blend and groups a level; what is heard alone is no longer written.
    5: _to_6,
    # Schema 7 names what a layer comes from, for it to be other than a sound that is played.
    6: _to_7,
    # Schema 8 lets a layer come from a recording; none did before.
    7: lambda document: document,
    # Schema 9 gives recordings of own sounds their keys and velocities (before, the nearest
    # played), layers that are flips, and prints beside the loop; none were before.
    8: lambda document: document,
    # Schema 10 gives prints passes, and flips labels and a length of their own; none had before.
    9: lambda document: document,
    # Schema 11 gives a loop a groove bed and sections, and notes a pan; none had before.
    10: lambda document: document,
    # Schema 12 says who made a loop, where own notes are from, and what its demo file is of.
    11: lambda document: document,
    # Schema 13 says where the chords are from, and of a print whether it was to be bare.
    12: lambda document: document,
    # Schema 14 calls treatments and lenses what the trade calls them.
    13: todays_names,
    # Schema 15 lets a recording carry the notes that are known of it; see ``with_scores``.
    14: lambda document: document,
    # Schema 16 lets sections have a tempo of their own, and prints leave out parts of their loop.
    15: lambda document: document,
}


def clips_of(document: Document) -> set[str]:
    """Return the names of the clips that a document is made of, or keeps for a newer program."""
    loops = (document.loop, *(one.loop for one in document.recipes))
    own = {
        one.clip
        for loop in loops
        for layer in (*loop.layers, *loop.lanes)
        for one in layer.source.recordings
    }
    own |= {one.clip for one in document.prints}
    own |= {clip for one in document.arrangement.takes for clip in one.clips}
    return own | set(document.newer.clips if document.newer else ())


def to_bytes(what: Loop | Document, clips: ClipStore | None = None) -> bytes:
    """Return a document as the bytes of its file; ``clips`` as in ``save``."""
    out = io.BytesIO()
    _write(out, Document.of(what), ClipStore() if clips is None else clips, {})
    return out.getvalue()


def _write(
    out: io.BufferedIOBase, document: Document, clips: ClipStore | None, notes: dict[str, str]
) -> None:
    text = msgspec.json.format(msgspec.json.encode(_written(document)), indent=1)
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        members = {MEMBER: text} | {name: note.encode() for name, note in notes.items()}
        for name, body in members.items():
            # A fixed date: the same loop is the same file.
            archive.writestr(zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0)), body)
        if clips is not None:
            write_clips(archive, clips_of(document), clips, document.loop.title)


def _written(document: Document) -> dict[str, Any]:
    head: dict[str, Any] = {"format": FORMAT, "schema": SCHEMA}
    newer = document.newer
    if newer is None:
        head["loop"] = document.loop
        if document.prints:
            head |= {"prints": document.prints, "recipes": document.recipes}
        return head | _beside(document)
    # As it was: a newer program finds its own again, and one like this knows that it may read it.
    head |= {"schema": newer.schema, "needs": SCHEMA}
    known = msgspec.json.decode(msgspec.json.encode(document))
    beside = ("loop", "prints", "recipes", *_beside(document))
    head |= {name: known[name] for name in beside if known.get(name)}
    put_back(head, newer.fields)
    return head


def _beside(document: Document) -> dict[str, Any]:
    """What stands beside the loop and is otherwise than where nobody has touched it."""
    found = {name: getattr(document, name) for name in BESIDE}
    return {name: one for name, one in found.items() if one != BESIDE[name]()}


def with_suffix(path: Path) -> Path:
    """Return a path that ends as loop files do."""
    return path if path.suffix == SUFFIX else path.with_name(path.name + SUFFIX)


def save(what: Loop | Document, path: Path, clips: ClipStore | None = None) -> None:
    """Write a loop file so that the old one or the new one is there, whole, at any moment.

    ``clips`` has the recordings that its sounds name; a loop that names none needs no store.
    """
    document, store = Document.of(what), ClipStore() if clips is None else clips
    write_atomically(path, lambda file: _write(file, document, store, {}))


def save_apart(document: Document, path: Path, notes: dict[str, str]) -> None:
    """Write a loop file that names its recordings and has none: they lie elsewhere.

    ``notes`` are small extra text members. The file is for nobody else to read.
    """
    write_atomically(path, lambda file: _write(file, document, None, notes), new_mode=PRIVATE)


def signature(path: Path | None) -> tuple[int, ...] | None:
    """Return what tells whether a file is still the one that was seen; None if it is not there."""
    if path is None:
        return None
    try:
        seen = path.stat()
    except OSError:
        return None
    return seen.st_dev, seen.st_ino, seen.st_size, seen.st_mtime_ns


def load_document(
    path: Path,
    clips: ClipStore | None = None,
    beside: Path | None = None,
    renewed: Callable[[tuple[str, ...]], object] = lambda _names: None,
) -> Document:
    """Read a loop file, and its recordings into a store; without one they are not looked at.

    ``beside`` is the folder where they lie if the file only names them. ``renewed`` hears which
    layers play today's design of a sound in place of the early one that the file names. Raises
    CloudriftError that names the place of everything wrong in it.
    """
    text, carried = _opened(path, clips)
    if clips is not None and beside is not None:
        carried |= clips.add_all(beside)
    document = document_from(text, str(path), renewed)
    if clips is not None:
        loops = {"loop": document.loop}
        loops |= {f"recipes[{i}].loop": one.loop for i, one in enumerate(document.recipes)}
        for name, loop in loops.items():
            for part, owners in (("layers", loop.layers), ("bed.lanes", loop.lanes)):
                for at, layer in enumerate(owners):
                    where = f"{path}: {name}.{part}[{at}], {layer.name}"
                    check_clips(layer.source.recordings, clips, where)
        check_clips(document.prints, clips, f"{path}: prints")
        for take in document.arrangement.takes:
            for clip in take.clips:
                clips.file(clip)
        if document.newer is not None:
            strange = tuple(sorted(carried - clips_of(document)))
            document = replace(document, newer=replace(document.newer, clips=strange))
    return document


def load(path: Path, clips: ClipStore | None = None) -> Loop:
    """Read a loop file for its loop alone; ``clips`` as in ``load_document``."""
    return load_document(path, clips).loop


def read_note(path: Path, name: str) -> str:
    """Return an extra text member of a loop file, empty if it is not there or cannot be read."""
    try:
        return _members(path, only=name).get(name, b"").decode(errors="replace")
    except CloudriftError:
        return ""


def _is_member(name: str) -> bool:
    return name in (MEMBER, ORIGIN) or is_clip(name)


def _members(
    path: Path, only: str = "", large: Callable[[IO[bytes]], object] | None = None
) -> dict[str, bytes]:
    limits = {MEMBER: MAX_JSON_BYTES, ORIGIN: MAX_NOTE_BYTES}
    return read_archive(path, "loop file", _is_member, limits, MAX_BYTES, only=only, large=large)


def _opened(path: Path, clips: ClipStore | None) -> tuple[bytes, set[str]]:
    """Return a file's ``loop.json`` and the clips it carries, which are now in the store."""
    carried: set[str] = set()

    def keep(clip: IO[bytes]) -> None:
        assert clips is not None
        try:
            carried.add(clips.add(clip))
        except CloudriftError as error:
            raise CloudriftError(f"{path}: {error}; it was not opened") from error

    members = _members(path, large=keep) if clips is not None else _members(path, only=MEMBER)
    if MEMBER not in members:
        raise CloudriftError(
            f"{path} is not a complete loop file (there is no {MEMBER} in it); open another copy; "
            "the file was not changed"
        )
    return members[MEMBER], carried


def document_from(
    text: bytes, where: str, renewed: Callable[[tuple[str, ...]], object] = lambda _names: None
) -> Document:
    """Read ``loop.json``; ``where`` names the file in errors. ``renewed``: see load_document."""
    with reading(where, "loop file"):
        document, names = with_todays_designs(_document_from(text, where))
    if names:
        renewed(names)
    return document


def loop_from(text: bytes, where: str) -> Loop:
    """Read ``loop.json`` for its loop alone."""
    return document_from(text, where).loop


class _Head(msgspec.Struct):
    """What stands around a loop; the loop itself is read when it is known to be one."""

    format: str = ""
    schema: int = 0
    needs: int = SCHEMA + 1  # what a newer file must say is less
    loop: msgspec.Raw = msgspec.Raw(b"null")
    prints: msgspec.Raw = msgspec.Raw(b"[]")
    recipes: msgspec.Raw = msgspec.Raw(b"[]")
    arrangement: msgspec.Raw = msgspec.Raw(b"{}")
    credits: msgspec.Raw = msgspec.Raw(b"{}")
    demo: msgspec.Raw = msgspec.Raw(b"{}")

    @property
    def beside(self) -> dict[str, bytes]:
        """What stands beside the loop and its prints, as written."""
        return {name: getattr(self, name) for name in BESIDE}


def _document_from(text: bytes, where: str) -> Document:
    check_parts(text, where)
    try:
        head = msgspec.json.decode(text, type=_Head)
    except msgspec.ValidationError as error:
        raise CloudriftError(f"{where}: {MEMBER} is not a loop: {error}") from error
    except msgspec.DecodeError as error:
        raise CloudriftError(f"{where}: {MEMBER} is not JSON: {error}") from error
    if head.format != FORMAT:
        raise CloudriftError(f'{where}: {MEMBER} does not say "format": "{FORMAT}"')
    if head.schema > SCHEMA >= head.needs:
        return _newer_from(text, head.schema, where)
    if head.schema > SCHEMA:
        raise CloudriftError(
            f"{where} has schema {head.schema}, newer than this program's {SCHEMA}; open it with a "
            "newer one"
        )
    if head.schema < 1:
        raise CloudriftError(
            f"{where} has schema {head.schema}, which does not exist; schemas count from 1"
        )
    if head.schema == SCHEMA:
        try:
            loop = in_bounds(msgspec.json.decode(head.loop, type=Loop), where)
        except msgspec.ValidationError as error:
            if len(head.loop) > MOST_TO_LOOK_AT:
                raise CloudriftError(f"{where}: {_placed(str(error), 'loop')}") from error
        else:
            document = _with_prints(loop, head.prints, head.recipes, where)
            return _with_beside(document, head.beside, where)
    return _earlier(head, where)


def _earlier(head: _Head, where: str) -> Document:
    """Read what an earlier program has written: its loop, and those that prints were made from."""
    loop = _brought_up(msgspec.json.decode(head.loop), head.schema, where)
    if not isinstance(loop, dict):
        raise CloudriftError(f"{where}: {MEMBER} has no loop in it")
    recipes = msgspec.json.decode(head.recipes)
    for one in recipes if isinstance(recipes, list) else ():
        if isinstance(one, dict) and "loop" in one:
            one["loop"] = _brought_up(one["loop"], head.schema, where)
    document = _with_prints(_loop_of(loop, where), head.prints, msgspec.json.encode(recipes), where)
    beside = {name: msgspec.json.encode(todays_names(msgspec.json.decode(raw)))
              for name, raw in head.beside.items()}  # fmt: skip
    document = _with_beside(document, beside, where)
    document = with_guessed_bare(document) if head.schema < BARE_SINCE else document
    return with_scores(document)


def _brought_up(loop: object, schema: int, where: str) -> object:
    """Return a loop as it was written in an earlier schema, as it would be written now."""
    document = {"loop": in_bounds(loop, where)}
    for step in range(schema, SCHEMA):
        document = MIGRATIONS[step](document)
    return document["loop"]


def _newer_from(text: bytes, schema: int, where: str) -> Document:
    """Read what a newer program has written so that this one may: what is not known is kept."""
    raw = in_bounds(msgspec.json.decode(text), where)
    for name in ("format", "schema", "needs"):
        raw.pop(name)
    known, aside = taken_apart(raw, Document)
    loop = known.get("loop")
    if not isinstance(loop, dict):
        raise CloudriftError(f"{where}: {MEMBER} has no loop in it")
    prints, recipes = (msgspec.json.encode(known.get(x, [])) for x in ("prints", "recipes"))
    document = _with_prints(_loop_of(loop, where), prints, recipes, where)
    beside = {name: msgspec.json.encode(known.get(name, {})) for name in BESIDE}
    document = _with_beside(document, beside, where)
    return replace(document, newer=Newer(schema=schema, fields=aside))


def _with_beside(document: Document, beside: dict[str, bytes], where: str) -> Document:
    """Return a document with its sections and who made it, as they were written."""
    for name, text in beside.items():
        try:
            made = in_bounds(msgspec.json.decode(text, type=BESIDE[name]), where)
        except msgspec.ValidationError as error:
            raise CloudriftError(f"{where}: {_placed(str(error), name)}") from error
        document = replace(document, **{name: made})
    return document


def _with_prints(loop: Loop, prints: bytes, recipes: bytes, where: str) -> Document:
    """Return a document with the prints that stand beside its loop, as they were written."""
    try:
        return Document(
            loop=loop,
            prints=msgspec.json.decode(prints, type=tuple[Print, ...]),
            recipes=in_bounds(msgspec.json.decode(recipes, type=tuple[RecipeLoop, ...]), where),
        )
    except msgspec.ValidationError as error:
        raise CloudriftError(f"{where}: its prints: {error}") from error


def _loop_of(raw: dict[str, Any], where: str) -> Loop:
    try:
        return msgspec.convert(raw, Loop)
    except msgspec.ValidationError as error:
        problems = _all_problems(raw) or [str(error)]
        raise CloudriftError(f"{where}: " + "; ".join(problems)) from error


def _all_problems(raw: dict[str, Any]) -> list[str]:
    """Look at the parts one by one, so that the bad ones are named at once."""
    parts: list[tuple[str, Any, Any]] = [("loop.key", raw.get("key"), Key)]
    kinds = (("chords", Chord), ("layers", Layer), ("groups", Group), ("line", Treatment))
    for name, kind in kinds:
        items = raw.get(name, [])
        if isinstance(items, list):
            parts += [(f"loop.{name}[{i}]", item, kind) for i, item in enumerate(items)]
    problems = []
    for place, value, kind in parts:
        try:
            msgspec.convert(value, kind)
        except msgspec.ValidationError as error:
            problems.append(_placed(str(error), place))
            if len(problems) == MOST_PROBLEMS:
                break
    if not problems:
        try:
            msgspec.convert(raw, Loop)
        except msgspec.ValidationError as error:
            problems.append(_placed(str(error), "loop"))
    return problems


def _placed(said: str, place: str) -> str:
    """Put the place first: it is what one looks for."""
    what, _, inside = said.partition(" - at `$")
    return f"{place}{inside.rstrip('`')}: {what}"
