"""The document: all that one file holds. Today that is a loop; prints and sections stand beside it.

A history moves from document to document, a file is one, and what is drawn, heard and written is
always a loop of it: ``section_loop`` says which.
"""

from typing import Union

import msgspec
from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.model import Loop
from cloudrift.loop.newer import Newer


class Document(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A loop, and what a newer program has written beside it (``newer``; see ``loop.newer``)."""

    loop: Loop
    newer: Newer | None = None

    @classmethod
    def of(cls, what: Union[Loop, "Document"]) -> "Document":
        """Return a document as it is, or one of a loop alone."""
        return what if isinstance(what, Document) else cls(loop=what)

    def with_loop(self, loop: Loop) -> "Document":
        """Return the document with another loop; itself if it is the same one."""
        return self if loop is self.loop else replace(self, loop=loop)


WHOLE = ""  # the section that a document without sections consists of


def section_loop(document: Document, section: str = WHOLE) -> Loop:
    """Return the loop that a section is; raise CloudriftError for one that is not there."""
    if section != WHOLE:
        raise CloudriftError(f"there is no section {section!r}")
    return document.loop
