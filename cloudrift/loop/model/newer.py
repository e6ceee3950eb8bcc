"""What a newer program has written into a file and this one does not know: kept, and written back.

A file is taken apart by the types of the document: fields that they have not are set aside with
their places, and put back where the same part is still there when the document is written. Parts
with an id (layers, chords, treatments, …) are known by it, so that they may move meanwhile.
"""

from typing import Any

import msgspec
from msgspec import inspect

from cloudrift.ground.errors import CloudriftError

MOST = 10_000  # fields: more than any newer program has reason to add


class UnknownFields(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A field that is not known here: where it stands, its name, and its value as JSON.

    ``at`` leads from the document down: names of fields, ``=id`` or ``#number`` of items.
    """

    at: tuple[str, ...]
    name: str
    value: str


class Newer(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """All that is set aside of a file, and the schema that it was written with.

    ``clips`` are recordings that it carries for what is set aside.
    """

    schema: int
    fields: tuple[UnknownFields, ...] = ()
    clips: tuple[str, ...] = ()


def taken_apart(raw: Any, kind: type) -> tuple[Any, tuple[UnknownFields, ...]]:
    """Return JSON without what a type does not know, and what that is.

    What does not fit the type otherwise stays, for whoever reads it to refuse in words.
    """
    aside: list[UnknownFields] = []
    kept = _apart(raw, inspect.type_info(kind), (), aside)
    return kept, tuple(aside)


def _apart(raw: Any, kind: inspect.Type, at: tuple[str, ...], aside: list[UnknownFields]) -> Any:
    if isinstance(raw, dict):
        return _apart_struct(raw, kind, at, aside)
    if isinstance(raw, list):
        item = _item_of(kind)
        if item is None:
            return raw
        return [_apart(one, item, (*at, _step(one, i)), aside) for i, one in enumerate(raw)]
    return raw


def _apart_struct(
    raw: dict[str, Any], kind: inspect.Type, at: tuple[str, ...], aside: list[UnknownFields]
) -> dict[str, Any]:
    struct = _struct_of(kind, raw)
    if struct is None:
        return raw
    fields = {one.encode_name: one.type for one in struct.fields}
    kept = {}
    for name, value in raw.items():
        if name in fields:
            kept[name] = _apart(value, fields[name], (*at, name), aside)
        elif name == struct.tag_field:
            kept[name] = value
        else:
            if len(aside) == MOST:
                raise CloudriftError(f"it has more than {MOST} unknown fields")
            aside.append(UnknownFields(at=at, name=name, value=msgspec.json.encode(value).decode()))
    return kept


def _item_of(kind: inspect.Type) -> inspect.Type | None:
    """What a list holds, where all its items are of one type."""
    options = kind.types if isinstance(kind, inspect.UnionType) else (kind,)
    return next((o.item_type for o in options if isinstance(o, inspect.VarTupleType)), None)


def _struct_of(kind: inspect.Type, raw: dict[str, Any]) -> inspect.StructType | None:
    """The struct that an object is to be, by its tag where several could be."""
    options = kind.types if isinstance(kind, inspect.UnionType) else (kind,)
    structs = [one for one in options if isinstance(one, inspect.StructType)]
    tagged = [s for s in structs if s.tag_field is None or raw.get(s.tag_field) == s.tag]
    return next(iter(tagged), None)


def _step(item: Any, number: int) -> str:
    named = isinstance(item, dict) and isinstance(item.get("id"), str)
    return f"={item['id']}" if named else f"#{number}"


def put_back(raw: dict[str, Any], fields: tuple[UnknownFields, ...]) -> None:
    """Put what was set aside into JSON again; what has lost its place is let go."""
    for one in fields:
        there = _reached(raw, one.at)
        if isinstance(there, dict):
            there.setdefault(one.name, msgspec.json.decode(one.value))


def _reached(raw: Any, at: tuple[str, ...]) -> Any:
    for step in at:
        if isinstance(raw, dict):
            raw = raw.get(step)
        elif isinstance(raw, list):
            steps = {_step(item, i): item for i, item in enumerate(raw)}
            raw = steps.get(step)
        else:
            return None
    return raw
