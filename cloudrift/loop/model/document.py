"""The document: all that one file holds: a loop, and the prints that were made of it.

A history moves from document to document, a file is one, and what is drawn, heard and written is
always a loop of it: ``arranging.section_loop`` says which.
"""

from typing import Any, Union

import msgspec
from msgspec.structs import replace

from cloudrift.audio.clips import is_clip_name
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import named
from cloudrift.loop.model import spec
from cloudrift.loop.model.checks import unique, within
from cloudrift.loop.model.credits import Credits
from cloudrift.loop.model.demo_file import DemoFile
from cloudrift.loop.model.layer import louder
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.newer import Newer
from cloudrift.loop.model.recorded import MOST_GAIN_DB
from cloudrift.loop.model.sections import Arrangement

MOST_PASSES = 32


class Pass(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Once round the loop, with some of its layers or groups left out."""

    name: str
    out: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        named(self, "a pass")


def in_pass(loop: Loop, one: Pass) -> Loop:
    """Return the loop as it sounds in a pass: what is out of it is off."""
    layers = tuple(replace(x, mute=True) if x.id in one.out else x for x in loop.layers)
    groups = tuple(replace(x, mute=True) if x.id in one.out else x for x in loop.groups)
    return replace(loop, layers=layers, groups=groups)


class PrintedPart(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What a layer or a group does in a print, where that is not what it does in its loop.

    ``level_db`` is added to its level; ``bypassed`` are treatments of its line that do nothing.
    With an empty ``id`` it is the whole loop, which has a line and no level.
    """

    id: str
    on: bool = True
    level_db: float = 0.0
    bypassed: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        reach = spec.MAX_LEVEL_DB - spec.MIN_LEVEL_DB
        within(f"{self.id} in a print: level", self.level_db, -reach, reach, " dB")
        within("number of bypassed treatments", len(self.bypassed), 0, spec.MAX_TREATMENTS)

    @property
    def plain(self) -> bool:
        """Whether it says nothing."""
        return self.on and not self.level_db and not self.bypassed


def in_parts(loop: Loop, parts: tuple[PrintedPart, ...]) -> Loop:
    """Return a loop as it was printed: with layers left out, turned up or down, or less treated.

    What a part names and the loop has not got is passed by.
    """
    owners = {x.id for x in loop.layers} | {x.id for x in loop.groups}
    for part in parts:
        at = part.id or None
        if part.plain or (at is not None and at not in owners):
            continue
        before = loop.line_of(at)
        line = tuple(replace(x, on=x.on and x.id not in part.bypassed) for x in before)
        owner = loop.owner(at)
        changes: dict[str, Any] = {"line": line}
        if not isinstance(owner, Loop):
            changes |= louder(owner, part.level_db) | {"mute": owner.mute or not part.on}
        loop = loop.with_owner(at, **changes)
    return loop


class Recipe(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What a print was made from: a loop by its content, and which of its layers (none: all).

    It goes round in ``passes``, one after another; none: once, with all of them. ``bare``: without
    any treatment, also when it is printed again. ``parts`` say in what the print differs from its
    loop.
    """

    loop: str
    layers: tuple[str, ...] = ()
    passes: tuple[Pass, ...] = ()
    bare: bool = False
    parts: tuple[PrintedPart, ...] = ()

    def __post_init__(self) -> None:
        unique("parts of a print", (one.id for one in self.parts))
        within("number of passes of a print", len(self.passes), 0, MOST_PASSES)

    def part(self, owner: str) -> PrintedPart:
        """Return what a layer, a group or the whole loop ("") does in the print."""
        return next((one for one in self.parts if one.id == owner), PrintedPart(id=owner))


class Print(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Sound that was made of a loop: its clip, and its recipe.

    ``gain_db`` brings it back to how loud it was, where it was kept softer.
    """

    id: str
    name: str
    clip: str
    recipe: Recipe
    gain_db: float = 0.0

    def __post_init__(self) -> None:
        named(self, "a print")
        if not is_clip_name(self.clip):
            raise CloudriftError(f"print {self.id}: {self.clip[:60]!r} does not name a recording")
        within(f"print {self.id}: gain", self.gain_db, 0, MOST_GAIN_DB, " dB")


class RecipeLoop(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A loop that prints were made from, by its content; kept once for all of them."""

    content: str
    loop: Loop


class Document(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A loop, its prints, the loops that those were made from, how it is arranged, who made it, its
    demo file, and what a newer program has written beside them (``newer``; see ``loop.newer``).
    """

    loop: Loop
    prints: tuple[Print, ...] = ()
    recipes: tuple[RecipeLoop, ...] = ()
    arrangement: Arrangement = Arrangement()
    credits: Credits = Credits()
    demo: DemoFile = DemoFile()
    newer: Newer | None = None

    def __post_init__(self) -> None:
        unique("prints", (one.id for one in self.prints))
        there = {one.content for one in self.recipes}
        for one in self.prints:
            if one.recipe.loop not in there:
                raise CloudriftError(f"print {one.id}: its source loop is missing")

    @classmethod
    def of(cls, what: Union[Loop, "Document"]) -> "Document":
        """Return a document as it is, or one of a loop alone."""
        return what if isinstance(what, Document) else cls(loop=what)

    def source_of(self, one: Print) -> Loop:
        """Return the loop that a print was made from, as it is written."""
        return next(x.loop for x in self.recipes if x.content == one.recipe.loop)

    def printed(self, one: Print) -> Loop:
        """Return the loop that sounds in a print: its source, in what the print differs from it."""
        return in_parts(self.source_of(one), one.recipe.parts)

    def with_loop(self, loop: Loop) -> "Document":
        """Return the document with another loop; itself if it is the same one."""
        return self if loop is self.loop else replace(self, loop=loop)


WHOLE = ""  # the section that a document without sections consists of
